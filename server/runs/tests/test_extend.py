"""A run goes on from another: the same as if it had been run whole, computing only what is new."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from unittest.mock import patch

import zstandard

from config.tests.demo import EXAMPLES, DemoTestCase
from market.models import SessionChainRow
from runs import services, work
from runs.models import Carried, Run
from strategies import services as strategies
from strell_core.formats.strategies import from_text


class ExtendTest(DemoTestCase):
    def ran(self, end: dt.date, **more) -> Run:
        strategy = more.pop("strategy", self.strategy)
        run = services.ask(self.mara, strategy.pk, self.history().dates[0], end, Decimal(50_000), "blocks", **more)
        return self.carried_out(run)

    def carried_out(self, run: Run) -> Run:
        work.carry_out(run.pk)
        run.refresh_from_db()
        self.assertEqual(run.status, Run.Status.DONE, run.message)
        return run

    def begins(self, run: Run) -> tuple[Run, list[int]]:
        """The run carried out, and the snapshots from which on the engine was asked."""
        seen = []

        def asked(*args, **kwargs):
            seen.append(args[2])
            return run_blocks(*args, **kwargs)

        run_blocks = work.run_blocks
        with patch.object(work, "run_blocks", asked):
            return self.carried_out(run), seen

    def same(self, one: Run, other: Run) -> None:
        for name in ("figures", "intervals", "curve", "decisions", "evidence", "open_trades"):
            self.assertEqual(getattr(one, name), getattr(other, name), name)
        rows = [[(t.number, t.row, t.trade, bytes(t.kept)) for t in run.trades.all()] for run in (one, other)]
        self.assertEqual(rows[0], rows[1])

    def test_it_is_the_run_over_all_of_it_and_computes_only_what_is_new(self) -> None:
        history = self.history()
        whole = self.ran(history.dates[-1])
        for cut in (-30, -7, -2):
            first = self.ran(history.dates[cut])
            status, asked = self.send("post", f"/runs/{first.pk}/extend", {})
            self.assertEqual((status, asked["extended"]), (200, [history.dates[cut].isoformat()]))
            extended, begins = self.begins(Run.objects.get(pk=asked["id"]))
            self.assertEqual(begins, [history.span(first.start, first.end)[1]])
            self.same(extended, whole)
            self.assertEqual((extended.end, extended.message), (whole.end, ""))
            first.refresh_from_db()
            self.assertEqual(first.figures["sessions"], len(history.dates) + cut + 1, "the other stays as it is")

    def test_every_strategy_of_the_demo_goes_on(self) -> None:
        """Adjusted, several expirations, several entries: their states and records survive being kept."""
        history = self.history()
        for name in ("tide-condor", "skerry-butterfly", "quay-calendar", "mole-straddle"):
            strategy = strategies.create(
                self.mara, strategies.checked(from_text((EXAMPLES / f"{name}.yaml").read_text()))
            )
            if strategy.underlying.symbol != "MK30":
                continue
            whole, first = (
                self.ran(history.dates[-1], strategy=strategy),
                self.ran(history.dates[-12], strategy=strategy),
            )
            self.same(self.carried_out(services.extend(self.mara, first.pk)), whole)

    def test_a_chain_of_three(self) -> None:
        dates = self.history().dates
        first = self.ran(dates[40])
        with patch.object(services, "timeline") as known:
            known.return_value.dates = dates[:60]
            known.return_value.underlying.on.return_value.currency = "EUR"
            known.return_value.span.return_value = (0, 1)
            second = services.extend(self.mara, first.pk)
        third = services.extend(self.mara, self.carried_out(second).pk)
        self.assertEqual(third.extended, [dates[40].isoformat(), dates[59].isoformat()])
        self.same(self.carried_out(third), self.ran(dates[-1]))

    def test_where_something_it_rests_on_has_changed_all_is_computed_anew_and_said(self) -> None:
        history = self.history()
        first, whole = self.ran(history.dates[-20]), self.ran(history.dates[-1])

        def broken() -> None:
            data = zstandard.ZstdCompressor().compress(b'{"version": 0}')
            Carried.objects.filter(run=first).update(history=data)

        def corrected() -> None:
            row = SessionChainRow.objects.filter(underlying__symbol="MK30", current=True, date=history.dates[3])
            row.update(digest="another")

        for change in (broken, corrected, lambda: Carried.objects.filter(run=first).delete()):
            change()
            extended, begins = self.begins(services.extend(self.mara, first.pk))
            self.assertEqual(begins, [0])
            self.assertIn(f"What run {first.number} rests on has changed", extended.message)
            self.same(extended, whole)

    def test_what_cannot_go_on(self) -> None:
        history = self.history()
        run = self.ran(history.dates[-1])
        self.assertIn("is recorded yet", self.send("post", f"/runs/{run.pk}/extend", {})[1]["message"])
        run = self.ran(history.dates[-5])
        self.assertEqual(self.send("post", f"/runs/{run.pk}/extend", {}, client=self.other)[0], 404)
        Run.objects.filter(pk=run.pk).update(figures={**run.figures, "ruined_on": "2026-09-01"})
        self.assertIn("all was lost", self.send("post", f"/runs/{run.pk}/extend", {})[1]["message"])
        Run.objects.filter(pk=run.pk).update(status=Run.Status.CANCELLED)
        self.assertEqual(self.send("post", f"/runs/{run.pk}/extend", {})[0], 409)

    def test_when_the_other_is_gone_it_stands_by_itself(self) -> None:
        first = self.ran(self.history().dates[-20])
        asked = services.extend(self.mara, first.pk)
        first.delete()
        self.same(self.carried_out(asked), self.ran(self.history().dates[-1]))

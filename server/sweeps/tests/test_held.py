"""Sessions held back from backtests and sweeps, and looks at them."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal

from config.errors import Conflict
from runs import services as runs
from runs import work
from runs.models import Run
from sweeps.tests.test_sweeps import TARGET, SweepTestCase

SINCE = dt.date(2026, 10, 20)


class HeldBackTest(SweepTestCase):
    def hold(self, since: dt.date | str | None, **more) -> tuple[int, dict]:
        body = {"since": since.isoformat() if isinstance(since, dt.date) else since}
        return self.send("put", f"/strategies/{self.strategy.pk}/held-back", body, **more)

    def run_to(self, end: str, **more) -> tuple[int, dict]:
        return self.send("post", f"/strategies/{self.strategy.pk}/runs", {"start": "2026-07-01", "end": end, **more})

    def test_a_look_is_asked_for_counted_and_told_apart(self) -> None:
        self.assertEqual(self.hold(SINCE), (200, {"held_from": "2026-10-20", "looks": 0}))
        status, answer = self.run_to("2026-11-18")
        self.assertEqual((status, answer["problems"][0]["path"]), (422, "end"))
        self.assertIn("held back", answer["message"])
        self.assertEqual(self.run_to("2026-10-19")[0], 200)
        for number in (1, 2):
            status, asked = self.run_to("2026-11-18", look=True)
            self.assertEqual(status, 200)
            work.carry_out(asked["id"])
            held = self.send("get", f"/runs/{asked['id']}")[1]["held"]
            self.assertEqual((held["since"], held["look"]), ("2026-10-20", number))
        found = self.send("get", f"/strategies/{self.strategy.pk}")[1]
        self.assertEqual((found["held_from"], found["looks"]), ("2026-10-20", 2))
        run = Run.objects.get(pk=asked["id"])
        sessions = [dt.date.fromisoformat(date) for date in run.curve["dates"]]
        self.assertEqual(held["before"]["sessions"], sum(date < SINCE for date in sessions))
        self.assertEqual(held["before"]["trades"] + held["after"]["trades"], run.figures["trades_count"])
        both = (
            held["before"]["expectancy"] * held["before"]["trades"]
            + held["after"]["expectancy"] * held["after"]["trades"]
        )
        self.assertEqual(
            round(both / run.figures["trades_count"], 2), run.figures["trades_expectancy"], "in whole cents"
        )

    def test_a_sweep_never_looks(self) -> None:
        self.hold(SINCE)
        body = self.body(([TARGET], "30, 50"))
        status, answer = self.send("post", f"/strategies/{self.strategy.pk}/sweeps", body)
        self.assertEqual((status, answer["problems"][0]["path"]), (422, "end"))
        self.assertEqual(self.ask(([TARGET], "30, 50"), end="2026-10-19").cells.count(), 2)

    def test_what_has_seen_them_already_counts(self) -> None:
        self.ask(([TARGET], "30, 50"))
        run = self.finished_run()
        self.send("delete", f"/runs/{run.pk}")
        self.assertEqual(self.hold(SINCE)[1]["looks"], 2)
        self.assertEqual(self.hold(SINCE)[1]["looks"], 2, "said again it counts once")
        self.assertEqual(self.hold(None), (200, {"held_from": None, "looks": 0}))
        self.assertEqual(self.run_to("2026-11-18")[0], 200)

    def test_a_run_is_extended_up_to_them_or_as_a_further_look(self) -> None:
        first, last = self.history().dates[0], dt.date(2026, 10, 1)
        run = runs.ask(self.mara, self.strategy.pk, first, last, Decimal(50_000), "blocks")
        work.carry_out(run.pk)
        self.hold(SINCE)
        longer = runs.extend(self.mara, run.pk)
        self.assertEqual((longer.end, longer.look), (dt.date(2026, 10, 19), 0))
        work.carry_out(longer.pk)
        with self.assertRaisesRegex(Conflict, "not held back"):
            runs.extend(self.mara, longer.pk)
        # over a weekend there is nothing to go on with either
        friday = runs.ask(self.mara, self.strategy.pk, first, dt.date(2026, 10, 2), Decimal(50_000), "blocks")
        work.carry_out(friday.pk)
        self.hold(dt.date(2026, 10, 5))
        with self.assertRaisesRegex(Conflict, "not held back"):
            runs.extend(self.mara, friday.pk)
        self.hold(SINCE)
        looking = runs.ask(
            self.mara, self.strategy.pk, first, dt.date(2026, 11, 2), Decimal(50_000), "blocks", look=True
        )
        work.carry_out(looking.pk)
        self.assertEqual(runs.extend(self.mara, looking.pk).look, 2)

    def test_what_cannot_be_held_back(self) -> None:
        for since in ("2026-07-10", "2026-11-17", "2031-01-01", "2001-01-01"):
            status, answer = self.hold(since)
            self.assertEqual((status, answer["problems"][0]["path"]), (422, "since"), since)
        self.assertEqual(self.hold("soon")[0], 422)
        self.assertEqual(self.hold(SINCE, client=self.other)[0], 404)

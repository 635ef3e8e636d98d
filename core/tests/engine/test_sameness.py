"""Steps and blocks say the same, byte for byte, also when cut and restored anywhere (semantics rule 12)."""

from __future__ import annotations

import copy
import dataclasses
import json
import unittest
from decimal import Decimal
from typing import Any

import numpy as np

from strell_core.engine.plain import to_plain
from strell_core.engine.plan import Plan, make_plan
from strell_core.engine.run import History, run_blocks, run_steps
from strell_core.engine.state import EngineState
from strell_core.engine.stored import StoredStateError, closed_trade, dump, dump_history, load, load_history
from strell_core.market.instruments import TermsPeriod
from strell_core.market.timeline import Timeline
from strell_core.results.equity import equity_curve
from strell_core.scenario.generator import MK30
from strell_core.strategy.document import normalise, parse
from tests.demo import short_history
from tests.engine.variations import EVERY_DAY, STRANGLE, document, variations

CASH = Decimal(50_000)


def bytes_of(*histories: History) -> str:
    said: dict[str, list[Any]] = {"reasons": [], "entries": [], "closed": [], "needs": []}
    for history in histories:
        for name, found in said.items():
            found += to_plain(getattr(history, name))
    return json.dumps(said, sort_keys=True)


def in_cuts(method: Any, plan: Plan, timeline: Timeline, cuts: list[int]) -> tuple[str, str]:
    """Run piecewise, the state written out and read back at every cut."""
    state = EngineState(CASH)
    pieces = []
    for begin, end in zip([0, *cuts], [*cuts, len(timeline.times)], strict=True):
        pieces.append(method(plan, timeline, begin, end, CASH, None, load(dump(state), "MK30")))
        state = pieces[-1].state
    return bytes_of(*pieces), dump(state)


class SamenessTest(unittest.TestCase):
    def test_blocks_and_steps_agree_also_when_cut_and_restored(self) -> None:
        timeline = short_history()
        rng = np.random.default_rng(7)
        for name, raw in variations().items():
            with self.subTest(name):
                plan = make_plan(parse(raw), timeline)
                whole = run_steps(plan, timeline, 0, len(timeline.times), CASH)
                wanted = bytes_of(whole), dump(whole.state)
                cuts = sorted(rng.choice(np.arange(1, len(timeline.times)), 25, replace=False).tolist())
                self.assertEqual(in_cuts(run_blocks, plan, timeline, []), wanted)
                self.assertEqual(in_cuts(run_blocks, plan, timeline, cuts), wanted)
                self.assertEqual(in_cuts(run_steps, plan, timeline, cuts), wanted)

    def test_state_restored_at_every_snapshot_changes_nothing(self) -> None:
        timeline = short_history()
        plan = make_plan(parse(variations()["uneven ratio with a trailing stop"]), timeline)
        whole = run_steps(plan, timeline, 0, len(timeline.times), CASH)
        self.assertEqual(
            in_cuts(run_steps, plan, timeline, list(range(1, len(timeline.times)))),
            (bytes_of(whole), dump(whole.state)),
        )

    def test_many_trades_at_once_of_which_the_entry_asks(self) -> None:
        """Nothing becomes of most of them at most looks; what the entry asks of them is asked all the same."""
        timeline = short_history()
        times = {"rule": "every_minutes", "minutes": 30, "from": "10:00", "until": "17:00", "weekdays": list(EVERY_DAY)}
        raw = document("many", STRANGLE, [
            {"rule": "credit_target", "percent": 30}, {"rule": "premium_stop", "percent": 60},
            {"rule": "trailing_profit", "start": 10, "back": 10}, {"rule": "before_expiration", "days": 4, "time": "15:45"},
        ])  # fmt: skip
        raw["entries"][0]["when"] = [times]
        worst = {"left": {"measure": "open_trade", "which": "worst", "what": "pnl"}, "is": "above", "right": -60}
        few = {"left": {"measure": "open_trades", "of": "all"}, "is": "at most", "right": 3}
        raw["entries"][0]["conditions"] = [{"rule": "condition", **few, "join": "or", "also": [worst]}]
        raw["limits"] = [{"rule": "capital", "entries": "allow", "below": "report"}]
        plan, begin = make_plan(parse(normalise(raw)), timeline), int(timeline.first[-12])
        cash, end = Decimal(500_000), len(timeline.times)
        whole = run_steps(plan, timeline, begin, end, cash)
        found = run_blocks(plan, timeline, begin, end, cash)
        self.assertEqual((bytes_of(found), dump(found.state)), (bytes_of(whole), dump(whole.state)))
        self.assertGreater(len(whole.closed), 20)
        said = {reason.rule for reason in whole.reasons if reason.kind == "no entry"}
        self.assertEqual(len(said), 1, "the worst of them keeps it from entering now and then")

    def test_a_run_that_was_kept_goes_on_as_if_it_had_not_stopped(self) -> None:
        timeline = short_history()
        n = len(timeline.times)
        for name, raw in variations().items():
            plan = make_plan(parse(raw), timeline)
            whole = run_blocks(plan, timeline, 0, n, CASH)
            for cut in (n // 3, n - 40):
                text = dump_history(run_blocks(plan, timeline, 0, cut, CASH))
                again = load_history(text, "MK30")
                self.assertEqual(dump_history(again), text, name)
                again.extend(run_blocks(plan, timeline, cut, n, CASH, None, again.state))
                self.assertEqual((bytes_of(again), dump(again.state)), (bytes_of(whole), dump(whole.state)), name)
                self.assertEqual(to_plain(again.intents), to_plain(whole.intents), name)

    def test_a_kept_run_of_another_version_or_broken_is_not_read(self) -> None:
        good = json.loads(dump_history(History(EngineState(CASH))))
        for change in ({"version": 3}, {"needs": [{"at": 1}]}, {"entries": [{"amount": "x", "contract": None}]}):
            with self.assertRaises(StoredStateError):
                load_history(json.dumps({**good, **change}), "MK30")
        for text in ("", "[]", "{}", "null"):
            with self.assertRaises(StoredStateError):
                load_history(text, "MK30")

    def test_a_run_repeated_gives_the_same_bytes(self) -> None:
        timeline = short_history()
        plan = make_plan(parse(variations()["strangle"]), timeline)
        first, second = (run_blocks(plan, timeline, 0, len(timeline.times), CASH) for _ in range(2))
        self.assertEqual(bytes_of(first), bytes_of(second))
        self.assertGreater(len(first.closed), 5)

    def test_a_closed_trade_is_the_same_after_json(self) -> None:
        timeline = short_history()
        plan = make_plan(parse(variations()["strangle"]), timeline)
        for trade in run_blocks(plan, timeline, 0, len(timeline.times), CASH).closed:
            self.assertEqual(closed_trade(json.loads(json.dumps(to_plain(trade))), "MK30"), trade)


class LedgerTest(unittest.TestCase):
    """Cash moves only through the ledger, and every trade's money is the sum of its entries."""

    def test_cash_is_what_the_ledger_says(self) -> None:
        timeline = short_history()
        for name, raw in variations().items():
            with self.subTest(name):
                plan = make_plan(parse(raw), timeline)
                history = run_blocks(plan, timeline, 0, len(timeline.times), CASH)
                self.assertEqual(history.state.cash, CASH + sum(e.amount for e in history.entries))
                for trade in history.closed:
                    own = [e for e in history.entries if e.trade == trade.number]
                    self.assertEqual(trade.pnl, sum(e.amount for e in own))
                    self.assertEqual(trade.costs, -sum(e.amount for e in own if e.kind == "commission"))
                    self.assertEqual(sum(e.contracts for e in own), 0)
                    gross = sum(leg.contracts * (leg.closed_parts - leg.opened_parts) for leg in trade.legs)
                    self.assertEqual(gross, trade.gross)


class MultiplierByDateTest(unittest.TestCase):
    """A trade keeps the multiplier of the day it was opened on, in blocks and in steps."""

    def test_trades_after_the_change_move_a_tenth_of_the_money(self) -> None:
        timeline = short_history()
        middle = timeline.dates[len(timeline.dates) // 2]
        first, later = (
            TermsPeriod(date, multiplier, False, "close", MK30.rate, "EUR", "MARROWICK")
            for date, multiplier in ((timeline.dates[0], 50), (middle, 5))
        )
        changed = copy.copy(timeline)
        changed.underlying = dataclasses.replace(MK30, periods=(first, later))
        document = parse(variations()["strangle"])
        plain = run_blocks(make_plan(document, timeline), timeline, 0, len(timeline.times), CASH)
        plan = make_plan(document, changed)
        found = run_blocks(plan, changed, 0, len(timeline.times), CASH)
        self.assertEqual(bytes_of(found), bytes_of(run_steps(plan, changed, 0, len(timeline.times), CASH)))
        before = [t for t in found.closed if timeline.date_at(t.opened_at) < middle]
        self.assertTrue(0 < len(before) < len(found.closed))
        for mine, theirs in zip(found.closed, plain.closed, strict=True):
            share = 1 if timeline.date_at(mine.opened_at) < middle else 10
            self.assertEqual(share * (mine.pnl + mine.costs), theirs.pnl + theirs.costs)
        curve = equity_curve(changed, found, 0, len(timeline.times), CASH)
        self.assertAlmostEqual(float(curve.equity[-1]), float(found.state.cash) + _marked(changed, found), places=2)


def _marked(timeline: Timeline, history: History) -> float:
    """Open trades at their last mids, money."""
    total = 0.0
    view = timeline.view(len(timeline.times) - 1)
    for trade in history.state.trades:
        scale = timeline.underlying.on(trade.opened_on).multiplier * float(timeline.underlying.quantum)
        for leg in trade.legs:
            quote = view.quote(leg.contract)
            total += leg.contracts * (quote.bid + quote.ask) / 2 * scale
    return total

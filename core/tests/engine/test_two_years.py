"""Covered calls, the wheel and hedged straddles over two years of the demo's dividend payers agree with plain loops to the cent."""

from __future__ import annotations

import unittest
from typing import Any

from strell_core.engine.plan import make_plan
from strell_core.engine.run import History, run_blocks, run_steps
from strell_core.engine.stored import dump, load
from strell_core.market.timeline import Timeline
from strell_core.measures.frames import HEDGE
from strell_core.results.causes import causes
from strell_core.results.report import report
from strell_core.strategy.document import parse
from tests.engine.test_forty import documents
from tests.engine.unit_loops import (
    CASH,
    Hedged,
    HedgedByShare,
    Loop,
    Wheel,
    covered_call,
    hedged,
    hedged_by_share,
    wheel,
)
from tests.engine.unit_loops_of_the_set import Collar, CoveredCallOfTheSet, HedgedOfTheSet, WheelOfTheSet
from tests.payers import PAYERS, payer


class TwoYearsTest(unittest.TestCase):
    tags = frozenset({"long"})

    def compared(self, loop: type[Loop], sheet: Any) -> list[tuple[Any, Timeline, History]]:
        """A loop and the engine's run of a sheet, for every payer, said to be the same."""
        out = []
        for name in PAYERS:
            there = payer(name)
            plain: Any = loop(there.scenario, there.chains)
            plain.timeline = timeline = there.timeline
            plain.run()
            plan, end = make_plan(parse(sheet(name.symbol)), timeline), len(timeline.times)
            for run in (run_steps, run_blocks):
                history = run(plan, timeline, 0, end, loop.START)
                own = {"assignment", "settlement"}
                told = [
                    (timeline.date_at(t.opened_at), timeline.date_at(t.closed_at), t.rule if t.rule in own else "rule", t.pnl)
                    for t in history.closed
                ]  # fmt: skip
                self.assertEqual(told, plain.closed, name.symbol)
                self.assertEqual(history.state.cash, plain.cash)
            first = run_blocks(plan, timeline, 0, end // 2, loop.START).state
            later = run_blocks(plan, timeline, end // 2, end, loop.START, state=load(dump(first), name.symbol))
            self.assertEqual(later.state, history.state, "cut in two and stored in between")
            out.append((plain, timeline, history))
        return out

    def test_covered_calls(self) -> None:
        found = [plain for plain, _, _ in self.compared(Loop, covered_call)]
        self.assertGreaterEqual(sum(plain.dividends for plain in found), 6)
        self.assertGreaterEqual(sum(plain.early for plain in found), 1, "none was assigned on the eve of a dividend")
        self.assertGreaterEqual(sum(how == "rule" for plain in found for _, _, how, _ in plain.closed), 10)

    def test_the_sets_own(self) -> None:
        """The strategies of the set that trade a dividend payer, as they are written."""
        written = {name[:2]: document for name, document in documents().items() if document["underlyings"] == ["OSTL"]}
        loops: dict[str, type[Loop]] = {
            "41": CoveredCallOfTheSet,
            "42": Collar,
            "53": WheelOfTheSet,
            "56": HedgedOfTheSet,
        }
        self.assertEqual(set(written), set(loops), "each has a plain loop")
        for number, loop in loops.items():
            with self.subTest(number):
                found = self.compared(loop, lambda symbol, number=number: {**written[number], "underlyings": [symbol]})
                self.assertGreaterEqual(sum(len(plain.closed) for plain, _, _ in found), 8)
                for _, _, history in found:
                    self.assertFalse(
                        [r for r in history.reasons if r.kind == "no adjustment"], "capital is no matter here"
                    )

    def test_the_wheel(self) -> None:
        """Puts until units are delivered, calls against them until they are delivered in turn."""
        compared = self.compared(Wheel, wheel)
        for plain, timeline, history in compared:
            plan = make_plan(parse(wheel(timeline.underlying.symbol)), timeline)
            told = report(plan, timeline, history, 0, len(timeline.times), CASH, seed=1).evidence
            opens = plan.entries[0].adjustments[0].rule.id
            self.assertEqual(
                told.get(opens, {"true": 0})["true"], plain.calls, "every call is counted where it was asked for"
            )
        found = [plain for plain, _, _ in compared]
        self.assertGreaterEqual(sum(plain.rounds for plain in found), 8)
        self.assertGreaterEqual(sum(plain.calls for plain in found), 15)
        self.assertGreaterEqual(sum(plain.dividends for plain in found), 3)

    def test_a_band_may_be_a_share_of_the_options_deltas(self) -> None:
        found = [plain for plain, _, _ in self.compared(HedgedByShare, hedged_by_share)]
        self.assertGreaterEqual(sum(len(plain.closed) for plain in found), 60)
        self.assertGreaterEqual(sum(plain.deals for plain in found), 300)

    def test_straddles_hedged_with_the_underlying(self) -> None:
        """Units against the delta at every close; what they make is told price by price, and adds up."""
        compared = self.compared(Hedged, hedged)
        for _, timeline, history in compared:
            hedges = [leg for trade in history.closed for leg in trade.legs if leg.leg_id == HEDGE]
            self.assertTrue(hedges and all(leg.contract.divisor == 100 for leg in hedges))
            self.assertGreater(len({leg.contracts % 100 for leg in hedges}), 20, "one by one")
            for trade in history.closed:
                paid = any(e.kind == "dividend" for e in history.entries if e.trade == trade.number)
                made = sum(leg.contracts * (leg.closed_parts - leg.opened_parts) for leg in trade.legs)
                self.assertTrue(made == trade.gross or paid)
                found = causes(timeline, trade)
                self.assertAlmostEqual(sum(found.total.values()), float(trade.pnl), places=6)
                # dealing is what the spreads cost: every deal's half, and the options' at both ends
                own = [
                    e
                    for e in history.entries
                    if e.trade == trade.number and e.kind == "premium" and e.contract and e.contract.is_unit
                ]
                paid = sum(found.dealing[row] for row, leg in enumerate(trade.legs) if leg.leg_id == HEDGE)
                self.assertAlmostEqual(paid, -sum(abs(e.contracts) for e in own) * 0.02, places=6)
        found = [plain for plain, _, _ in compared]
        self.assertGreaterEqual(sum(len(plain.closed) for plain in found), 60)
        self.assertGreaterEqual(sum(plain.deals for plain in found), 500)
        self.assertGreaterEqual(sum(plain.turned for plain in found), 40, "from long to short units and back")
        self.assertGreaterEqual(sum(plain.dividends for plain in found), 3)

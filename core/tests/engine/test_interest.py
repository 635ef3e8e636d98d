"""Interest on cash: by hand, in steps and blocks, cut anywhere and restored."""

from __future__ import annotations

import dataclasses
import datetime as dt
import math
from decimal import Decimal
from typing import Any

from strell_core.engine.interest import earned
from strell_core.engine.plan import make_plan
from strell_core.engine.run import History
from strell_core.market.rates import RateCurves
from strell_core.results.report import report
from strell_core.scenario.generator import MK30
from strell_core.strategy.document import parse
from tests.engine.byhand import CALL, CASH, PUT, ByHandCase, entry, snapshots, strategy
from tests.handmade import session_chains, timeline_of

SENTENCE = {"id": "earns", "rule": "interest", "less": 0.5, "more": 1.5}


class InterestTest(ByHandCase):
    def setUp(self) -> None:
        quotes = {"2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"}}
        self.timeline = timeline_of(session_chains(snapshots(quotes)))
        self.rate = MK30.rate

    def lived(self, *limits: dict[str, Any]) -> History:
        return self.run_all(strategy(entry("only", [*self.STRANGLE]), limits=list(limits)), self.timeline)

    def test_every_session_books_what_the_cash_before_it_earned(self) -> None:
        history, cash = self.lived(SENTENCE), CASH
        dates = list(self.timeline.dates)
        expected = []
        money = [entry for entry in history.entries if entry.kind != "interest"]
        for before, today in zip(dates, dates[1:], strict=False):
            first = int(self.timeline.times[self.timeline.first[dates.index(today)]])
            cash += sum((e.amount for e in money if e.at < first), Decimal(0))
            money = [e for e in money if e.at >= first]
            share = math.exp((self.rate - 0.005) * (today - before).days / 365) - 1
            expected.append((first, (cash * Decimal(share)).quantize(Decimal("0.01"))))
            cash += expected[-1][1]
        found = [(e.at, e.amount, e.trade) for e in history.entries if e.kind == "interest"]
        self.assertEqual(found, [(at, amount, 0) for at, amount in expected])
        self.assertEqual(len(found), 2)
        self.assertGreater(min(amount for _, amount, _ in found), 0)

    def test_without_the_sentence_or_with_it_off_nothing_is_booked(self) -> None:
        for limits in ((), ({**SENTENCE, "off": True},)):
            kinds = {entry.kind for entry in self.lived(*limits).entries}
            self.assertEqual(kinds, {"premium", "commission", "settlement"} & kinds)
            self.assertIn("premium", kinds)

    def test_it_is_part_of_equity_and_of_no_trade(self) -> None:
        plain, earning = self.lived(), self.lived(SENTENCE)
        self.assertEqual([t.pnl for t in earning.closed], [t.pnl for t in plain.closed])
        more = sum((e.amount for e in earning.entries if e.kind == "interest"), Decimal(0))
        self.assertEqual(earning.state.cash - plain.state.cash, more)
        told = [
            report(make_plan(self.parsed(limits), self.timeline), self.timeline, history, 0, len(self.timeline.times), CASH, 1)
            for limits, history in (([], plain), ([SENTENCE], earning))
        ]  # fmt: skip
        self.assertEqual([found.figures["interest"] for found in told], [None, float(more)])

    def parsed(self, limits: list[dict[str, Any]]) -> Any:
        return parse(strategy(entry("only", [*self.STRANGLE]), limits=limits))

    def test_debt_costs_and_cash_never_earns_less_than_nothing(self) -> None:
        monday, friday = dt.date(2026, 10, 5), dt.date(2026, 10, 2)
        plan = make_plan(self.parsed([SENTENCE]), self.timeline)

        def of(cash: int, rate: float) -> Decimal:
            there = dataclasses.replace(MK30, rates=RateCurves((friday,), (((1, rate),),)))
            return earned(plan, there, Decimal(cash), friday, monday)

        # three calendar days of 365: 100 000 × (e^(0.03 × 3/365) - 1) = 24.66, and at 5 % 41.10
        self.assertEqual(of(100_000, 0.035), Decimal("24.66"))
        self.assertEqual(of(-100_000, 0.035), Decimal("-41.10"))
        self.assertEqual((of(100_000, 0.005), of(100_000, -0.01)), (0, 0))
        self.assertEqual(of(-100_000, -0.01), Decimal("-4.11"))

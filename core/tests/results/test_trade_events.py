"""A trade's history is whole: all its money, every decision and fill of it, in order."""

from __future__ import annotations

import unittest
from decimal import Decimal

from strell_core.engine.plan import make_plan
from strell_core.engine.run import History, run_blocks
from strell_core.engine.state import EngineState, LedgerEntry, Reason
from strell_core.results.trade_events import trade_events
from strell_core.strategy.document import parse
from tests.demo import SHORT, market_with_reports
from tests.engine.test_forty import documents
from tests.payers import PAYERS, payer

MANAGED = ("30-", "32-", "38-", "39-", "54-", "60-", "64-", "65-", "70-")


class HistoryTest(unittest.TestCase):
    def whole(self, history: History) -> set[str]:
        """Every reason and every cent of every closed trade is in one event; what kinds there are."""
        found, kinds = trade_events(history), set()
        for trade in history.closed:
            events = found[trade.number]
            self.assertEqual(sum((event.amount for event in events), Decimal(0)), trade.pnl)
            times = [event.until or event.at for event in events if event.kind not in ("moved", "lapsed")]
            self.assertEqual(times, sorted(times))
            self.assertEqual((events[0].kind, events[0].at), ("entry", trade.decided_at))
            fills = [event for event in events if event.kind == "filled"]
            self.assertEqual((fills[0].values["kind"], fills[0].at), ("open", trade.opened_at))
            said = [reason for reason in history.reasons if reason.trade == trade.number]
            self.assertEqual(sum(event.times for event in events), len(said))
            kinds |= {event.kind for event in events}
        return kinds

    def test_of_managed_trades(self) -> None:
        market, kinds, closed = market_with_reports(SHORT), set(), 0
        for name, document in documents().items():
            if name.startswith(MANAGED):
                history = run_blocks(
                    make_plan(parse(document), market.main), market, 0, len(market.main.times), Decimal(60_000)
                )
                kinds |= self.whole(history)
                closed += len(history.closed)
        self.assertGreater(closed, 40)
        self.assertLessEqual({"entry", "filled", "left", "moved", "stop moved", "settled"}, kinds)

    def test_of_deliveries_and_dividends(self) -> None:
        wheel, kinds = next(raw for name, raw in documents().items() if name.startswith("53-")), set()
        for name in PAYERS:
            timeline = payer(name).timeline
            raw = {**wheel, "underlyings": [name.symbol]}
            history = run_blocks(make_plan(parse(raw), timeline), timeline, 0, len(timeline.times), Decimal(60_000))
            kinds |= self.whole(history)
        self.assertLessEqual({"delivered", "moved", "dividend"}, kinds)


class RepeatedTest(unittest.TestCase):
    def test_what_is_said_at_one_look_after_another_is_one(self) -> None:
        def said(at: int, kind: str, rule: str) -> Reason:
            return Reason(at, kind, 1, rule, None, {"message": "no"})  # type: ignore[arg-type]

        reasons = [
            Reason(1, "entry", 1, "when"), said(5, "no adjustment", "a"), said(6, "no adjustment", "a"), said(9, "no adjustment", "a"),
            said(9, "no adjustment", "b"), said(10, "no adjustment", "a"), Reason(11, "left", 1, "x"), Reason(12, "left", 1, "x"), Reason(13, "no entry", None),
        ]  # fmt: skip
        (events,) = trade_events(History(EngineState(Decimal(0)), reasons)).values()
        self.assertEqual(
            [(event.at, event.kind, event.rule, event.times, event.until) for event in events],
            [(1, "entry", "when", 1, 0), (5, "no adjustment", "a", 3, 9), (9, "no adjustment", "b", 1, 0), (10, "no adjustment", "a", 1, 0),
             (11, "left", "x", 1, 0), (12, "left", "x", 1, 0)],
        )  # fmt: skip

    def test_an_order_that_lapses_day_after_day_is_one(self) -> None:
        def said(at: int, kind: str, codes: list[str] | None = None) -> Reason:
            return Reason(at, kind, 1, "roll", None, {"contracts": codes} if codes else {})  # type: ignore[arg-type]

        reasons = [
            said(at, kind, ["a"] if kind == "moved" else None)
            for at in (1, 3, 5)
            for kind, at in (("moved", at), ("lapsed", at + 1))
        ]
        reasons += [said(7, "moved", ["b"]), said(8, "lapsed"), said(9, "moved", ["b"]), said(10, "filled")]
        (events,) = trade_events(History(EngineState(Decimal(0)), reasons)).values()
        self.assertEqual(
            [(event.at, event.kind, event.times, event.until) for event in events],
            [
                (1, "moved", 3, 5),
                (2, "lapsed", 3, 6),
                (7, "moved", 1, 0),
                (8, "lapsed", 1, 0),
                (9, "moved", 1, 0),
                (10, "filled", 1, 0),
            ],
        )

    def test_money_stands_with_what_moved_it(self) -> None:
        def moved(at: int, kind: str, amount: int, trade: int = 1) -> LedgerEntry:
            return LedgerEntry(at, trade, kind, None, 0, 0, Decimal(amount))  # type: ignore[arg-type]

        reasons = [
            Reason(1, "filled", 1),
            Reason(4, "dividend", 1),
            Reason(4, "filled", 1),
            Reason(4, "filled", 1),
            Reason(4, "filled", 2),
        ]
        entries = [
            moved(1, "premium", 7),
            moved(1, "commission", -1),
            moved(4, "dividend", 3),
            moved(4, "premium", -2),
            moved(4, "premium", 5, 2),
        ]
        found = trade_events(History(EngineState(Decimal(0)), reasons, entries))
        self.assertEqual([event.amount for event in found[1]], [6, 3, 0, -2])
        self.assertEqual([event.amount for event in found[2]], [5])

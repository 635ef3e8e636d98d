"""Where the first choice does not do: expirations walked out through, and what an adjustment does that cannot be made."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from strell_core.engine.run import History
from tests.engine.byhand import CALL, FAR, PUT, ByHandCase, entry, leg, snapshots, strategy
from tests.handmade import session_chains, timeline_of

NEAR_PUT, AT_THE_MONEY = "2026-10-09/put/3050", "2026-10-16/call/3100"


class WalkOutTest(ByHandCase):
    def entered(self, quotes: dict[str, str], checks: list[dict[str, Any]], **more: Any) -> History:
        walking = {"expiry": {"pick": "walk_out", "from": 2, "to": 20}}
        put = {**leg("p", "put", 3050, first=True), **walking, **more}
        once = [{"id": "w", "rule": "decision_times", "weekdays": ["mon"], "time": "15:45"}]
        timeline = timeline_of(session_chains(snapshots({"2026-10-05 15:40": quotes})))
        return self.run_all(strategy(entry("only", [put], when=once, checks=checks)), timeline)

    def paid(self, points: float) -> list[dict[str, Any]]:
        return [{"id": "enough", "rule": "net_premium", "kind": "credit", "points": points}]

    def contracts(self, history: History) -> list[str]:
        return next((r.values["contracts"] for r in history.reasons if r.kind == "entry"), [])

    def test_the_nearest_that_passes_is_taken(self) -> None:
        both = {NEAR_PUT: "3.00/3.20", PUT: "8.00/8.20"}
        self.assertEqual(self.contracts(self.entered(both, self.paid(2))), [f"MK30/{NEAR_PUT}"])
        self.assertEqual(self.contracts(self.entered(both, self.paid(7))), [f"MK30/{PUT}"])
        self.assertEqual(self.contracts(self.entered(both, [])), [f"MK30/{NEAR_PUT}"])

    def test_where_a_leg_cannot_be_picked_it_walks_on_too(self) -> None:
        # the nearest lists a strike half as far away only
        quotes = {"2026-10-09/put/3075": "9.00/9.20", PUT: "8.00/8.20"}
        pick = {"pick": "percent_from_spot", "percent": 1.6, "within": 0.3}
        self.assertEqual(self.contracts(self.entered(quotes, self.paid(7), strike=pick)), [f"MK30/{PUT}"])

    def test_where_none_passes_the_nearest_says_why(self) -> None:
        dear = {"id": "s", "rule": "decision_times", "weekdays": ["tue"], "time": "15:45"}
        put = {**leg("p", "put", 3050, first=True), "expiry": {"pick": "walk_out", "from": 2, "to": 20}}
        # on Monday neither pays; on Tuesday the later one does
        timeline = timeline_of(session_chains(snapshots({
            "2026-10-05 15:40": {NEAR_PUT: "3.00/3.20", PUT: "6.00/6.20"}, "2026-10-06 15:40": {PUT: "9.00/9.20"},
        })))  # fmt: skip
        times = [{**dear, "id": "m", "weekdays": ["mon"]}, dear]
        history = self.run_all(strategy(entry("only", [put], when=times, checks=self.paid(7))), timeline)
        self.assertEqual(
            self.told(history, "no entry", "entry"), [("05 15:45", "no entry", "enough"), ("06 15:45", "entry", "m")]
        )
        (said,) = [r for r in history.reasons if r.kind == "no entry"]
        self.assertEqual(said.values["premium"], 3.0, "what the nearest would bring")


class OtherwiseTest(ByHandCase):
    QUOTES = {CALL: "6.00/6.20", FAR: "2.00/2.20", PUT: "5.00/5.20"}

    def adjusted(self, lots: int = 2, quotes: Any = None, **how: Any) -> History:
        rule = {"id": "adj", "rule": "roll_strikes", "left": {"measure": "price"}, "is": "above", "right": 1,
                "what": "c", "strikes": 9, "where": "away", **how}  # fmt: skip
        size = [{"rule": "fixed_lots", "lots": lots}]
        only = entry("only", [*self.STRANGLE], size=size, adjust=[rule])
        timeline = timeline_of(session_chains(snapshots({"2026-10-05 15:40": {**self.QUOTES, **(quotes or {})}})))
        return self.run_all(strategy(only), timeline)

    def test_nothing_fits_and_it_holds_unless_it_says_otherwise(self) -> None:
        held = self.adjusted()
        self.assertEqual(self.told(held, "left", "moved"), [])
        self.assertEqual(len(held.state.trades), 1)

    def test_it_closes_patiently_and_the_next_look_enters_by_the_schedule(self) -> None:
        history = self.adjusted(otherwise="close")
        self.assertEqual(
            self.told(history, "entry", "left"),
            [("05 15:45", "entry", "only-when"), ("06 15:45", "left", "adj"), ("07 15:45", "entry", "only-when")],
        )
        (order,) = [item for item in history.intents if item.purpose == "close"]
        self.assertEqual((order.type, order.whole, order.then), ("limit", True, ()))
        (trade,) = history.closed
        # two lots sold at bids and bought at asks, 0.20 a leg: 40 EUR, and 8 contracts at 0.80
        self.assertEqual(trade.pnl, -(2 * 50 * Decimal("0.40")) - Decimal("6.40"))

    def test_it_enters_again_when_the_last_leg_is_gone(self) -> None:
        history = self.adjusted(otherwise="again")
        told = self.told(history, "entry", "left", "filled")
        self.assertEqual(
            told[:4],
            [("05 15:45", "entry", "only-when"), ("05 15:50", "filled", "only-when"), ("06 15:45", "left", "adj"),
             ("06 15:50", "filled", "adj")],
        )  # fmt: skip
        self.assertEqual(told[4], ("06 15:50", "entry", "adj"))

    def test_where_the_capital_is_not_there_it_does_the_same(self) -> None:
        # 15 % of 3100 less 50 is 415 points a lot, 20 750 EUR; twenty-two fit into 500 000. At the money a call needs 50
        # points more, 55 000 EUR more for them
        toward = {"quotes": {AT_THE_MONEY: "20.00/20.20"}, "lots": 22, "strikes": 1, "where": "toward"}
        refused = self.adjusted(**toward)
        self.assertEqual(
            self.told(refused, "no adjustment", "left")[:1], [("06 15:45", "no adjustment", "adj")], "it is said"
        )
        self.assertFalse(refused.closed)
        closed = self.adjusted(**toward, otherwise="close")
        self.assertEqual(
            self.told(closed, "no adjustment", "left")[:2],
            [("06 15:45", "no adjustment", "adj"), ("06 15:45", "left", "adj")],
        )

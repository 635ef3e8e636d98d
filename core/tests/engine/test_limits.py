"""Limits on conditions and what a run remembers of itself, by hand; in steps and blocks, cut anywhere and restored."""

from __future__ import annotations

import unittest
from typing import Any

from strell_core.engine import capital
from strell_core.engine.plan import make_plan
from strell_core.engine.run import History
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS
from strell_core.results.report import report
from strell_core.strategy.document import parse
from tests.engine.byhand import CALL, CASH, PUT, ByHandCase, entry, leg, snapshots, strategy
from tests.handmade import session_chains, timeline_of

QUIET = {"2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"}}


def limit(rule: str, left: dict[str, Any], comparison: str, right: Any, **more: Any) -> dict[str, Any]:
    return {"id": "limit", "rule": rule, "left": left, "is": comparison, "right": right, **more}


class LimitsTest(ByHandCase):
    def lived(self, limits: list[dict[str, Any]], quotes: Any = None, spots: Any = None, **more: Any) -> History:
        timeline = timeline_of(session_chains(snapshots({**QUIET, **(quotes or {})}, spots)))
        made = entry("only", [*self.STRANGLE], **{"limit": 9, **more.pop("entry", {})})
        return self.run_all(strategy(made, limits=limits, **more), timeline)

    STOP = {"id": "stop", "rule": "condition", "as": "loss", "left": {"measure": "pnl"}, "is": "at most", "right": -100}
    LOSES = {"2026-10-05 15:50": {CALL: "7.10/7.30"}}
    """Two lots of 50 EUR a point, sold at 15:45 at 11.00: a mid of 12.30 loses 130 and is left at 12.50."""

    def test_no_entry_while_trades_have_lost(self) -> None:
        for of, comparison, right, days in (
            ("losses_today", "at least", 1, "567"), ("losses_in_a_row", "at least", 1, "5"), ("losses_in_a_row", "at least", 2, "567"),
            ("sessions_since_loss", "below", 2, "57"), ("sessions_since_loss", "below", 1, "567"),
            ("realised_today", "below", -100, "567"),
        ):  # fmt: skip
            with self.subTest(of, right=right):
                history = self.lived(
                    [limit("no_entry", {"measure": of}, comparison, right)],
                    {**self.LOSES, "2026-10-06 15:40": {CALL: "6.00/6.20"}}, leave=[self.STOP], entry={"time": "15:40"},
                )  # fmt: skip
                self.assertEqual([trade.pnl < 0 for trade in history.closed], [True])
                self.assertEqual([at for at, _, _ in self.told(history, "entry")], [f"0{day} 15:40" for day in days])

    def test_the_day_of_the_loss_has_no_second_entry(self) -> None:
        # what was sold at bid loses its half spread at once
        stop = {**self.STOP, "right": -10}
        twice = {
            "when": [{"id": "w", "rule": "every_minutes", "minutes": 5, "from": "15:40", "until": "15:50"}],
            "limit": 1,
        }
        free = self.lived([], leave=[stop], entry=twice)
        bars = [limit("no_entry", {"measure": "losses_today", "of": "entry"}, "at least", 1)]
        held = self.lived(bars, leave=[stop], entry=twice)
        first = [[at for at, _, _ in self.told(history, "entry") if at < "06"] for history in (free, held)]
        self.assertEqual(first, [["05 15:40", "05 15:50"], ["05 15:40"]])
        self.assertIn(("05 15:50", "no entry", "limit"), self.told(held, "no entry"))
        reason = next(r for r in held.reasons if r.kind == "no entry" and r.rule == "limit")
        self.assertEqual(dict(reason.values), {"value": 1.0, "than": 1.0, "is": "at least"})

    def test_a_re_entry_is_barred_as_well(self) -> None:
        again = {**self.STOP, "rule": "condition_again", "times": 3, "right": -10}
        bars = [limit("no_entry", {"measure": "losses_today"}, "at least", 1)]
        history = self.lived(bars, leave=[again], entry={"time": "15:40"})
        given_up = [r for r in history.reasons if r.kind == "re-entry given up"]
        self.assertTrue(given_up)
        self.assertEqual({r.values["said_no"] for r in given_up}, {"limit"})

    def test_a_days_loss_closes_everything_at_the_market_and_rests(self) -> None:
        # a first trade is carried over night at a loss of 100 at mid: only what today loses counts
        rule = limit("close_trades", {"measure": "pnl_today"}, "at most", -150, sessions=1)
        quotes = {
            "2026-10-05 15:55": {CALL: "7.00/7.20"},
            "2026-10-06 15:40": {CALL: "8.40/8.60"},
            "2026-10-06 15:45": {CALL: "8.60/8.80"},
        }
        history = self.lived([rule], quotes)
        self.assertEqual(self.told(history, "left"), [("06 15:45", "left", "limit")])
        (order,) = [order for order in history.intents if order.purpose == "close"]
        self.assertEqual((order.type, order.whole), ("market", True))
        # of the day it acted and the one after nothing is entered
        self.assertEqual([at for at, _, _ in self.told(history, "entry")], ["05 15:45"])
        said = [r.values["message"] for r in history.reasons if r.kind == "no entry"]
        self.assertEqual(said, ["a limit closed trades on 6 Oct 2026, nothing is entered yet"] * 2)
        none = self.lived([{**rule, "sessions": 0}], quotes)
        self.assertEqual([at for at, _, _ in self.told(none, "entry")], ["05 15:45", "07 15:45"])

    def test_a_report_counts_what_a_limit_refused(self) -> None:
        bars = [limit("no_entry", {"measure": "open_trades"}, "at least", 1)]
        timeline = timeline_of(session_chains(snapshots(QUIET)))
        made = strategy(entry("only", [*self.STRANGLE], limit=9), limits=bars)
        history = self.run_all(made, timeline)
        found = report(make_plan(parse(made), timeline), timeline, history, 0, len(timeline.times), CASH, 1)
        told = {"true": 0, "no": 2, "unvalued": 0, "last": None, "since": 2}
        self.assertEqual(found.evidence["limit"], told)
        self.assertEqual([item["rule"] for item in found.decisions if item["kind"] == "no entry"], ["limit", "limit"])

    def test_only_the_newest_is_closed_one_at_a_time(self) -> None:
        rule = limit("close_trades", {"measure": "open_trades"}, "above", 1, which="newest")
        history = self.lived([rule])
        left = [reason.trade for reason in history.reasons if reason.kind == "left"]
        self.assertEqual(left, [2, 3])
        self.assertEqual([trade.number for trade in history.state.trades], [1])

    def test_what_is_sold_on_a_sessions_only_snapshot_is_no_loss_of_the_next_day(self) -> None:
        days = [{"at": f"2026-10-0{day} 17:30", "spot": 3100.0, CALL: call, PUT: "5.00/5.20"}
                for day, call in ((5, "6.00/6.20"), (6, "6.00/6.20"), (7, "8.00/8.20"))]  # fmt: skip
        made = entry("only", [*self.STRANGLE], time="17:30", limit=1)
        rule = limit("close_trades", {"measure": "pnl_today"}, "at most", -100)
        history = self.run_all(strategy(made, limits=[rule]), timeline_of(session_chains(days)))
        # two lots of 50 EUR a point: 200 EUR at mid from Tuesday to Wednesday, and nothing before
        self.assertEqual(self.told(history, "left"), [("07 17:30", "left", "limit")])
        reason = next(r for r in history.reasons if r.kind == "left")
        self.assertEqual(reason.values["value"], -200.0)

    def test_below_the_high_counts_from_the_best_session_end(self) -> None:
        # 100 are gained at mid by the first session's end, and 150 lost from there
        quotes = {
            "2026-10-05 15:55": {CALL: "5.00/5.20"},
            "2026-10-06 15:40": {CALL: "6.00/6.20"},
            "2026-10-06 15:50": {CALL: "6.50/6.70"},
        }
        once = {"when": [{"id": "w", "rule": "decision_times", "weekdays": ["mon"], "time": "15:45"}]}
        rule = limit("close_trades", {"measure": "below_high", "unit": "money"}, "at least", 150)
        history = self.lived([rule], quotes, entry=once)
        self.assertEqual(self.told(history, "left"), [("06 15:50", "left", "limit")])
        reason = next(r for r in history.reasons if r.kind == "left")
        self.assertEqual(reason.values["value"], 150.0)

    def test_what_is_open_can_be_asked_for(self) -> None:
        quotes = {"2026-10-06 15:40": {CALL: "7.00/7.20"}}
        for value, comparison, right, enters in (
            ({"measure": "open_trade", "which": "newest", "what": "pnl"}, "below", -90, ["06 15:45"]),
            ({"measure": "open_trade", "which": "oldest", "what": "days"}, "at least", 2, ["07 15:45"]),
            ({"measure": "open_trade", "which": "worst", "what": "move"}, "above", 0.9, ["07 15:45"]),
            ({"measure": "account_greek"}, "equal", 0, ["05 15:45"]),
        ):
            with self.subTest(value["measure"], **{"what": value.get("what", "")}):
                first = entry("first", [*self.STRANGLE], limit=9)
                first["when"][0]["weekdays"] = ["mon"]
                more = entry("more", [*self.STRANGLE], time="15:45", limit=9)
                more["when"][0]["id"] = "more-when"
                more["conditions"] = [
                    {"id": "ask", "rule": "condition", "left": value, "is": comparison, "right": right}
                ]
                for made, name in ((first, "a"), (more, "b")):
                    made["legs"] = [{**leg, "id": f"{leg['id']}{name}"} for leg in made["legs"]]
                timeline = timeline_of(session_chains(snapshots({**QUIET, **quotes}, {"2026-10-07 15:40": 3130.0})))
                history = self.run_all(strategy(first, more), timeline)
                found = [at for at, _, rule in self.told(history, "entry") if rule == "more-when"]
                self.assertEqual(found, enters)


class NewTest(unittest.TestCase):
    def test_what_has_no_price_to_open_at_is_backed_at_its_mid(self) -> None:
        quotes = {CALL: "0.00/0.10", PUT: "5.00/5.20"}
        timeline = timeline_of(session_chains([{"at": "2026-10-05 15:45", "spot": 3100, **quotes}]))
        plan = make_plan(parse(strategy(entry("only", [leg("a", "call", 3150, first=True)]))), timeline)
        view = timeline.view(0)
        for code, contracts, parts in ((CALL, -1, PARTS), (CALL, 1, 2 * PARTS), (PUT, -1, 100 * PARTS)):
            found = capital.new(plan, view, ContractKey.parse(code, "MK30"), contracts)
            self.assertEqual((found.contracts, found.parts), (contracts, parts))
        missing = ContractKey.parse("2026-10-16/call/3300", "MK30")
        self.assertEqual(capital.new(plan, view, missing, -1).parts, 0)

"""Entries that are looked at on something: a value of a series, the end of a trade, by an exit that names them; and picks
that are kept for the day. By hand, in steps and blocks."""

from __future__ import annotations

from decimal import Decimal
from typing import Any, ClassVar

import numpy as np

from strell_core.engine.plan import make_plan
from strell_core.engine.variants import Beyond, Variants
from strell_core.market.market import Market
from strell_core.market.series import DatedSeries
from strell_core.strategy.document import DocumentError, normalise, parse
from strell_core.strategy.schedule import DUE, POLICY_SKIP, Schedule
from strell_core.strategy.sentences import sheet
from tests.engine.byhand import CALL, CASH, FAR, PUT, ByHandCase, entry, leg, price_is, snapshots, strategy
from tests.handmade import instant, session_chains, timeline_of

QUOTES = {CALL: "6.00/6.20", FAR: "2.00/2.20", PUT: "5.00/5.20"}
FALLS = {"2026-10-05 15:55": {PUT: "9.00/9.20"}}
NEVER = {"rule": "decision_times", "weekdays": ["fri"], "time": "10:00"}


def market_with(series: dict[str, float], quotes: dict[str, dict[str, str]] | None = None) -> Market:
    """Three sessions by hand, and a series of values each known at an instant."""
    timeline = timeline_of(session_chains(snapshots({"2026-10-05 15:40": QUOTES, **(quotes or {})})))
    known = np.array([instant(at) for at in series], np.int64)
    return Market(timeline, {}, {"SIGNAL": DatedSeries("SIGNAL", known, np.array([*series.values()], np.float64))})


class SeriesTest(ByHandCase):
    SERIES = {
        "2026-10-02 12:00": 9.0, "2026-10-05 15:41": 1.0, "2026-10-05 15:44": 2.0, "2026-10-06 15:45": -1.0, "2026-10-06 20:00": 3.0,
        "2026-10-09 12:00": 4.0,
    }  # fmt: skip

    def document(self, *conditions: dict[str, Any], **more: Any) -> dict[str, Any]:
        when = [{"id": "on", "rule": "on_series", "series": "signal"}]
        return strategy(entry("only", [*self.STRANGLE], **{"when": when, **more}) | {"conditions": [*conditions]})

    def test_every_new_value_is_one_look_on_the_first_snapshot_that_knows_it(self) -> None:
        market = market_with(self.SERIES)
        history = self.run_all(self.document(), market)
        # two values between two snapshots are one look; one from before the history, and one from after it, are none
        self.assertEqual(
            self.told(history, "entry"), [("05 15:45", "entry", "on"), ("06 15:45", "entry", "on"), ("07 15:40", "entry", "on")]
        )  # fmt: skip
        schedule = make_plan(parse(self.document()), market).entries[0].schedule
        looks = schedule.looks(market, 0, len(market.main.times)).tolist()
        self.assertEqual(looks, [1, 5, 8])
        found = [i for i in range(len(market.main.times)) if schedule.status(market, i)]
        self.assertEqual(found, looks)

    def test_what_the_value_says_is_a_condition(self) -> None:
        rises = {
            "id": "up",
            "rule": "condition",
            "left": {"measure": "series_value", "series": "SIGNAL"},
            "is": "above",
            "right": 0,
        }
        history = self.run_all(self.document(rises), market_with(self.SERIES))
        self.assertEqual(
            self.told(history, "entry", "no entry"),
            [("05 15:45", "entry", "on"), ("06 15:45", "no entry", "up"), ("07 15:40", "entry", "on")],
        )

    def test_beside_decision_times_what_falls_together_is_one_look(self) -> None:
        when = [
            {"id": "at", "rule": "decision_times", "weekdays": ["mon", "tue"], "time": "15:45"}, {"id": "on", "rule": "on_series", "series": "SIGNAL"},
        ]  # fmt: skip
        history = self.run_all(self.document(when=when), market_with(self.SERIES))
        self.assertEqual([at for at, _, _ in self.told(history, "entry")], ["05 15:45", "06 15:45", "07 15:40"])

    def test_a_series_that_is_not_there_is_never_a_look(self) -> None:
        schedule, market = Schedule(series=("OTHER",)), market_with(self.SERIES)
        self.assertEqual(schedule.looks(market, 0, 12).tolist(), [])
        self.assertEqual({schedule.status(market, i) for i in range(12)}, {None})

    def test_a_session_with_one_snapshot_goes_by_its_policy(self) -> None:
        chains = session_chains([{"at": f"2026-10-0{day} 15:45", "spot": 3100, **QUOTES} for day in (5, 6)])
        known = np.array([instant("2026-10-06 12:00")], np.int64)
        market = Market(timeline_of(chains), {}, {"SIGNAL": DatedSeries("SIGNAL", known, np.ones(1))})
        for decides, status in ((True, DUE), (False, POLICY_SKIP)):
            schedule = Schedule({}, decides, ("SIGNAL",))
            self.assertEqual([schedule.status(market, i) for i in range(2)], [None, status])

    def test_variants_share_what_they_decide_on_the_same_looks(self) -> None:
        market = market_with(self.SERIES)
        document = self.document()
        plan, end = make_plan(parse(document), market), len(market.main.times)
        told = Variants(market, 0, end).run(plan, CASH, tells=True)
        self.assertEqual(told.open, 3)

    def test_how_it_reads(self) -> None:
        self.assertEqual(sheet(self.document()).sentences[0].text, "On every new value of the series “SIGNAL”.")


class AfterTradeTest(ByHandCase):
    def both(self, *leave: dict[str, Any], second: dict[str, Any] | None = None, **quotes: dict[str, str]) -> Any:
        first = entry("puts", [leg("p", "put", 3050, first=True)], leave=[*leave])
        first["when"] = [{"id": "monday", "rule": "decision_times", "weekdays": ["mon"], "time": "15:45"}]
        then = entry("calls", [leg("c", "call", 3150, first=True)])
        then["when"] = [{"id": "then", "rule": "after_trade", "entry": "puts"}]
        self.document = strategy(first, {**then, **(second or {})})
        history = session_chains(snapshots({"2026-10-05 15:40": QUOTES, **quotes}))
        return self.run_all(self.document, timeline_of(history))

    STOP: ClassVar[dict[str, Any]] = {"id": "stop", "rule": "condition", "as": "loss", **price_is("p", "above", 8)}

    def test_the_end_of_one_trade_is_a_look_of_another_entry(self) -> None:
        history = self.both(self.STOP, **{"2026-10-06 15:40": {PUT: "9.00/9.20"}})
        self.assertEqual(
            self.told(history, "entry", "left"),
            [("05 15:45", "entry", "monday"), ("06 15:40", "left", "stop"), ("06 15:45", "entry", "then")],
        )
        (trade,) = history.state.trades
        self.assertEqual((trade.entry, trade.reentries), ("calls", 0), "it is no re-entry")

    def test_it_is_judged_once_and_says_why_not(self) -> None:
        no = {
            "conditions": [
                {"id": "no", "rule": "condition", "left": {"measure": "price"}, "is": "above", "right": 9000}
            ]
        }
        history = self.both(self.STOP, second=no, **{"2026-10-06 15:40": {PUT: "9.00/9.20"}})
        self.assertEqual(self.told(history, "no entry"), [("06 15:45", "no entry", "no")])
        self.assertEqual(history.state.due, ())

    def test_what_ends_after_a_sessions_last_decisions_is_a_look_in_the_next(self) -> None:
        chains = session_chains([{"at": f"2026-10-0{day} 15:45", "spot": 3100, **QUOTES, **more} for day, more in (
            (5, {}), (6, {PUT: "9.00/9.20"}), (7, {}),
        )])  # fmt: skip
        self.both(self.STOP, **{"2026-10-06 15:40": {PUT: "9.00/9.20"}})
        history = self.run_all(self.document, timeline_of(chains))
        # dealt on the snapshot of its decision, in a session that has one
        self.assertEqual(
            self.told(history, "entry", "left"),
            [("05 15:45", "entry", "monday"), ("06 15:45", "left", "stop"), ("07 15:45", "entry", "then")],
        )

    def test_variants_leave_it_to_the_engine(self) -> None:
        self.both(self.STOP, **{"2026-10-06 15:40": {PUT: "9.00/9.20"}})
        timeline = timeline_of(session_chains(snapshots({"2026-10-05 15:40": QUOTES})))
        with self.assertRaises(Beyond):
            Variants(Market(timeline), 0, len(timeline.times)).run(make_plan(parse(self.document), timeline), CASH)

    def test_it_names_an_entry_that_is_there(self) -> None:
        document = {
            "strell": 2, "name": "x", "underlyings": ["MK30"],
            "entries": [entry("a", [leg("p", "put", 3050, first=True)]) | {"when": [{"rule": "after_trade", "entry": "b"}]}],
        }  # fmt: skip
        with self.assertRaisesRegex(
            DocumentError, "entries/0/when/0/entry: there is no entry “b”; the strategy has “a”"
        ):
            normalise(document)


class OtherEntryTest(ByHandCase):
    def turned(self, **values: Any) -> Any:
        turn = {
            "id": "turn", "rule": "condition_other_entry", "as": "loss", "left": {"measure": "pnl"}, "is": "at most", "right": -100, "entry": "calls", **values,
        }  # fmt: skip
        first = entry("puts", [leg("p", "put", 3050, first=True)], leave=[turn])
        first["when"] = [{"id": "monday", "rule": "decision_times", "weekdays": ["mon"], "time": "15:45"}]
        then = entry("calls", [leg("c", "call", 3150, first=True)], time="15:50")
        then["when"][0]["weekdays"] = ["wed"]
        quotes = {"2026-10-05 15:40": QUOTES, "2026-10-06 15:40": {PUT: "9.00/9.20"}}
        return self.run_all(strategy(first, then), timeline_of(session_chains(snapshots(quotes))))

    def test_an_exit_turns_around_by_another_entry(self) -> None:
        history = self.turned()
        self.assertEqual(
            self.told(history, "entry", "left"),
            [("05 15:45", "entry", "monday"), ("06 15:40", "left", "turn"), ("06 15:45", "entry", "turn")],
        )
        (trade,) = history.state.trades
        self.assertEqual((trade.entry, trade.reentries, [leg.leg_id for leg in trade.legs]), ("calls", 1, ["c"]))

    def test_or_at_that_entrys_next_decision_time(self) -> None:
        history = self.turned(when="next")
        self.assertEqual(self.told(history, "entry")[1:], [("07 15:50", "entry", "turn")])

    def test_how_it_reads(self) -> None:
        turn = {
            "rule": "condition_other_entry",
            "entry": "only",
            "left": {"measure": "pnl"},
            "is": "at most",
            "right": -100,
        }
        document = strategy(entry("only", [*self.STRANGLE]), leave=[turn])
        self.assertEqual(
            sheet(document).sentences[-1].text,
            "Close the position patiently when P/L at mid in money is at most −100; then enter “only” at once, at most 1 time in a row.",
        )
        with self.assertRaisesRegex(DocumentError, "leave/0/entry: there is no entry “gone”; the strategy has “only”"):
            strategy(entry("only", [*self.STRANGLE]), leave=[{**turn, "entry": "gone"}])


class KeptPicksTest(ByHandCase):
    CREDIT = {"id": "rich", "rule": "condition", "left": {"measure": "net_credit"}, "is": "at least", "right": 8}

    def entered(self, kept: bool, quotes: dict[str, dict[str, str]], spots: dict[str, float]) -> Any:
        when = [
            {
                "id": "often",
                "rule": "every_minutes",
                "minutes": 5,
                "from": "15:40",
                "until": "15:50",
                "weekdays": ["mon"],
            }
        ]
        when = [{"id": "keep", "rule": "picks_kept"}, *when] if kept else when
        only = entry("only", [leg("c", "call", 3150, first=True)], checks=[self.CREDIT]) | {"when": when}
        timeline = timeline_of(session_chains(snapshots({"2026-10-05 15:40": QUOTES, **quotes}, spots)))
        document = strategy(only)
        history = self.run_all(document, timeline)
        return [leg.contract.code for trade in history.state.trades for leg in trade.legs], history, timeline, document

    def test_the_first_picks_are_watched_for_their_premium(self) -> None:
        # by 15:50 the call at 3150 brings 8.00; 1.6 % above the price is the one at 3200 then
        quotes, spots = {"2026-10-05 15:50": {CALL: "8.00/8.20", FAR: "9.00/9.20"}}, {"2026-10-05 15:50": 3150.0}
        kept, history, timeline, document = self.entered(True, quotes, spots)
        self.assertEqual(kept, ["MK30/" + CALL])
        self.assertEqual(self.told(history, "entry", "no entry"), [
            ("05 15:40", "no entry", "rich"), ("05 15:45", "no entry", "rich"), ("05 15:50", "entry", "often"),
        ])  # fmt: skip
        fresh, *_ = self.entered(False, quotes, spots)
        self.assertEqual(fresh, ["MK30/" + FAR])
        variants, plan = Variants(Market(timeline), 0, len(timeline.times)), make_plan(parse(document), timeline)
        told = variants.run(plan, CASH, tells=True)
        self.assertEqual((told.open, told.said[-1].values["contracts"]), (1, kept))

    def test_where_nothing_fits_at_first_the_next_look_picks(self) -> None:
        quotes = {
            "2026-10-05 15:40": dict.fromkeys(QUOTES, "6.20/6.00"), "2026-10-05 15:45": QUOTES, "2026-10-05 15:50": {CALL: "8.00/8.20"},
        }  # fmt: skip
        kept, history, *_ = self.entered(True, quotes, {})
        self.assertEqual(kept, ["MK30/" + CALL])
        self.assertEqual(self.told(history, "no entry")[0][2], "c")

    def test_it_says_nothing_of_when(self) -> None:
        only = entry("only", [*self.STRANGLE]) | {"when": [{"rule": "picks_kept"}]}
        with self.assertRaisesRegex(DocumentError, "entries/0/when: say when to decide"):
            strategy(only)


class CashTest(ByHandCase):
    def test_a_chain_of_looks_costs_what_its_fills_cost(self) -> None:
        """Puts are followed by puts: each end is the look of the next, and cash is the sum of all that was dealt."""
        out = {"id": "out", "rule": "condition", "left": {"measure": "pnl"}, "is": "at least", "right": -100_000}
        again = entry("puts", [leg("p", "put", 3050, first=True)], leave=[out])
        again["when"] = [
            {"id": "monday", "rule": "decision_times", "weekdays": ["mon"], "time": "15:40"}, {"id": "then", "rule": "after_trade", "entry": "puts"},
        ]  # fmt: skip
        history = self.run_all(strategy(again), timeline_of(session_chains(snapshots({"2026-10-05 15:40": QUOTES}))))
        # sold for 5.00 and bought for 5.20, two lots at 50 a point, four contracts at 0.80
        self.assertEqual({trade.pnl for trade in history.closed}, {Decimal("-23.20")})
        self.assertEqual(history.state.cash, CASH + sum(entry.amount for entry in history.entries))
        self.assertGreaterEqual(len(history.closed), 3)

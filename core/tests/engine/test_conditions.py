"""Exits and entries on any value, by hand: what they close, at which price, what follows; in steps and blocks alike."""

from __future__ import annotations

from decimal import Decimal
from fractions import Fraction
from typing import Any

import numpy as np

from strell_core.market.market import Market
from strell_core.measures import values
from strell_core.measures.frames import Frame
from strell_core.strategy.document import DocumentError, normalise
from strell_core.strategy.sentences import sheet
from tests.engine.byhand import CALL, FAR, POINT, PUT, ByHandCase, entry, snapshots, strategy
from tests.handmade import session_chains, timeline_of


def when(left: dict[str, Any], comparison: str, right: Any, **more: Any) -> dict[str, Any]:
    return {"id": "x", "rule": "condition", "left": left, "is": comparison, "right": right, **more}


class ExitsOnValuesTest(ByHandCase):
    def told_by(
        self, leave: list[dict[str, Any]], quotes: dict[str, dict[str, str]], spots: Any = None, **more: Any
    ) -> Any:
        timeline = timeline_of(
            session_chains(snapshots({"2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"}, **quotes}, spots))
        )
        once = {"when": [{"id": "only-when", "rule": "decision_times", "weekdays": ["mon"], "time": "15:45"}]}
        return self.run_all(strategy(entry("only", [*self.STRANGLE], **(once | more)), leave=leave), timeline)

    def test_a_money_stop_reaches_its_amount_to_the_cent_and_leaves_at_the_market(self) -> None:
        # sold at 11.00 a lot; two lots of 50 EUR a point: a mid of 16.00 is −500.00, one of 15.95 −495.00
        rule = when({"measure": "pnl"}, "at most", -500, **{"as": "loss"})
        history = self.told_by(
            [rule], {"2026-10-06 15:40": {CALL: "8.85/9.05", PUT: "6.90/7.10"}, "2026-10-06 15:50": {PUT: "6.95/7.15"}}
        )
        self.assertEqual(self.told(history, "left"), [("06 15:50", "left", "x")])
        (order,) = history.intents[1:]
        self.assertEqual((order.type, order.urgency), ("market", "now"))
        (trade,) = history.closed
        self.assertEqual(trade.pnl, 2 * 50 * (Decimal("11.00") - Decimal("9.05") - Decimal("7.15")) - Decimal("6.40"))
        reason = next(r for r in history.reasons if r.kind == "left")
        self.assertEqual(reason.values, {"value": -500.0, "than": -500.0, "is": "at most", "also": []})

    def test_on_firm_marks_waits_for_the_last_snapshot_to_pass(self) -> None:
        rule = when({"measure": "pnl", "unit": "premium"}, "at least", 50, **{"as": "profit"})
        history = self.told_by(
            [rule], {"2026-10-05 15:55": {CALL: "2.00/2.20", PUT: "2.00/2.20"}, "2026-10-06 15:40": {CALL: "2.10/2.30"}}
        )
        self.assertEqual(self.told(history, "left"), [("06 15:40", "left", "x")])
        patient = self.told_by([{**rule, "as": "other"}], {"2026-10-05 15:55": {CALL: "2.00/2.20", PUT: "2.00/2.20"}})
        self.assertEqual(self.told(patient, "left"), [("05 15:55", "left", "x")])

    def test_one_leg_then_the_other_stops_at_its_entry(self) -> None:
        rule = when(
            {"measure": "leg_pnl", "leg": "p", "basis": "closable"}, "at least", 60,
            rule="leg_condition_stop", what="p", other="c",
        )  # fmt: skip
        history = self.told_by(
            [rule],
            {
                "2026-10-06 15:40": {CALL: "3.90/4.10", PUT: "2.10/2.30"}, "2026-10-06 15:50": {PUT: "1.80/2.00"},
                "2026-10-07 15:40": {CALL: "5.80/6.00"}, "2026-10-07 15:45": {CALL: "5.90/6.10"},
            },
        )  # fmt: skip
        self.assertEqual(
            self.told(history, "left", "stop moved"),
            [("06 15:50", "left", "x"), ("06 15:55", "stop moved", "x"), ("07 15:45", "left", "x")],
        )
        (trade,) = history.closed
        self.assertEqual(
            [(leg.leg_id, Fraction(leg.closed_parts, POINT)) for leg in trade.legs], [("p", 2), ("c", Fraction("6.10"))]
        )

    def test_one_leg_and_its_partner(self) -> None:
        rule = when(
            {"measure": "leg_price", "leg": "c"},
            "at least",
            9,
            rule="leg_condition_partner",
            what="c",
            other="p",
            **{"as": "loss"},
        )
        history = self.told_by([rule], {"2026-10-06 15:40": {CALL: "9.00/9.20"}})
        self.assertEqual(self.told(history, "left"), [("06 15:40", "left", "x"), ("06 15:45", "left", "x")])
        self.assertEqual(len(history.closed), 1)

    def test_a_share_of_the_lots_once(self) -> None:
        rule = when({"measure": "pnl", "unit": "premium"}, "at least", 20, rule="condition_share", percent=50)
        history = self.told_by([rule], {"2026-10-06 15:40": {CALL: "3.00/3.20", PUT: "3.00/3.20"}})
        self.assertEqual(self.told(history, "left"), [("06 15:40", "left", "x")])
        (trade,) = history.state.trades
        self.assertEqual([leg.contracts for leg in trade.legs], [-1, -1])

    def test_everything_and_enter_again_once(self) -> None:
        rule = when({"measure": "pnl"}, "at most", -200, rule="condition_again", **{"as": "loss"})
        history = self.told_by(
            [rule], {"2026-10-06 15:40": {CALL: "8.00/8.20"}, "2026-10-07 15:40": {CALL: "12.00/12.20"}}
        )
        self.assertEqual(
            self.told(history, "left", "entry", "no entry"),
            [
                ("05 15:45", "entry", "only-when"),
                ("06 15:40", "left", "x"),
                ("06 15:45", "entry", "x"),
                ("07 15:40", "left", "x"),
            ],
        )

    def test_a_markets_value_against_what_it_was_at_entry(self) -> None:
        since = {"measure": "scaled", "of": {"measure": "at_entry", "of": {"measure": "price"}}, "times": 1.01}
        history = self.told_by(
            [when({"measure": "price"}, "at least", since)],
            {},
            {"2026-10-06 15:40": 3130.99, "2026-10-06 15:45": 3131.0},
        )
        self.assertEqual(self.told(history, "left"), [("06 15:45", "left", "x")])
        moved = self.told_by([when({"measure": "move_since_entry"}, "at most", -1)], {}, {"2026-10-06 15:50": 3069.0})
        self.assertEqual(self.told(moved, "left"), [("06 15:50", "left", "x")])

    def test_a_distance_to_a_strike_needs_no_option_prices(self) -> None:
        rule = when({"measure": "leg_distance", "leg": "c"}, "at most", 0.5)
        history = self.told_by(
            [rule], {"2026-10-06 15:40": {CALL: "9.00/8.00"}}, {"2026-10-06 15:45": 3134.2, "2026-10-06 15:50": 3134.25}
        )
        self.assertEqual(
            self.told(history, "left"), [("06 15:50", "left", "x")], "3 150 less half a percent is 3 134.25"
        )

    def test_a_leg_that_is_gone_makes_its_condition_false(self) -> None:
        rules = [
            when(
                {"measure": "leg_pnl", "leg": "p", "basis": "closable"},
                "at least",
                60,
                id="first",
                rule="leg_condition",
                what="p",
            ),
            when({"measure": "leg_price", "leg": "p"}, "at most", 3, id="gone"),
        ]
        history = self.told_by(rules, {"2026-10-06 15:40": {PUT: "1.80/2.00"}})
        # both are true on one snapshot; the position comes before the leg
        self.assertEqual(self.told(history, "left"), [("06 15:40", "left", "gone")])
        later = self.told_by(
            [rules[0], {**rules[1], "is": "at least", "right": 8}],
            {"2026-10-05 15:55": {PUT: "1.80/2.00"}, "2026-10-06 15:40": {PUT: "9.00/9.20"}},
        )
        self.assertEqual(self.told(later, "left"), [("05 15:55", "left", "first")], "nobody holds the put any more")

    def test_an_unvalued_value_does_not_act(self) -> None:
        rule = when({"measure": "pnl"}, "at most", -100)
        history = self.told_by(
            [rule], {"2026-10-06 15:40": {CALL: "9.00/8.00", PUT: "9.00/9.20"}, "2026-10-06 15:50": {CALL: "6.00/6.20"}}
        )
        self.assertEqual(self.told(history, "left"), [("06 15:50", "left", "x")])

    def test_the_clock(self) -> None:
        history = self.told_by([when({"measure": "minutes_to_close"}, "at most", 100)], {})
        self.assertEqual(self.told(history, "left")[0][1:], ("left", "x"))


class EntriesOnValuesTest(ByHandCase):
    def entered(self, condition: dict[str, Any], spots: dict[str, float], **more: Any) -> list[tuple[str, str, str]]:
        timeline = timeline_of(
            session_chains(snapshots({"2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"}}, spots))
        )
        made = entry("only", [*self.STRANGLE], limit=9, **more)
        made["conditions"].append(condition)
        return self.told(self.run_all(strategy(made), timeline), "entry", "no entry")

    def test_a_crossing_within_the_session_is_true_on_the_snapshot_that_crosses(self) -> None:
        rule = when({"measure": "price"}, "crosses above", 3110)
        every = {"when": [{"id": "w", "rule": "every_minutes", "minutes": 5, "from": "15:40", "until": "15:50"}]}
        spots = {
            "2026-10-05 15:45": 3110.0,
            "2026-10-05 15:50": 3110.01,
            "2026-10-06 15:40": 3100,
            "2026-10-06 15:45": 3120,
        }
        found = self.entered(rule, spots, **every)
        self.assertEqual(
            [t for t in found if t[1] == "entry"], [("05 15:50", "entry", "w"), ("06 15:45", "entry", "w")]
        )

    def test_a_crossing_between_sessions_holds_all_session_and_is_acted_on_once(self) -> None:
        rule = when({"measure": "close_before"}, "crosses below", 3095)
        every = {"when": [{"id": "w", "rule": "every_minutes", "minutes": 5, "from": "15:40", "until": "15:50"}]}
        # the sessions close at 3100, 3090 and 3090: known at the third that it fell below
        found = self.entered(rule, {"2026-10-06 15:55": 3090}, **every)
        self.assertEqual([t for t in found if t[1] == "entry"], [("07 15:40", "entry", "w")])

    def test_against_another_value(self) -> None:
        rule = when({"measure": "price"}, "above", {"measure": "session_extreme", "which": "low"})
        found = self.entered(rule, {"2026-10-06 15:40": 3080, "2026-10-06 15:45": 3081})
        self.assertEqual(
            found, [("05 15:45", "no entry", "x"), ("06 15:45", "entry", "only-when"), ("07 15:45", "no entry", "x")]
        )

    def test_checks_on_what_was_picked(self) -> None:
        for left, comparison, right, enters in (
            ({"measure": "net_credit"}, "at least", 11, True), ({"measure": "net_credit"}, "above", 11, False),
            ({"measure": "leg_distance", "leg": "c"}, "at most", 1.6, True), ({"measure": "open_trades"}, "below", 1, True),
            ({"measure": "max_loss"}, "at most", 1000, False), ({"measure": "free_capital"}, "above", 400_000, True),
        ):  # fmt: skip
            timeline = timeline_of(
                session_chains(snapshots({"2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"}}))
            )
            document = strategy(entry("only", [*self.STRANGLE], checks=[when(left, comparison, right)]))
            if enters:
                self.assertEqual(self.told(self.run_all(document, timeline), "entry", "no entry")[0][1], "entry", left)
            else:
                with self.assertRaisesRegex(AssertionError, "nothing was tried"):
                    self.run_all(document, timeline)


class SizesTest(ByHandCase):
    def lots(self, size: dict[str, Any]) -> int:
        low, high = "2026-10-16/put/3000", "2026-10-16/call/3200"
        timeline = timeline_of(session_chains(snapshots({"2026-10-05 15:40": {
            CALL: "6.00/6.20", PUT: "5.00/5.20", low: "2.00/2.20", high: "3.00/3.20",
        }})))  # fmt: skip
        wings = [
            {"id": "lc", "rule": "leg", "side": "buy", "right": "call", "strike": {"pick": "points_from_leg", "leg": "c", "points": 50.0}, "expiry": {"pick": "same_as_leg", "leg": "c"}},
            {"id": "lp", "rule": "leg", "side": "buy", "right": "put", "strike": {"pick": "points_from_leg", "leg": "p", "points": 50.0}, "expiry": {"pick": "same_expiration"}},
        ]  # fmt: skip
        document = strategy(entry("only", [*self.STRANGLE, *wings]) | {"size": [size]})
        history = self.run_all(document, timeline)
        return history.intents[0].lots if history.intents else 0

    def test_by_maximum_loss_by_capital_and_in_money(self) -> None:
        # a condor of 50 wide for 11.00 − 5.40 = 5.60: a lot loses 44.40 at most, 2 220 EUR; equity is 500 000
        self.assertEqual(self.lots({"rule": "risk_share", "percent": 5.0, "most": 100}), 11)
        self.assertEqual(self.lots({"rule": "risk_share", "percent": 5.0, "most": 4}), 4)
        self.assertEqual(self.lots({"rule": "risk_money", "money": 4440, "most": 100}), 2)
        self.assertEqual(self.lots({"rule": "risk_money", "money": 4439.99, "most": 100}), 1)
        # capital at mid: 50 less the credit of 6.00 at mid is 44.00, 2 200 EUR
        self.assertEqual(self.lots({"rule": "capital_share", "percent": 4.3, "most": 100}), 9)
        self.assertEqual(self.lots({"rule": "capital_share", "percent": 4.4, "most": 100}), 10)

    def test_zero_lots_are_no_entry(self) -> None:
        with self.assertRaisesRegex(AssertionError, "nothing was tried"):
            self.lots({"rule": "risk_money", "money": 2000, "most": 100})


class DocumentTest(ByHandCase):
    def test_what_names_something_that_is_not_there_is_refused(self) -> None:
        for rule, path, words in (
            (when({"measure": "leg_price", "leg": "zz"}, "above", 1), "leave/0/left/leg", "no leg 'zz'"),
            (when({"measure": "price", "underlying": "OTHR"}, "above", 1), "leave/0/left/underlying", "no underlying of the strategy"),
            (when({"measure": "equity"}, "above", 1), "leave/0/left/measure", "speaks of a account"),
            (when({"measure": "pnl"}, "above", "much"), "leave/0/right", "is no value"),
        ):  # fmt: skip
            with self.assertRaises(DocumentError) as caught:
                strategy(entry("only", [*self.STRANGLE]), leave=[rule])
            found = {problem.path: problem.message for problem in caught.exception.problems}
            self.assertIn(words, found.get(path, ""), found)

    def test_how_it_reads(self) -> None:
        since = {"measure": "scaled", "of": {"measure": "at_entry", "of": {"measure": "price"}}, "times": 1.01}
        rules = [
            when({"measure": "pnl"}, "at most", -1500.5, **{"as": "loss"}),
            when({"measure": "price"}, "at least", since, id="y"),
            when(
                {"measure": "leg_pnl", "leg": "p"},
                "at least",
                60,
                id="z",
                rule="leg_condition_stop",
                what="p",
                other="c",
            ),
        ]
        document = strategy(entry("only", [*self.STRANGLE]), leave=rules)
        texts = [s.text for s in sheet(document).sentences if s.section == "leave"]
        self.assertEqual(
            texts,
            [
                "Close the position at the market when P/L at mid in money is at most −1\u00a0500.5.",
                "Close the position patiently when the underlying's price is at least 1.01 × the underlying's price, as it was at entry.",
                "Close leg 4 patiently when P/L of leg 4 at mid in % of its premium is at least 60; then leg 3 stops at its entry.",
            ],
        )
        tokens = {t.path: (t.text, t.family != "", t.of) for s in sheet(document).sentences for t in s.tokens if t.path}
        self.assertEqual(tokens["leave/0/right/value"], ("−1\u00a0500.5", True, "number"))
        self.assertEqual(tokens["leave/1/left/measure"], ("the underlying's price", True, "price"))
        self.assertEqual(tokens["leave/1/right/of/of/measure"][2], "price")
        self.assertEqual(normalise(document), document)


class FloorTest(ByHandCase):
    def test_a_floor_rises_in_steps_and_never_falls(self) -> None:
        rule = {"id": "x", "rule": "profit_floor", "start": 40, "floor": 20, "step": 20}
        # sold at 11.00: 40 % is 4.40, 60 % is 6.60; at 60 % the floor is 40 %, a P/L of 4.40
        timeline = timeline_of(session_chains(snapshots({
            "2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"},
            "2026-10-06 15:40": {CALL: "2.10/2.30", PUT: "2.05/2.25"},  # mid 4.35, +6.65
            "2026-10-06 15:45": {CALL: "4.35/4.55"},  # mid 6.60, +4.40
        })))  # fmt: skip
        once = {"when": [{"id": "w", "rule": "decision_times", "weekdays": ["mon"], "time": "15:45"}]}
        history = self.run_all(strategy(entry("only", [*self.STRANGLE], **once), leave=[rule]), timeline)
        self.assertEqual(self.told(history, "left"), [("06 15:45", "left", "x")])
        reason = next(r for r in history.reasons if r.kind == "left")
        self.assertEqual(reason.values["locked"], 40)


class RollsTest(ByHandCase):
    FURTHER = "2026-10-16/call/3250"

    def moved(
        self, rule: dict[str, Any], quotes: dict[str, dict[str, str]], spots: dict[str, float] | None = None
    ) -> Any:
        timeline = timeline_of(session_chains(snapshots({
            "2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20", "2026-10-16/call/3200": "2.00/2.20", self.FURTHER: "1.00/1.20",
                                 "2026-10-23/call/3150": "9.00/9.40", "2026-10-23/put/3050": "8.00/8.40"}, **quotes}, spots)))  # fmt: skip
        history = self.run_all(strategy(entry("only", [*self.STRANGLE], adjust=[{"id": "up", **rule}])), timeline)
        return history, [
            [(leg.contract.code.removeprefix("MK30/"), leg.contracts) for leg in o.legs]
            for o in history.intents
            if o.purpose == "adjust"
        ]

    def test_by_strikes_away_from_and_toward_the_money(self) -> None:
        near = when({"measure": "leg_distance", "leg": "c"}, "below", 1, rule="roll_strikes", what="c", strikes=2)
        history, orders = self.moved({**near, "id": "up"}, {}, {"2026-10-06 15:40": 3130, "2026-10-07 15:40": 3100})
        self.assertEqual(self.told(history, "moved"), [("06 15:45", "moved", "up")])
        self.assertEqual(orders, [[(CALL, 2), (self.FURTHER, -2)]])
        _, back = self.moved({**near, "id": "up", "is": "above", "where": "toward", "strikes": 1, "what": "c"}, {})
        self.assertEqual(back, [], "there is no lower strike")

    def test_strike_by_strike_until_it_holds(self) -> None:
        rule = when(
            {"measure": "price"}, "above", 3120, rule="roll_until", what="c", where="away",
            goal={"measure": "net_credit"}, goal_is="at most", goal_than=6.5,
        )  # fmt: skip
        # a credit of 6.00 + 5.00; with 3200 it is 2.00 + 5.00, with 3250 1.00 + 5.00
        _, orders = self.moved({**rule, "id": "up"}, {}, {"2026-10-06 15:40": 3125, "2026-10-07 15:40": 3100})
        self.assertEqual(orders, [[(CALL, 2), (self.FURTHER, -2)]])
        _, none = self.moved(
            {**rule, "id": "up", "goal_than": 5}, {}, {"2026-10-06 15:40": 3125, "2026-10-07 15:40": 3100}
        )
        self.assertEqual(none, [])

    def test_recentred_every_leg_moves_by_as_much(self) -> None:
        rule = when(
            {"measure": "leg_distance", "leg": "c"},
            "below",
            1,
            rule="recentre",
            what="c",
            value={"measure": "price"},
            within=0.1,
        )
        # the call at 3150 is brought to 3200, and the put at 3050 as far, to 3100
        quotes = {
            "2026-10-05 15:40": {
                CALL: "6.00/6.20",
                PUT: "5.00/5.20",
                FAR: "2.00/2.20",
                "2026-10-16/put/3100": "9.00/9.20",
            }
        }
        spots = {"2026-10-06 15:40": 3190, "2026-10-07 15:40": 3100}
        _, orders = self.moved({**rule, "id": "up"}, quotes, spots)
        self.assertEqual(orders[0], [(CALL, 2), (FAR, -2), (PUT, 2), ("2026-10-16/put/3100", -2)])
        # what has no strike near enough stays, and the rest with it
        quotes["2026-10-05 15:40"].pop("2026-10-16/put/3100")
        _, none = self.moved(
            {**rule, "id": "up"},
            {"2026-10-05 15:40": {**quotes["2026-10-05 15:40"], "2026-10-16/put/3090": "8.00/8.20"}},
            spots,
        )
        self.assertEqual(none, [])
        _, near = self.moved(
            {**rule, "id": "up", "within": 0.4},
            {"2026-10-05 15:40": {**quotes["2026-10-05 15:40"], "2026-10-16/put/3090": "8.00/8.20"}},
            spots,
        )
        self.assertEqual(near[0], [(CALL, 2), (FAR, -2), (PUT, 2), ("2026-10-16/put/3090", -2)])

    def test_out_in_time_at_the_same_strikes(self) -> None:
        rule = when({"measure": "days_to_expiration"}, "at most", 10, rule="roll_out", days=7)
        _, orders = self.moved({**rule, "id": "up"}, {})
        self.assertEqual(orders, [[(CALL, 2), ("2026-10-23/call/3150", -2), (PUT, 2), ("2026-10-23/put/3050", -2)]])


class TwoUnderlyingsTest(ByHandCase):
    def test_a_statistic_of_both_counts_the_sessions_of_the_one_that_is_traded(self) -> None:
        main = timeline_of(session_chains(snapshots({"2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"}})))
        later = [item for item in snapshots({"2026-10-05 15:40": {CALL: "6.00/6.20"}}) if item["at"] >= "2026-10-06"]
        other = timeline_of(session_chains(later))
        of = {
            "measure": "difference", "first": {"measure": "price"}, "second": {"measure": "price", "underlying": "OTHR"},
        }  # fmt: skip
        value = values.normal({"measure": "statistic", "which": "average", "of": of, "sessions": 2})
        market = Market(main, {"OTHR": other})
        last = len(main.times) - 1
        found = values.over(value, Frame(market, 0, last + 1, "MK30"))
        self.assertTrue(np.isnan(found).all(), "the other has no session on the first day, so no window is full")
        self.assertEqual(values.by_session(of | {"measure": "difference"}, market, "MK30").tolist()[1:], [0.0, 0.0])

    def test_a_pick_that_names_an_underlying_that_is_not_there_is_refused(self) -> None:
        level = {"pick": "at_value", "value": {"measure": "price", "underlying": "OTHR"}}
        legs = [{**self.STRANGLE[0], "strike": level}]
        with self.assertRaises(DocumentError) as caught:
            strategy(entry("only", legs))
        self.assertEqual([p.path for p in caught.exception.problems], ["entries/0/legs/0/strike/value/underlying"])

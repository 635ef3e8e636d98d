"""The engine by rules of its own: exits of legs and what follows them, adjustments, several entries, a second
underlying, measures within the session. Each by hand, in steps and blocks, cut anywhere."""

from __future__ import annotations

import dataclasses
from decimal import Decimal
from fractions import Fraction

from strell_core.formats import cubes
from strell_core.market.calendars import marrowick
from strell_core.market.market import Market, Observation
from strell_core.measures import frames
from strell_core.measures.frames import Frame
from strell_core.scenario.generator import MK30
from strell_core.strategy import kinds
from strell_core.strategy.actions import Close, CloseAlso, Reenter
from strell_core.strategy.sentences import sheet
from tests.engine.byhand import CALL, FAR, POINT, PUT, ByHandCase, entry, known, leg, snapshots, strategy
from tests.engine.coming.leg_target import EXIT
from tests.engine.coming.other_above import CONDITION
from tests.engine.coming.roll_short import ADJUSTMENT
from tests.engine.coming.session_move import MEASURE
from tests.handmade import session_chains, timeline_of


class ComingTest(ByHandCase):
    def test_an_exit_of_one_leg_moves_the_stop_of_the_other(self) -> None:
        rule = {"id": "x", "rule": "leg_target", "leg": "p", "other": "c", "percent": 60}
        timeline = timeline_of(session_chains(snapshots({
            "2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"},
            "2026-10-06 15:40": {CALL: "3.90/4.10", PUT: "2.10/2.30"},  # 5.00 - 2.30 = 54 %
            "2026-10-06 15:50": {PUT: "1.80/2.00"},  # 60 %
            "2026-10-07 15:40": {CALL: "5.80/6.00"},  # mid 5.90: below what it was sold for
            "2026-10-07 15:45": {CALL: "5.90/6.10"},  # mid 6.00: reached
        })))  # fmt: skip
        with known(kinds.exits, EXIT):
            document = strategy(entry("only", [*self.STRANGLE]), leave=[rule])
            history = self.run_all(document, timeline)
        self.assertEqual(
            self.told(history, "left", "stop moved"),
            [("06 15:50", "left", "x"), ("06 15:55", "stop moved", "x"), ("07 15:45", "left", "x")],
        )
        (trade,) = history.closed
        self.assertEqual(
            [(leg.leg_id, Fraction(leg.closed_parts, POINT)) for leg in trade.legs], [("p", 2), ("c", Fraction("6.10"))]
        )
        self.assertEqual(
            [(order.type, order.urgency) for order in history.intents[1:]], [("limit", "patient"), ("market", "now")]
        )
        # two lots: (5.00 - 2.00) and (6.00 - 6.10), 50 EUR a point, and 8 contracts at 0.80
        self.assertEqual(trade.pnl, 2 * 50 * (Decimal("3.00") - Decimal("0.10")) - Decimal("6.40"))

    def test_stops_of_several_legs_stand_beside_one_another_and_a_new_one_replaces_its_own(self) -> None:
        legs = [*self.STRANGLE, leg("b", "call", 3200), leg("z", "put", 3000)]
        rules = [
            {"id": f"{key}-{other}", "rule": "leg_target", "leg": key, "other": other, "percent": 50}
            for key, other in (("c", "z"), ("p", "b"))
        ]
        low = "2026-10-16/put/3000"
        timeline = timeline_of(session_chains(snapshots({
            "2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20", FAR: "2.00/2.20", low: "3.00/3.20"},
            "2026-10-06 15:40": {CALL: "1.00/1.20", low: "2.00/2.20", FAR: "1.00/1.20"},
            "2026-10-06 15:50": {PUT: "1.00/1.20"},
            "2026-10-07 15:45": {low: "2.90/3.10"},
            "2026-10-07 15:50": {FAR: "1.90/2.10"},
        })))  # fmt: skip
        with known(kinds.exits, EXIT):
            history = self.run_all(strategy(entry("only", legs), leave=rules), timeline)
        self.assertEqual(
            self.told(history, "left", "stop moved"),
            [
                ("06 15:40", "left", "c-z"), ("06 15:45", "stop moved", "c-z"), ("06 15:50", "left", "p-b"),
                ("06 15:55", "stop moved", "p-b"), ("07 15:45", "left", "c-z"), ("07 15:50", "left", "p-b"),
            ],
        )  # fmt: skip
        (trade,) = history.closed
        self.assertEqual([leg.leg_id for leg in trade.legs], ["c", "p", "z", "b"])

    def test_a_stop_that_was_moved_is_looked_for_at_once(self) -> None:
        """Blocks had looked ahead for what else could happen to the trade before its call was gone."""
        rule = {"id": "x", "rule": "leg_target", "leg": "c", "other": "p", "percent": 60}
        timeline = timeline_of(session_chains(snapshots({
            "2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"},
            "2026-10-06 15:40": {CALL: "2.10/2.40", PUT: "4.60/4.80"},
            "2026-10-07 15:40": {PUT: "4.90/5.10"},
        })))  # fmt: skip
        with known(kinds.exits, EXIT):
            history = self.run_all(strategy(entry("only", [*self.STRANGLE]), leave=[rule]), timeline)
        self.assertEqual(
            self.told(history, "left", "stop moved"),
            [("06 15:40", "left", "x"), ("06 15:45", "stop moved", "x"), ("07 15:40", "left", "x")],
        )

    def test_exits_of_different_legs_act_together_and_of_one_leg_the_first_alone(self) -> None:
        rules = [
            {"id": key, "rule": "leg_target", "leg": leg_id, "other": "c" if leg_id == "p" else "p", "percent": percent}
            for key, leg_id, percent in (("c1", "c", 50), ("c2", "c", 40), ("p1", "p", 50))
        ]
        timeline = timeline_of(session_chains(snapshots({
            "2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"},
            "2026-10-06 15:50": {CALL: "1.00/1.20", PUT: "1.00/1.20"},
        })))  # fmt: skip
        with known(kinds.exits, dataclasses.replace(EXIT, then=lambda params: ())):
            history = self.run_all(strategy(entry("only", [*self.STRANGLE]), leave=rules), timeline)
        left = [r for r in history.reasons if r.kind == "left"]
        self.assertEqual([(r.rule, r.values["also"]) for r in left], [("c1", ["c2"]), ("p1", ["c2"])])
        told = [(o.rule, [x.leg_id for x in o.legs]) for o in history.intents if o.purpose == "close"]
        self.assertEqual(told, [("c1", ["c"]), ("p1", ["p"])])

    def test_an_exit_of_the_position_leaves_a_leg_to_the_order_that_closes_it_until_that_is_gone(self) -> None:
        rules = [
            {"id": "x", "rule": "leg_target", "leg": "p", "other": "c", "percent": 60},
            {"id": "all", "rule": "before_expiration", "days": 9, "time": "15:40"},
        ]
        timeline = timeline_of(session_chains(snapshots({
            "2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"},
            "2026-10-06 15:55": {PUT: "1.80/2.00"},
            "2026-10-07 15:40": {PUT: "2.00/1.80"},  # a quote nobody can deal at
            "2026-10-07 15:50": {PUT: "1.90/2.10"},
        })))  # fmt: skip
        with known(kinds.exits, EXIT):
            history = self.run_all(strategy(entry("only", [*self.STRANGLE]), leave=rules), timeline)
        self.assertEqual(
            [(o.rule, [x.leg_id for x in o.legs]) for o in history.intents[1:]], [("x", ["p"]), ("all", ["c"])]
        )
        (trade,) = history.closed
        closed = {
            x.leg_id: (marrowick().local(x.closed_at).strftime("%d %H:%M"), Fraction(x.closed_parts, POINT))
            for x in trade.legs
        }
        self.assertEqual(closed, {"c": ("07 15:45", Fraction("6.20")), "p": ("07 15:50", Fraction("2.10"))})

    def test_a_partner_leg_is_closed_and_the_entry_made_again_once(self) -> None:
        both = dataclasses.replace(EXIT, then=lambda params: (CloseAlso(params["other"]), Reenter()))
        rule = {"id": "x", "rule": "leg_target", "leg": "p", "other": "c", "percent": 60}
        timeline = timeline_of(session_chains(snapshots({
            "2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"},
            "2026-10-06 15:40": {PUT: "1.80/2.00"},
        })))  # fmt: skip
        with known(kinds.exits, both):
            history = self.run_all(strategy(entry("only", [*self.STRANGLE], limit=2), leave=[rule]), timeline)
        self.assertEqual(
            self.told(history, "left", "entry", "no entry"),
            [
                ("05 15:45", "entry", "only-when"), ("06 15:40", "left", "x"), ("06 15:45", "left", "x"),
                ("06 15:45", "entry", "x"), ("06 15:45", "no entry", "s1"), ("07 15:45", "entry", "only-when"),
            ],
        )  # fmt: skip
        again = [r for r in history.reasons if r.kind == "entry" and r.rule == "x"]
        self.assertEqual([r.values["reentry"] for r in again], [1], "once, however often the exit acts")
        self.assertEqual({t.number: t.reentries for t in history.state.trades}[again[0].trade], 1)

    def test_a_share_of_the_lots_leaves_once_and_the_rest_stays(self) -> None:
        half = dataclasses.replace(EXIT, closes=lambda params: Close(share=Fraction(1, 2)), then=lambda params: ())
        rule = {"id": "x", "rule": "leg_target", "leg": "p", "other": "c", "percent": 60}
        timeline = timeline_of(session_chains(snapshots({
            "2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"},
            "2026-10-06 15:40": {CALL: "1.80/2.00", PUT: "1.80/2.00"},
        })))  # fmt: skip
        with known(kinds.exits, half):
            history = self.run_all(strategy(entry("only", [*self.STRANGLE]), leave=[rule]), timeline)
        self.assertEqual(self.told(history, "left"), [("06 15:40", "left", "x")])
        (trade,) = history.state.trades
        self.assertEqual([(leg.leg_id, leg.contracts) for leg in trade.legs], [("c", -1), ("p", -1)])

    def test_what_is_left_of_three_lots_leaves_in_two(self) -> None:
        third = dataclasses.replace(EXIT, closes=lambda params: Close(share=Fraction(2, 5)), then=lambda params: ())
        rules = [
            {"id": "some", "rule": "leg_target", "leg": "p", "other": "c", "percent": 60},
            {"id": "all", "rule": "before_expiration", "days": 9, "time": "15:45"},
        ]
        timeline = timeline_of(session_chains(snapshots({
            "2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"},
            "2026-10-06 15:40": {CALL: "1.80/2.00", PUT: "1.80/2.00"},
        })))  # fmt: skip
        with known(kinds.exits, third):
            three = entry("only", [*self.STRANGLE]) | {"size": [{"rule": "fixed_lots", "lots": 3}]}
            history = self.run_all(strategy(three, leave=rules), timeline)
        self.assertEqual(
            [(order.rule, order.lots, [leg.contracts for leg in order.legs]) for order in history.intents[1:]],
            [("some", 1, [1, 1]), ("all", 2, [2, 2])],
        )
        (trade,) = history.closed
        self.assertEqual(trade.lots, 3)

    def test_half_of_four_lots_is_two(self) -> None:
        half = dataclasses.replace(EXIT, closes=lambda params: Close(share=Fraction(1, 2)), then=lambda params: ())
        rule = {"id": "x", "rule": "leg_target", "leg": "p", "other": "c", "percent": 60}
        timeline = timeline_of(session_chains(snapshots({
            "2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"},
            "2026-10-06 15:40": {CALL: "1.80/2.00", PUT: "1.80/2.00"},
        })))  # fmt: skip
        with known(kinds.exits, half):
            four = entry("only", [*self.STRANGLE]) | {"size": [{"rule": "fixed_lots", "lots": 4}]}
            history = self.run_all(strategy(four, leave=[rule]), timeline)
        order = history.intents[1]
        self.assertEqual((order.lots, [leg.contracts for leg in order.legs]), (2, [2, 2]))
        self.assertEqual([leg.contracts for leg in history.state.trades[0].legs], [-2, -2])

    def test_a_roll_into_what_nobody_bids_for_is_not_dealt(self) -> None:
        rule = {"id": "up", "rule": "roll_short", "leg": "c", "level": 3120}
        timeline = timeline_of(session_chains(snapshots(
            {
                "2026-10-05 15:40": {CALL: "6.00/6.20", FAR: "2.00/2.20", PUT: "5.00/5.20"},
                "2026-10-06 15:40": {CALL: "9.00/9.40", FAR: "0.00/0.20", PUT: "3.00/3.20"},
            },
            {"2026-10-06 15:40": 3125, "2026-10-07 15:40": 3110},
        )))  # fmt: skip
        with known(kinds.adjustments, ADJUSTMENT):
            history = self.run_all(strategy(entry("only", [*self.STRANGLE], adjust=[rule])), timeline)
        self.assertEqual(
            self.told(history, "moved", "lapsed"), [("06 15:45", "moved", "up"), ("06 15:55", "lapsed", "up")]
        )
        (trade,) = history.state.trades
        self.assertEqual([leg.contract.strike for leg in trade.legs], [3150, 3050])

    def test_a_floor_in_percent_of_nothing_is_none(self) -> None:
        """What was opened for no premium has no percent of it."""
        timeline = timeline_of(session_chains(snapshots({
            "2026-10-05 15:40": {CALL: "5.00/5.20", PUT: "4.80/5.00"},
            "2026-10-06 15:40": {CALL: "2.00/2.20"},
            "2026-10-06 15:50": {CALL: "8.00/8.20"},
        })))  # fmt: skip
        legs = [leg("c", "call", 3150, first=True), leg("p", "put", 3050, side="buy")]
        document = strategy(entry("only", legs), leave=[{"id": "floor", "rule": "profit_floor"}])
        history = self.run_all(document, timeline)
        (trade,) = history.state.trades
        self.assertEqual((trade.opening, self.told(history, "left")), (0, []))

    def test_an_adjustment_rolls_a_leg_as_one_order(self) -> None:
        rule = {"id": "up", "rule": "roll_short", "leg": "c", "level": 3120}
        timeline = timeline_of(session_chains(snapshots(
            {
                "2026-10-05 15:40": {CALL: "6.00/6.20", FAR: "2.00/2.20", PUT: "5.00/5.20"},
                "2026-10-06 15:40": {CALL: "9.00/9.40", FAR: "4.00/4.20", PUT: "3.00/3.20"},
            },
            {"2026-10-06 15:40": 3125, "2026-10-07 15:40": 3110},
        )))  # fmt: skip
        with known(kinds.adjustments, ADJUSTMENT):
            document = strategy(entry("only", [*self.STRANGLE], adjust=[rule]))
            self.assertIn("adjust", [block.section for block in sheet(document).blocks])
            history = self.run_all(document, timeline)
        self.assertEqual(self.told(history, "moved"), [("06 15:45", "moved", "up")])
        order = history.intents[1]
        self.assertEqual([(item.contract.strike, item.contracts) for item in order.legs], [(3150, 2), (3200, -2)])
        (trade,) = history.state.trades
        self.assertEqual(
            [(held.leg_id, held.contract.strike, held.contracts) for held in trade.legs],
            [("c", 3200, -2), ("p", 3050, -2)],
        )
        self.assertEqual([gone.how for gone in trade.closed_legs], ["adjustment"])
        # bought back at 9.40, sold at 4.00: the trade has lost 3.40 on the first call
        self.assertEqual(Fraction(trade.realised, POINT), 2 * Fraction("-3.40"))
        self.assertEqual(Fraction(trade.opening, POINT), 2 * 11, "the opening premium stays that of the entry")

    def test_two_entries_each_with_its_own_times_legs_and_exits(self) -> None:
        timeline = timeline_of(session_chains(snapshots({
            "2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"},
            "2026-10-06 15:50": {CALL: "2.80/3.00", PUT: "2.30/2.50"},  # half of both credits
        })))  # fmt: skip
        calls = entry(
            "calls", [leg("c", "call", 3150, first=True)], "15:45", 9, leave=[{"id": "t", "rule": "credit_target"}]
        )
        puts = entry("puts", [leg("p", "put", 3050, first=True)], "15:50", 1)
        history = self.run_all(strategy(calls, puts), timeline)
        self.assertEqual(
            self.told(history, "entry", "left", "no entry")[:5],
            [
                ("05 15:45", "entry", "calls-when"), ("05 15:50", "no entry", "s3"), ("06 15:45", "entry", "calls-when"),
                ("06 15:50", "left", "t"), ("06 15:50", "no entry", "s3"),
            ],
        )  # fmt: skip
        self.assertEqual({trade.entry for trade in history.closed}, {"calls"})
        self.assertEqual(
            [block.title for block in sheet(strategy(calls, puts)).blocks][:2], ["Enter: calls", "Legs: calls"]
        )

    def test_a_condition_on_a_second_underlying_and_a_measure_within_the_session(self) -> None:
        chains = session_chains(snapshots({"2026-10-05 15:40": {CALL: "6.00/6.20"}}))
        main = timeline_of(chains)
        other = session_chains(snapshots(
            {"2026-10-05 15:40": {CALL: "6.00/6.20"}},
            {"2026-10-05 15:40": 200.0, "2026-10-05 15:45": 200.8, "2026-10-06 15:40": 200.0, "2026-10-06 15:45": 201.2},
        ))[:2]  # fmt: skip
        second = cubes.in_memory(other, dataclasses.replace(MK30, symbol="OTHR"), marrowick(), "other")
        market = Market(main, {"OTHR": second})
        self.assertEqual(MEASURE.at(Observation(market, 1), {}, "OTHR"), 0.4)
        self.assertEqual(MEASURE.over(Frame(market, 4, 8, "OTHR"), {}).tolist(), [0.0, 0.6, 0.6, 0.6])
        with known(kinds.enter_conditions, CONDITION):
            rule = {"id": "o", "rule": "other_above", "of": "OTHR", "percent": 0.5}
            raw = entry("only", [leg("c", "call", 3150, first=True)], limit=9)
            raw["conditions"].append(rule)
            history = self.run_all(strategy(raw, underlyings=("MK30", "OTHR")), market)
        self.assertEqual(
            [(r.kind, r.rule, r.truth, r.values.get("move")) for r in history.reasons if r.kind in ("entry", "no entry")],
            [
                ("no entry", "o", frames.FALSE, 0.4), ("entry", "only-when", frames.TRUE, None),
                ("no entry", "o", frames.UNVALUED, None),
            ],
        )  # fmt: skip

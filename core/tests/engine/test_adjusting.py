"""When adjustments are looked at, what goes with them, and how many contracts they come to: by hand, in steps and blocks."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from strell_core.engine.advance import advance
from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_steps
from strell_core.engine.state import Fill
from strell_core.market.market import Observation
from strell_core.strategy.document import DocumentError, normalise, parse
from strell_core.strategy.sentences import sheet
from tests.engine.byhand import CALL, CASH, FAR, POINT, PUT, ByHandCase, entry, leg, price_is, snapshots, strategy
from tests.handmade import session_chains, timeline_of

HIGHER, LOWER = "2026-10-16/call/3250", "2026-10-16/put/3000"
QUOTES = {CALL: "6.00/6.20", FAR: "2.00/2.20", HIGHER: "1.00/1.20", PUT: "5.00/5.20", LOWER: "3.00/3.20"}
ALWAYS = {"left": {"measure": "price"}, "is": "above", "right": 1}
UP = {"2026-10-06 15:40": 3125.0}
"""The price is above 3120 from the second session on."""
ABOVE = {"left": {"measure": "price"}, "is": "above", "right": 3120}
MONDAY = {"when": [{"id": "only-when", "rule": "decision_times", "weekdays": ["mon"], "time": "15:45"}]}

LEAVES_PUT = {"id": "out", "rule": "leg_condition", "what": "p", **price_is("p", "below", 3)}
LEAVES_CALL = {"id": "out", "rule": "leg_condition", "what": "c", **price_is("c", "above", 9)}


class AdjustingCase(ByHandCase):
    def adjusted(
        self, *adjust: dict[str, Any], quotes: dict[str, dict[str, str]] | None = None, spots: dict[str, float] = UP,
        legs: Any = ByHandCase.STRANGLE, **more: Any,
    ) -> Any:  # fmt: skip
        first = {"2026-10-05 15:40": QUOTES}
        timeline = timeline_of(session_chains(snapshots({**first, **(quotes or {})}, spots)))
        of_entry = {key: more.pop(key) for key in ("when", "size") if key in more}
        document = strategy(entry("only", [*legs], **of_entry), adjust=[*adjust], **more)
        return self.run_all(document, timeline)

    @staticmethod
    def orders(history: Any) -> list[list[tuple[str, int]]]:
        return [
            [(leg.contract.code.removeprefix("MK30/"), leg.contracts) for leg in order.legs]
            for order in history.intents
            if order.purpose == "adjust"
        ]


def roll(key: str = "up", what: str = "c", **more: Any) -> dict[str, Any]:
    return {"id": key, "rule": "roll_strikes", "what": what, "strikes": 1, **ABOVE, **more}


class LooksTest(AdjustingCase):
    def test_without_a_word_it_is_looked_at_when_the_entry_is(self) -> None:
        history = self.adjusted(roll())
        self.assertEqual(
            self.told(history, "moved"), [("06 15:45", "moved", "up"), ("07 15:45", "moved", "up")], "once a session"
        )
        self.assertEqual(self.told(self.adjusted(roll(), **MONDAY), "moved"), [])

    def test_at_a_time_of_its_own(self) -> None:
        history = self.adjusted(roll(daily="15:50"), **MONDAY)
        self.assertEqual(self.told(history, "moved"), [("06 15:50", "moved", "up"), ("07 15:50", "moved", "up")])

    def test_on_every_snapshot(self) -> None:
        history = self.adjusted(
            roll(upon="every"), spots={"2026-10-06 15:50": 3125, "2026-10-06 15:55": 3100}, **MONDAY
        )
        self.assertEqual(self.told(history, "moved"), [("06 15:50", "moved", "up")])
        self.assertEqual(self.orders(history), [[(CALL, 2), (FAR, -2)]])

    def test_on_every_snapshot_it_still_acts_once_a_session_and_when_the_next_begins(self) -> None:
        history = self.adjusted(roll(upon="every"), **MONDAY)
        self.assertEqual(self.told(history, "moved"), [("06 15:40", "moved", "up"), ("07 15:40", "moved", "up")])
        self.assertEqual(self.orders(history), [[(CALL, 2), (FAR, -2)], [(FAR, 2), (HIGHER, -2)]])

    def test_as_soon_as_a_leg_is_closed(self) -> None:
        falls = {"2026-10-06 15:40": {PUT: "2.00/2.20"}}
        history = self.adjusted(roll(upon="closed", **ALWAYS), quotes=falls, leave=[LEAVES_PUT], **MONDAY)
        self.assertEqual(
            self.told(history, "left", "moved"), [("06 15:40", "left", "out"), ("06 15:45", "moved", "up")]
        )
        # what happens on a session's last snapshot is looked at in the next one too: nothing could be dealt any more
        late = {"2026-10-06 15:50": {PUT: "2.00/2.20"}}
        history = self.adjusted(roll(upon="closed", **ALWAYS), quotes=late, leave=[LEAVES_PUT], **MONDAY)
        self.assertEqual(
            self.told(history, "moved", "lapsed"),
            [("06 15:55", "moved", "up"), ("06 15:55", "lapsed", "up"), ("07 15:40", "moved", "up")],
        )
        for other in ("expired", "delivered"):
            history = self.adjusted(roll(upon=other, **ALWAYS), quotes=falls, leave=[LEAVES_PUT], **MONDAY)
            self.assertEqual(self.told(history, "moved"), [])

    def test_it_waits_through_the_session_for_quotes_it_can_use(self) -> None:
        crossed = {CALL: "6.00/6.20", FAR: "9.00/2.20", HIGHER: "9.00/1.20"}
        quotes = {"2026-10-06 15:40": {PUT: "2.00/2.20", **crossed}, "2026-10-06 15:50": {FAR: "2.00/2.20"}}
        history = self.adjusted(roll(upon="gone", **ALWAYS), quotes=quotes, leave=[LEAVES_PUT], **MONDAY)
        self.assertEqual(self.told(history, "moved"), [("06 15:50", "moved", "up")])

    def test_as_soon_as_a_leg_has_expired(self) -> None:
        near = "2026-10-06/put/3050"
        legs = [
            leg("p", "put", 3050, expiry={"pick": "nearest_days", "days": 1, "from": 0, "to": 3}),
            leg("c", "call", 3150, expiry={"pick": "nearest_days", "days": 11, "from": 8, "to": 20}),
        ]
        found = {}
        for upon in ("expired", "closed"):
            quotes = {"2026-10-05 15:40": {**QUOTES, near: "1.00/1.20"}}
            found[upon] = self.adjusted(roll(upon=upon, **ALWAYS), quotes=quotes, legs=legs, **MONDAY)
        self.assertEqual(self.told(found["expired"], "settled", "moved")[0][1], "settled")
        self.assertEqual(self.told(found["expired"], "moved"), [("07 15:40", "moved", "up")])
        self.assertEqual(self.told(found["closed"], "moved"), [])

    def test_an_exit_of_a_leg_overtakes_an_adjustment_that_waits_for_quotes(self) -> None:
        """Both would close the call: only one may."""
        crossed = {FAR: "9.00/2.20", CALL: "9.50/9.70"}
        quotes = {"2026-10-06 15:45": crossed, "2026-10-06 15:50": {FAR: "2.00/2.20"}}
        history = self.adjusted(roll(daily="15:40", **ALWAYS), quotes=quotes, leave=[LEAVES_CALL], **MONDAY)
        self.assertEqual(
            self.told(history, "moved", "left", "filled")[-4:],
            [
                ("05 15:50", "filled", "only-when"),
                ("06 15:40", "moved", "up"),
                ("06 15:45", "left", "out"),
                ("06 15:50", "filled", "out"),
            ],
        )
        (trade,) = history.state.trades
        self.assertEqual([(leg.leg_id, leg.contracts) for leg in trade.legs], [("p", -2)])

    def test_what_an_adjustment_dealt_in_before_it_ended_is_not_closed_again(self) -> None:
        """A market may have dealt a part of it before it was withdrawn."""
        quotes = {
            "2026-10-05 15:40": QUOTES,
            "2026-10-06 15:45": {FAR: "9.00/2.20", CALL: "9.50/9.70"},
            "2026-10-06 15:50": {FAR: "2.00/2.20"},
        }
        timeline = timeline_of(session_chains(snapshots(quotes, UP)))
        document = strategy(
            entry("only", [*self.STRANGLE], **MONDAY), adjust=[roll(daily="15:40", **ALWAYS)], leave=[LEAVES_CALL]
        )
        plan = make_plan(parse(document), timeline)
        state = run_steps(plan, timeline, 0, 6, CASH).state
        adjusts, closes = state.orders
        self.assertEqual((adjusts.ending, closes.ending), (True, False))
        at = Observation(timeline, 6)
        for lots, left in ((1, [1]), (2, [])):
            prices = tuple(10 * POINT for _ in adjusts.legs)
            dealt = Fill(adjusts.id, at.instant, prices, Decimal(0), lots, ended=True)
            after = advance(plan, state, at, [dealt]).state
            self.assertEqual([leg.contracts for order in after.orders for leg in order.legs], left)
            self.assertEqual(sum(leg.contracts for leg in after.trades[0].legs), -4)


class TogetherTest(AdjustingCase):
    FAR_CALL = {"left": {"measure": "leg_distance", "leg": "c"}, "is": "above", "right": 2}
    """At 3125 the call at 3150 is 0.8 % away, the one at 3200 is 2.4 %."""

    def test_the_next_one_is_judged_on_the_position_as_it_would_be(self) -> None:
        second = roll("down", "p", where="away", **self.FAR_CALL)
        alone = self.adjusted(second, when=MONDAY["when"])
        self.assertEqual(self.orders(alone), [], "by itself it does not apply")
        history = self.adjusted(roll(further="may", daily="15:45"), second, **MONDAY)
        self.assertEqual(self.orders(history)[0], [(CALL, 2), (FAR, -2), (PUT, 2), (LOWER, -2)])
        (first,) = [r for r in history.reasons if r.kind == "moved"][:1]
        self.assertEqual((first.rule, len(first.values["contracts"])), ("up", 4))
        (trade,) = history.state.trades
        self.assertEqual(trade.adjustments, 2, "one order each session")

    def test_where_the_next_does_not_apply_the_first_is_alone_or_nothing(self) -> None:
        never = roll("down", "p", left={"measure": "leg_distance", "leg": "c"}, **{"is": "above", "right": 50})
        for further, orders in (("may", [(CALL, 2), (FAR, -2)]), ("must", None)):
            history = self.adjusted(roll(further=further), never)
            self.assertEqual(self.orders(history)[:1], [orders] if orders else [])

    def test_together_or_not_at_all(self) -> None:
        second = roll("down", "p", where="away", **self.FAR_CALL)
        history = self.adjusted(roll(further="must"), second)
        self.assertEqual(self.orders(history)[0], [(CALL, 2), (FAR, -2), (PUT, 2), (LOWER, -2)])
        self.assertEqual(self.orders(self.adjusted(roll(further="must"))), [], "there is no next one")

    def test_what_one_step_opens_and_the_next_closes_is_not_dealt(self) -> None:
        history = self.adjusted(roll(further="may"), roll("on", **self.FAR_CALL))
        self.assertEqual(self.orders(history)[0], [(CALL, 2), (HIGHER, -2)])

    def test_what_is_provided_is_asked_of_all_of_it(self) -> None:
        # as it would be a lot brings 2.00 and 5.00, with the put rolled 2.00 and 3.00
        for least, ordered in ((7.1, False), (6.9, True)):
            provided = {"left": {"measure": "net_credit"}, "is": "at least", "right": least}
            history = self.adjusted(roll(provided=provided))
            self.assertEqual(bool(self.orders(history)), ordered, least)
            both = self.adjusted(
                roll(provided=provided, further="may"), roll("down", "p", where="away", **self.FAR_CALL)
            )
            self.assertEqual(self.told(both, "moved")[:1], [], "with the put 5.00 is not enough")

    def test_a_first_that_may_not_leaves_the_next_to_be_asked(self) -> None:
        provided = {"left": {"measure": "net_credit"}, "is": "at least", "right": 100}
        history = self.adjusted(roll(provided=provided), roll("down", "p", where="away"))
        self.assertEqual(self.told(history, "moved")[0], ("06 15:45", "moved", "down"))

    def test_how_it_reads(self) -> None:
        provided = {"left": {"measure": "net_credit"}, "is": "at least", "right": 7}
        rule = roll(provided=provided, further="may", otherwise="close", daily="10:00", upon="gone")
        document = strategy(entry("only", [*self.STRANGLE]), adjust=[rule])
        text = next(s.text for s in sheet(document).sentences if s.id == "up")
        self.assertEqual(
            text,
            "When the underlying's price is above 3\u00a0120, roll leg 3 1 strike away from the money and then the next adjustment, "
            "provided that then the net credit at bid and ask is at least 7 or else close the position, looked at every day at 10:00, "
            "looked at as soon as a leg is gone.",
        )


class PickedAnewTest(AdjustingCase):
    def test_a_leg_goes_to_what_its_own_sentence_picks_now(self) -> None:
        # 1.6 % above 3150 is the call at 3200; the put 1.6 % below it is at 3100, which nobody quotes
        rule = {"id": "anew", "rule": "roll_anew", "what": "c", **ABOVE}
        history = self.adjusted(rule, spots={"2026-10-06 15:40": 3150.0})
        self.assertEqual(self.orders(history), [[(CALL, 2), (FAR, -2)]], "and stays where it is then picked")
        self.assertEqual(self.orders(self.adjusted({**rule, "what": "p"}, spots={"2026-10-06 15:40": 3125.0})), [])

    def test_a_leg_is_closed_as_a_step_and_another_opened(self) -> None:
        later = leg("wing", "put", 3000, rule="later_leg", side="buy")
        close = {"id": "off", "rule": "close_leg", "what": "p", **ABOVE, "further": "must"}
        opens = {
            "id": "on",
            "rule": "open_leg",
            "what": "wing",
            "left": {"measure": "leg_contracts", "leg": "c"},
            "is": "below",
            "right": 0,
        }
        history = self.adjusted(close, opens, legs=[*self.STRANGLE, later], spots=dict.fromkeys(UP, 3121.0))
        self.assertEqual(self.orders(history), [[(PUT, 2), (LOWER, 2)]])
        (trade,) = history.state.trades
        self.assertEqual([(leg.leg_id, leg.contracts) for leg in trade.legs], [("c", -2), ("wing", 2)])

    def test_the_last_leg_is_left_by_exits(self) -> None:
        close = {"id": "off", "rule": "close_leg", "what": "p", **ABOVE}
        self.assertEqual(self.orders(self.adjusted(close)), [[(PUT, 2)]])
        only = self.adjusted(close, legs=[leg("p", "put", 3050, first=True)])
        self.assertEqual(self.orders(only), [])


class AmountsTest(AdjustingCase):
    def test_lots_are_added_up_to_a_bound_and_their_premium_counts(self) -> None:
        rule = {"id": "more", "rule": "change_lots", "way": "open", "lots": 1, "bound": 3, **ABOVE}
        history = self.adjusted(rule, quotes={"2026-10-06 15:50": {CALL: "8.00/8.20"}})
        self.assertEqual(self.orders(history), [[(CALL, -1), (PUT, -1)]])
        (trade,) = history.state.trades
        self.assertEqual((trade.lots, [leg.contracts for leg in trade.legs], trade.adjustments), (3, [-3, -3], 1))
        # two lots for 11.00, one more for 13.00; the call at the average of 6.00, 6.00 and 8.00
        self.assertEqual(trade.opening, (22 + 13) * POINT)
        self.assertAlmostEqual(trade.legs[0].opened_parts / POINT, 20 / 3, places=3)

    def test_lots_are_closed_down_to_a_bound(self) -> None:
        rule = {"id": "less", "rule": "change_lots", "way": "close", "lots": 1, "bound": 1, **ABOVE}
        out = {"rule": "days_held", "days": 2, "time": "15:50"}
        history = self.adjusted(rule, leave=[out], when=MONDAY["when"], quotes={})
        self.assertEqual(self.orders(history), [], "looked at on the entry's Mondays only")
        history = self.adjusted({**rule, "daily": "15:45"}, leave=[out], **MONDAY)
        self.assertEqual(self.orders(history), [[(CALL, 1), (PUT, 1)]], "once, then one lot is left")
        (trade,) = history.closed
        self.assertEqual((trade.lots, sum(leg.contracts for leg in trade.legs)), (1, -4))
        # bought back at 0.20 more a leg: two lots of 0.40 points at 50 a point, and eight contracts at 0.80
        self.assertEqual(trade.pnl, -2 * 50 * Decimal("0.40") - Decimal("6.40"))

    def test_a_share_after_lots_were_added_is_a_share_of_all(self) -> None:
        more = {"id": "more", "rule": "change_lots", "way": "open", "lots": 2, "bound": 4, "daily": "15:40", **ABOVE}
        half = {
            "id": "half",
            "rule": "condition_share",
            "percent": 50,
            "left": {"measure": "leg_contracts", "leg": "c"},
            "is": "at most",
            "right": -4,
        }
        history = self.adjusted(more, leave=[half], **MONDAY)
        closes = [[leg.contracts for leg in order.legs] for order in history.intents if order.purpose == "close"]
        self.assertEqual(closes, [[2, 2]])
        (trade,) = history.state.trades
        # the share is closed once; in the next session two more lots fit under the bound
        self.assertEqual((trade.lots, [leg.contracts for leg in trade.legs]), (6, [-4, -4]))

    def test_lots_and_a_roll_in_one_order(self) -> None:
        more = {"id": "more", "rule": "change_lots", "way": "open", "lots": 1, "bound": 3, **ABOVE, "further": "must"}
        history = self.adjusted(more, roll(), **{})
        self.assertEqual(self.orders(history)[0], [(CALL, 2), (PUT, -1), (FAR, -3)])
        (trade,) = history.state.trades
        self.assertEqual((trade.lots, {leg.contracts for leg in trade.legs}), (3, {-3}))
        # 11.00 twice, then one more lot at 2.00 and 5.00
        self.assertEqual(trade.opening, (22 + 7) * POINT)

    def test_balanced_by_the_number_that_comes_nearest(self) -> None:
        # two calls at 6.00 and two puts at 5.00 bring 22.00; four puts make 32.00, three 27.00
        rule = {
            "id": "level",
            "rule": "balance",
            "what": "p",
            "most": 5,
            "goal": {"measure": "net_credit"},
            "to": 30,
            **ABOVE,
        }
        history = self.adjusted(rule, size=[{"rule": "fixed_lots", "lots": 2}])
        self.assertEqual(self.orders(history), [[(PUT, -2)]], "once it is nearest nothing more is done")
        (trade,) = history.state.trades
        self.assertEqual([leg.contracts for leg in trade.legs], [-2, -4])
        self.assertEqual(self.orders(self.adjusted({**rule, "most": 1}))[0], [(PUT, -1)])
        # of what is sold at least one contract stays sold
        self.assertEqual(self.orders(self.adjusted({**rule, "to": -100})), [[(PUT, 1)]])

    def test_a_share_of_what_no_lot_goes_into_never_closes_more_than_is_held(self) -> None:
        rule = {
            "id": "level",
            "rule": "balance",
            "what": "p",
            "most": 5,
            "goal": {"measure": "net_credit"},
            "to": 27,
            "daily": "15:40",
            **ABOVE,
        }
        half = {
            "id": "half",
            "rule": "condition_share",
            "percent": 50,
            "left": {"measure": "leg_contracts", "leg": "p"},
            "is": "at most",
            "right": -3,
        }
        back = {**UP, "2026-10-07 15:40": 3100.0}
        history = self.adjusted(rule, leave=[half], spots=back, **MONDAY)
        (trade,) = history.state.trades
        closes = [[leg.contracts for leg in order.legs] for order in history.intents if order.purpose == "close"]
        self.assertEqual(closes, [[1, 1]], "half of each leg's two and three")
        self.assertEqual([leg.contracts for leg in trade.legs], [-1, -2])

    def test_what_is_named_has_to_be_there(self) -> None:
        rule = {"rule": "balance", "what": "gone", "most": 5, "goal": {"measure": "net_credit"}, "to": 30, **ABOVE}
        document = {
            "strell": 2,
            "name": "x",
            "underlyings": ["MK30"],
            "entries": [entry("only", [*self.STRANGLE])],
            "adjust": [rule],
        }
        with self.assertRaisesRegex(DocumentError, "adjust/0/what: there is no leg 'gone' any more"):
            normalise(document)

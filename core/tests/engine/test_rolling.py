"""A leg rolled by itself: to another's pick, later, for at least so much, as often as wanted, as a further step; by hand, in steps and
blocks."""

from __future__ import annotations

from typing import Any

from tests.engine.byhand import CALL, FAR, PUT, leg, price_is
from tests.engine.test_adjusting import ABOVE, ALWAYS, HIGHER, LOWER, MONDAY, AdjustingCase, roll

LATER_CALL, LATER_FAR = "2026-10-23/call/3150", "2026-10-23/call/3200"
MORE = {LATER_CALL: "9.00/9.40", LATER_FAR: "4.00/4.40"}
CREDIT = {"measure": "adjustment_credit"}


def at_least(points: float) -> dict[str, Any]:
    return {"left": CREDIT, "is": "at least", "right": points}


class ForTheRollTest(AdjustingCase):
    """The call at 6.00/6.20 is bought for 6.20, the next one at 2.00/2.20 sold for 2.00: a debit of 4.20 a lot."""

    def moved(self, *adjust: dict[str, Any], **more: Any) -> list[Any]:
        history = self.adjusted(*adjust, **MONDAY, **more)
        return self.told(history, "moved")

    def test_the_credit_of_the_roll_is_that_of_its_fills_a_lot(self) -> None:
        for least, acts in ((-4.20, True), (-4.19, False), (0, False)):
            self.assertEqual(bool(self.moved(roll(upon="every", provided=at_least(least)))), acts, least)
        half = [{"rule": "fill_model", "share": 0}]
        # at mids 6.10 for 2.10
        for least, acts in ((-4.0, True), (-3.99, False)):
            self.assertEqual(bool(self.moved(roll(upon="every", provided=at_least(least)), orders=half)), acts, least)

    def test_all_that_is_provided_has_to_hold(self) -> None:
        delta = {"left": {"measure": "price"}, "is": "below", "right": 3000}
        self.assertTrue(self.moved(roll(upon="every", provided=at_least(-5), provided_also=[at_least(-4.5)])))
        self.assertEqual(self.moved(roll(upon="every", provided=at_least(-5), provided_also=[at_least(-4)])), [])
        self.assertEqual(self.moved(roll(upon="every", provided=at_least(-5), provided_also=[at_least(-5), delta])), [])

    def test_of_two_steps_it_is_that_of_both(self) -> None:
        # the put's roll to 3000 brings 3.00 - 5.20 = -2.20 more, -6.40 together
        other = roll("down", "p", only="after")
        for least, names in ((-6.40, ["up"]), (-6.39, [])):
            found = self.moved(roll(upon="every", further="must", provided=at_least(least)), other)
            self.assertEqual([name for _, _, name in found][:1], names, least)

    def test_strike_by_strike_until_it_costs_no_more_than(self) -> None:
        until = {"id": "till", "rule": "roll_until", "what": "c", "where": "away", "most": 5, "goal": CREDIT, "goal_is": "at most", "goal_than": -5, **ABOVE, "upon": "every"}  # fmt: skip
        history = self.adjusted(until, **MONDAY)
        # 3200 costs 4.20, 3250 costs 5.20
        self.assertEqual(self.orders(history)[0], [(CALL, 2), (HIGHER, -2)])


class StepsTest(AdjustingCase):
    def test_only_as_a_further_step_it_never_acts_by_itself(self) -> None:
        self.assertEqual(self.orders(self.adjusted(roll(upon="every", only="after"), **MONDAY)), [])
        both = self.adjusted(roll(upon="every", further="may"), roll("down", "p", only="after", upon="every"), **MONDAY)
        self.assertEqual(self.orders(both)[0], [(CALL, 2), (FAR, -2), (PUT, 2), (LOWER, -2)])
        # where the one before it does not act, it does not either
        never = {"left": {"measure": "price"}, "is": "below", "right": 1}
        alone = self.adjusted(
            roll(upon="every", further="may", **never), roll("down", "p", only="after", upon="every"), **MONDAY
        )
        self.assertEqual(self.orders(alone), [])

    def test_as_often_as_it_holds(self) -> None:
        often = self.adjusted(roll(upon="every", often="often"), **MONDAY)
        self.assertEqual(self.told(often, "moved"), [("06 15:40", "moved", "up"), ("06 15:45", "moved", "up")])
        self.assertEqual(self.orders(often), [[(CALL, 2), (FAR, -2)], [(FAR, 2), (HIGHER, -2)]])

    def test_what_acts_as_often_as_it_holds_bars_nothing_else(self) -> None:
        adjust = roll("down", "p", upon="every"), roll(upon="every", often="often", strikes=2)
        self.assertEqual(
            self.told(self.adjusted(*adjust, **MONDAY), "moved")[:2],
            [("06 15:40", "moved", "down"), ("06 15:45", "moved", "up")],
        )
        turned = self.told(self.adjusted(*adjust[::-1], **MONDAY), "moved")
        self.assertEqual(turned[:2], [("06 15:40", "moved", "up"), ("06 15:45", "moved", "down")])


class ToAPickTest(AdjustingCase):
    def test_to_what_another_leg_s_sentence_picks(self) -> None:
        farther = leg(
            "farther", "call", 3200, rule="later_leg", expiry={"pick": "nearest_days", "days": 18, "from": 15, "to": 30}
        )
        farther.pop("optional", None)
        quotes = {"2026-10-05 15:40": {CALL: "6.00/6.20", FAR: "2.00/2.20", PUT: "5.00/5.20", **MORE}}
        like = {"id": "up", "rule": "roll_like", "what": "c", "other": "farther", "upon": "every", **ABOVE}
        history = self.adjusted(
            like, quotes=quotes, legs=[*self.STRANGLE, farther], spots={"2026-10-06 15:40": 3121.0}, **MONDAY
        )
        # 3.2 % from 3121 is 3221: the nearest that is quoted is 3200, a week later; then it is held, and nothing is done
        self.assertEqual(self.orders(history), [[(CALL, 2), (LATER_FAR, -2)]])
        (trade,) = history.state.trades
        self.assertEqual([(held.leg_id, held.contracts) for held in trade.legs], [("c", -2), ("p", -2)])

    def test_one_leg_later_at_its_strike(self) -> None:
        quotes = {"2026-10-05 15:40": {CALL: "6.00/6.20", FAR: "2.00/2.20", PUT: "5.00/5.20", **MORE}}
        later = {
            "id": "up",
            "rule": "roll_leg_out",
            "what": "c",
            "days": 7,
            "upon": "every",
            **ALWAYS,
            **price_is("c", "above", 6),
        }
        history = self.adjusted(later, quotes=quotes, **MONDAY)
        self.assertEqual(self.orders(history)[0], [(CALL, 2), (LATER_CALL, -2)])
        # of the put there is no later expiration quoted
        put = self.adjusted({**later, "what": "p"}, quotes=quotes, **MONDAY)
        self.assertEqual(self.orders(put), [])

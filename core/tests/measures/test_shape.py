"""What a position is made of, against the margin rules, a payoff drawn by hand and the curve's own distribution."""

from __future__ import annotations

import datetime as dt
import math
import unittest
from decimal import Decimal

import numpy as np

from strell_core.engine.marks import stretch
from strell_core.engine.plan import Plan, make_plan
from strell_core.engine.run import run_blocks
from strell_core.engine.state import LegState, TradeState
from strell_core.margin import strategy_based as margin
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Market
from strell_core.market.timeline import Timeline
from strell_core.market.view import ChainView
from strell_core.measures.frames import Frame, PickedLeg, Stretch, Structure
from strell_core.measures.values import over
from strell_core.pricing.smile import smile_at
from strell_core.strategy.document import parse
from tests.demo import short_history
from tests.engine.byhand import strategy
from tests.engine.test_forty import documents

CASH = Decimal(250_000)
PARTS_A_POINT = 40_000


class ShapeTest(unittest.TestCase):
    timeline: Timeline
    plan: Plan
    begin: int
    view: ChainView
    expiration: dt.date

    @classmethod
    def setUpClass(cls) -> None:
        timeline = cls.timeline = short_history()
        cls.plan = make_plan(parse(documents()["10-iron-condor"]), timeline)
        cls.begin = int(timeline.first[-4])
        cls.view = timeline.view(cls.begin)
        cls.expiration = next(date for date in cls.view.expirations if (date - cls.view.date).days > 14)

    def held(self, *legs: tuple[str, int, int], opening: int = 0) -> Stretch:
        """Over two sessions: right, strikes from the money, contracts; opened at mid."""
        made = []
        for place, (right, away, contracts) in enumerate(legs):
            chain = self.view.slice(self.expiration, right)
            strikes = chain.strikes[chain.valid]
            at = int(np.argmin(np.abs(strikes - self.view.spot / 100))) + away
            contract = ContractKey(self.expiration, right, int(strikes[at]), "MK30")
            quote = self.view.quote(contract)
            made.append(LegState(f"l{place}", contract, contracts, (quote.bid + quote.ask) * 1000))
        paid = -sum(leg.contracts * leg.opened_parts for leg in made)
        instant = int(self.timeline.times[self.begin])
        trade = TradeState(1, 1, instant, instant, self.view.date, tuple(made), opening or paid)
        return stretch(self.plan, trade, self.timeline, self.begin, int(self.timeline.first[-2]))

    def of(self, found: Stretch, measure: str) -> np.ndarray:
        values = over({"measure": measure}, found.frame)
        assert values is not None
        return values

    def test_capital_is_what_the_margin_rules_say(self) -> None:
        for legs in (
            [("put", -5, -1)],
            [("put", -5, -2), ("put", -8, 2)],
            [("call", 4, -1), ("put", -4, -1)],
            [("put", -3, 1)],
        ):
            found = self.held(*legs)
            values = self.of(found, "position_capital")
            for row in range(0, len(values), 37):
                now = [
                    margin.Leg(
                        leg.contracts, 1 if leg.contract.right == "call" else -1, float(leg.contract.strike),
                        self.timeline.settles_at(leg.contract), (int(leg.bid[row]) + int(leg.ask[row])) / 2 / PARTS_A_POINT,
                    )
                    for leg in found.legs
                ]  # fmt: skip
                wanted = margin.capital(now, int(found.spot[row]) / 100, margin.INDEX_SHARE) * 50
                self.assertAlmostEqual(values[row], wanted, places=1)

    def test_the_distance_to_a_break_even_is_that_of_a_payoff_drawn_finely(self) -> None:
        for legs in (
            [("call", 5, -1), ("put", -5, -1)],
            [("put", 0, 1), ("put", -4, -2), ("put", -8, 1)],
            [("call", 0, 1)],
        ):
            found = self.held(*legs)
            values = self.of(found, "break_even_distance")
            made = -sum(leg.contracts * leg.opened_parts for leg in found.legs) / PARTS_A_POINT
            grid = np.arange(0, 9000, 0.25)
            payoff = made + sum(
                leg.contracts * np.maximum(0, (1 if leg.contract.right == "call" else -1) * (grid - float(leg.contract.strike)))
                for leg in found.legs
            )  # fmt: skip
            edges = grid[1:][np.sign(payoff[1:]) != np.sign(payoff[:-1])]
            for row in range(0, len(values), 41):
                spot = int(found.spot[row]) / 100
                inside = np.interp(spot, grid, payoff) > 0
                nearest = np.abs(edges - spot).min() / spot * 100
                self.assertAlmostEqual(values[row], nearest if inside else -nearest, delta=0.02)

    def test_what_has_no_break_even_or_expires_apart_is_unvalued(self) -> None:
        found = self.held(("put", -5, -1))
        apart = found.legs[0].contract._replace(expiration=self.view.expirations[-1])
        self.assertFalse(np.isnan(self.of(found, "break_even_distance")).any())
        legs = (LegState("a", found.legs[0].contract, -1, 0), LegState("b", apart, 1, 0))
        trade = TradeState(1, 1, 0, int(self.timeline.times[self.begin]), self.view.date, legs, 0)
        calendar = stretch(self.plan, trade, self.timeline, self.begin, self.begin + 5)
        self.assertTrue(np.isnan(self.of(calendar, "break_even_distance")).all())
        self.assertTrue(np.isnan(self.of(calendar, "position_balance")).all(), "puts alone have no other side")
        self.assertTrue(np.isnan(self.of(calendar, "position_width")).all(), "of no premium there is no percentage")

    def test_sides_and_width_are_sums_of_quotes(self) -> None:
        found = self.held(("call", 5, -1), ("call", 9, 1), ("put", -5, -1))
        call, wing, put = found.legs
        calls = np.abs(wing.bid + wing.ask - call.bid - call.ask) / 2
        puts = (put.bid + put.ask) / 2
        wanted = np.minimum(calls, puts) / np.maximum(calls, puts)
        np.testing.assert_allclose(self.of(found, "position_balance"), wanted, atol=6e-5)
        asked = sum((leg.ask - leg.bid) for leg in found.legs) / abs(found.opening) * 100
        np.testing.assert_allclose(self.of(found, "position_width"), asked, atol=6e-3)

    def test_chance_and_expectation_are_those_of_the_curve(self) -> None:
        chain = self.view.slice(self.expiration, "put")
        strikes = chain.strikes[chain.valid & (chain.bid > 0)]
        curve = smile_at(self.view, self.expiration)
        assert curve is not None
        for strike in strikes[-60:-10:10].tolist():
            contract = ContractKey(self.expiration, "put", int(strike), "MK30")
            quote = self.view.quote(contract)
            frames = [
                Frame(Market(self.timeline), self.begin, self.begin + 1, "MK30", None, Structure([PickedLeg("p", contract, sign, quote)], self.view))
                for sign in (-1, 1)
            ]  # fmt: skip
            sold, bought = (float(over({"measure": "chance_of_profit"}, frame)[0]) for frame in frames)  # type: ignore[index]
            # sold it ends in profit above the strike less the bid, bought below the strike less the ask
            self.assertAlmostEqual(
                sold, 100 * (1 - float(curve.chance_below(np.array([strike - quote.bid / 20]))[0])), delta=0.11
            )
            self.assertAlmostEqual(
                bought, 100 * float(curve.chance_below(np.array([strike - quote.ask / 20]))[0]), delta=0.11
            )
            worth = [float(over({"measure": "expected_value"}, frame)[0]) for frame in frames]  # type: ignore[index]
            # the same payoff both ways round: together they lose the spread
            self.assertAlmostEqual(sum(worth), (quote.bid - quote.ask) / 20, delta=0.021)

    def test_a_structure_without_a_curve_has_no_chance(self) -> None:
        empty = PickedLeg(
            "p",
            ContractKey(self.expiration, "put", 17, "MK30"),
            -1,
            self.view.quote(ContractKey(self.expiration, "put", 17, "MK30")),
        )
        frame = Frame(Market(self.timeline), self.begin, self.begin + 1, "MK30", None, Structure([empty], self.view))
        for measure in ("chance_of_profit", "expected_value"):
            found = over({"measure": measure}, frame)
            self.assertTrue(found is not None and math.isnan(found[0]))

    def test_they_stand_in_exits_and_checks_of_a_sheet(self) -> None:
        document = documents()["10-iron-condor"]
        document["entries"][0]["checks"] = [
            {"rule": "condition", "id": "c", "left": {"measure": "chance_of_profit"}, "is": "at least", "right": 55}
        ]
        document["leave"] = [
            {
                "rule": "condition",
                "id": "near",
                "as": "other",
                "left": {"measure": "break_even_distance"},
                "is": "below",
                "right": 0.4,
            }
        ]
        plan = make_plan(parse(strategy(*document["entries"], leave=document["leave"])), self.timeline)
        history = run_blocks(plan, self.timeline, 0, len(self.timeline.times), CASH)
        self.assertGreater(sum(trade.rule == "near" for trade in history.closed), 3)

    def test_adjustments_are_counted_when_they_were_dealt(self) -> None:
        document = documents()["52-butterfly-that-follows-the-market"]
        enough = {
            "rule": "condition",
            "id": "enough",
            "as": "other",
            "left": {"measure": "adjustments_made"},
            "is": "at least",
            "right": 2,
        }
        plan = make_plan(parse({**document, "leave": [*document["leave"], enough]}), self.timeline)
        history = run_blocks(plan, self.timeline, 0, len(self.timeline.times), CASH)
        left = [trade for trade in history.closed if trade.rule == "enough"]
        self.assertGreater(len(left), 1)
        for trade in left:
            moved = {leg.closed_at for leg in trade.legs if leg.how == "adjustment"}
            self.assertEqual(len(moved), 2, trade.number)
            first = next(at for at in self.timeline.times.tolist() if at >= max(moved))
            self.assertLessEqual(first, trade.left_at)

    def test_what_was_made_is_told_in_percent_of_capital_and_of_what_it_can_make(self) -> None:
        point = PARTS_A_POINT / float(self.timeline.underlying.multiplier)
        condor = self.held(("put", -5, -1), ("put", -8, 1), ("call", 5, -1), ("call", 8, 1))
        credit = condor.opening / point
        strikes = sorted(float(leg.contract.strike) for leg in condor.legs)
        widest = max(strikes[1] - strikes[0], strikes[3] - strikes[2]) * float(self.timeline.underlying.multiplier)
        made = condor.mid / point
        for unit, whole in (("capital", widest - credit), ("most", credit)):
            found = over({"measure": "pnl", "basis": "mid", "unit": unit}, condor.frame)
            np.testing.assert_allclose(found, np.where(condor.valued, 100 * made / whole, np.nan), atol=0.0001)
        # a debit vertical can make its width less what it cost; a short strangle takes capital by the underlying's price
        vertical = self.held(("call", 0, 1), ("call", 5, -1))
        low, high = (float(leg.contract.strike) for leg in vertical.legs)
        most = (high - low) * float(self.timeline.underlying.multiplier) + vertical.opening / point
        found = over({"measure": "best_pnl", "unit": "most"}, vertical.frame)
        np.testing.assert_allclose(found, 100 * vertical.best / point / most, atol=0.0001)
        strangle = self.held(("call", 4, -1), ("put", -4, -1))
        took = over({"measure": "position_capital"}, strangle.frame)
        found = over({"measure": "pnl_drop", "unit": "capital"}, strangle.frame)
        assert took is not None and found is not None
        drop = (strangle.best - strangle.mid) / point
        np.testing.assert_allclose(found, np.where(strangle.valued, 100 * drop / took[0], np.nan), atol=0.01)
        # without bounds, and where nothing can be made, there is no maximum to be a share of
        for held in (self.held(("call", 0, 1)), self.held(("put", -3, 1), ("put", -3, -1))):
            self.assertTrue(np.isnan(over({"measure": "pnl", "basis": "mid", "unit": "most"}, held.frame)).all())

    def test_a_strike_is_so_many_points_and_expected_moves_away(self) -> None:
        found = self.held(("put", -5, -1), ("call", 5, -1))
        for leg in found.legs:
            away = (float(leg.contract.strike) - found.spot / 100) * (1 if leg.contract.right == "call" else -1)
            points = over({"measure": "leg_distance", "leg": leg.leg_id, "unit": "points"}, found.frame)
            np.testing.assert_allclose(points, away, atol=0.001)
            moves = over({"measure": "leg_distance", "leg": leg.leg_id, "unit": "moves"}, found.frame)
            assert moves is not None
            for row in range(0, len(moves), 53):
                view = self.timeline.view(self.begin + row)
                call, put = view.slice(self.expiration, "call"), view.slice(self.expiration, "put")
                both = np.flatnonzero(call.valid & put.valid)
                at = both[np.argmin(np.abs(call.strikes[both] - call.forward))]
                mids = (int(call.bid[at]) + int(call.ask[at]) + int(put.bid[at]) + int(put.ask[at])) / 2
                move = mids * float(self.timeline.underlying.quantum)
                self.assertAlmostEqual(moves[row], away[row] / move, delta=0.001)

    def test_a_legs_volatility_is_told_against_that_at_its_first_fill(self) -> None:
        found = self.held(("put", -5, -1))
        leg = found.legs[0]
        change = over({"measure": "leg_iv_change", "leg": leg.leg_id}, found.frame)
        assert change is not None
        cube = self.timeline.cubes[leg.contract.expiration]
        row = cube.row(leg.contract.right, leg.contract.strike)
        assert row is not None
        recorded = cube.iv[row, self.begin - cube.start :][: len(change)].astype(float) / 100
        np.testing.assert_allclose(change, np.where(recorded > 0, recorded - recorded[0], np.nan), atol=0.006)
        self.assertEqual(change[0], 0)
        self.assertGreater(np.nanmax(np.abs(change)), 0)

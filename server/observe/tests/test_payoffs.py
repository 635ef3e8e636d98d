"""Payoffs of recorded contracts, in money, and their Greeks."""

from __future__ import annotations

import QuantLib as ql

from config.tests.demo import DemoTestCase
from observe.payoffs import greeks, payoff
from strell_core.market.instruments import ContractKey
from strell_core.pricing.black import years_between
from strell_core.pricing.held import Holding


class PayoffTest(DemoTestCase):
    def setUp(self) -> None:
        super().setUp()
        self.timeline = self.history()
        self.index = len(self.timeline.times) - 60
        view = self.timeline.view(self.index)
        self.expiration = view.expirations[4]
        spot = view.spot / 100
        near = round(spot / 10) * 10
        self.short = ContractKey(self.expiration, "put", near - 40, "MK30")
        self.long = ContractKey(self.expiration, "put", near - 80, "MK30")

    def spread(self, realised: float = 0.0):
        holdings = [Holding(self.short, -2, 10.0), Holding(self.long, 2, 4.0)]
        return payoff(self.timeline, self.index, holdings, realised)

    def test_a_put_spread_in_money(self) -> None:
        """Common practice: at worst its width less the credit, at best the credit."""
        found = self.spread()
        self.assertEqual((found["max_profit"], found["max_loss"]), (2 * 6.0 * 50, -2 * (40 - 6.0) * 50))
        self.assertEqual(found["break_evens"], [self.short.strike - 6.0])
        self.assertEqual(max(found["expiration"]), found["max_profit"])

    def test_what_was_realised_lifts_every_value(self) -> None:
        plain, lifted = self.spread(), self.spread(123.45)
        self.assertAlmostEqual(lifted["now"][7] - plain["now"][7], 123.45, places=6)
        self.assertAlmostEqual(lifted["max_loss"] - plain["max_loss"], 123.45, places=6)

    def test_a_date_beyond_the_nearest_expiration_is_the_expiration(self) -> None:
        holdings = [Holding(self.short, -1, 10.0)]
        found = payoff(self.timeline, self.index, holdings, at=10**11)
        self.assertEqual(found["now"], found["expiration"])
        early = payoff(self.timeline, self.index, holdings, at=0)
        self.assertEqual(early["at"], int(self.timeline.times[self.index]))

    def test_greeks_of_a_recorded_contract(self) -> None:
        """Reference: QuantLib's BlackCalculator from the recorded forward and volatility."""
        found = greeks(self.timeline, self.index, Holding(self.short, -1, 0.0))
        view = self.timeline.view(self.index)
        quote, forward = view.quote(self.short), view.forward(self.expiration)
        years = years_between(view.instant, self.timeline.cubes[self.expiration].settlement_at)
        discount = ql.FlatForward(0, ql.NullCalendar(), self.timeline.underlying.rate, ql.Actual365Fixed()).discount(
            years
        )
        calculator = ql.BlackCalculator(
            ql.PlainVanillaPayoff(ql.Option.Put, self.short.strike), forward, quote.iv / 10_000 * years**0.5, discount
        )
        self.assertAlmostEqual(found["delta"], calculator.deltaForward(), places=9)
        self.assertAlmostEqual(found["vega"], calculator.vega(years) / 100, places=7)

    def test_without_a_volatility_there_are_no_greeks(self) -> None:
        nothing = greeks(self.timeline, self.index, Holding(self.short._replace(strike=17), 1, 0.0))
        self.assertEqual(set(nothing.values()), {None})

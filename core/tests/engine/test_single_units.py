"""The underlying in single units: as what it is written, priced, counted, paid for and backed."""

from __future__ import annotations

import dataclasses
import datetime as dt
import unittest
from decimal import Decimal

from strell_core.engine.capital import Backed, needed
from strell_core.engine.fills import commission, price_of
from strell_core.engine.plan import make_plan
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS, shown_price
from strell_core.measures.sensitivities import greek
from strell_core.strategy.document import normalise, parse
from tests.handmade import session_chains, timeline_of
from tests.payers import PAYERS, payer

ORDERS = [
    {"rule": "commission", "per_contract": 0.65, "per_order": 1.0}, {"rule": "unit_spread", "points": 0.02},
    {"rule": "unit_commission", "per_unit": 0.005, "per_order": 0.35},
]  # fmt: skip


class SingleUnitsTest(unittest.TestCase):
    def setUp(self) -> None:
        self.timeline = payer(PAYERS[0]).timeline
        self.symbol = self.timeline.underlying.symbol
        self.whole, self.single = ContractKey.unit(self.symbol), self.timeline.single_unit(self.timeline.dates[0])
        date = self.timeline.view(7).expirations[0]
        self.call = ContractKey(date, "call", int(self.timeline.view(7).slice(date, "call").strikes[0]), self.symbol)
        legs = [
            {"rule": "leg", "right": "call", "strike": {"pick": "nearest_delta"}, "expiry": {"pick": "nearest_days"}}
        ]
        self.document = normalise({
            "name": "any", "underlyings": [self.symbol], "orders": ORDERS,
            "entries": [{"when": [{"rule": "decision_times"}], "size": [{"rule": "fixed_lots"}], "legs": legs}],
        })  # fmt: skip
        self.plan = make_plan(parse(self.document), self.timeline)

    def test_it_is_written_and_read(self) -> None:
        self.assertEqual((self.single.divisor, self.single.code), (100, f"{self.symbol}/unit/100"))
        self.assertEqual(ContractKey.parse(self.single.code), self.single)
        self.assertEqual(ContractKey.parse(self.whole.code), self.whole)
        self.assertEqual((self.whole.label, self.single.label), (f"{self.symbol} itself", f"{self.symbol} units"))
        for wrong in (
            f"{self.symbol}/unit/0",
            f"{self.symbol}/unit/1000000",
            f"{self.symbol}/unit/-1",
            f"{self.symbol}/unit/x",
        ):
            with self.subTest(wrong), self.assertRaises(ValueError):
                ContractKey.parse(wrong)

    def test_a_hundred_of_them_are_a_contract_to_the_part(self) -> None:
        quantum = self.timeline.underlying.quantum
        view = self.timeline.view(7)
        for contracts in (3, -3):
            one = price_of(self.plan, view, self.single, contracts, 100)
            assert one is not None
            self.assertEqual(100 * one, price_of(self.plan, view, self.whole, contracts, 100))
            away = 0.02 if contracts > 0 else -0.02
            self.assertAlmostEqual(shown_price(self.single, one, quantum), view.spot / 100 + away, places=9)
        self.assertEqual(100 * self.timeline.quote_at(self.single, 7)[0], self.timeline.quote_at(self.whole, 7)[0])
        self.assertEqual(
            [greek(self.timeline, key, "delta", 7, 8)[0] for key in (self.single, self.whole)], [0.01, 1.0]
        )

    def test_what_is_backed(self) -> None:
        spot = int(self.timeline.spot[7]) / 100
        for units in (37, -37, 250):
            price = self.timeline.quote_at(self.single, 7)[0]
            found = needed(self.timeline, 7, [Backed(self.single, units, price)], 100)
            # bought: their value; sold: their value and half of it, less what they are worth
            self.assertAlmostEqual(found, units * spot if units > 0 else -units * spot / 2, places=6)
        # 37 of a hundred cover no call, a hundred and one cover one
        call = self.call

        def of(units: int) -> float:
            return needed(self.timeline, 7, [Backed(call, -1, 0), Backed(self.single, units, 0)], 100) - units * spot

        self.assertGreater(of(37), 0)
        self.assertEqual(of(101), 0)

    def test_an_order_in_options_and_units_pays_both_commissions(self) -> None:
        call = self.call
        for dealt, cost in (
            ([(call, -2)], "2.30"), ([(self.single, 37)], "0.54"), ([(self.whole, -1)], "0.85"),
            ([(call, 2), (self.single, -40)], "2.85"), ([], "0"),
        ):  # fmt: skip
            with self.subTest(dealt):
                self.assertEqual(commission(self.plan, dealt), Decimal(cost))

    def test_where_prices_are_kept_too_coarsely_contracts_are_dealt_in(self) -> None:
        timeline = timeline_of(
            session_chains([{"at": "2026-10-05 15:45", "spot": 100, "2026-10-16/call/100": "1.00/1.10"}])
        )
        for quantum, units, divisor in (("0.01", 100, 100), ("0.05", 100, 100), ("0.25", 100, 1), ("0.25", 10, 10)):
            with self.subTest(quantum, units=units):
                timeline.underlying = dataclasses.replace(
                    timeline.underlying, quantum=Decimal(quantum), multiplier=units
                )
                timeline.__dict__.pop("spot_parts", None)
                self.assertEqual(timeline.single_unit(dt.date(2026, 10, 5)).divisor, divisor)
                self.assertEqual(timeline.spot_parts * int(timeline.spot[0]), 100 * PARTS / Decimal(quantum))

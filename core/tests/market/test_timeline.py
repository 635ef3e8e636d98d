"""Reading recorded history: the same quotes as the chains, at any instant."""

from __future__ import annotations

import datetime as dt
import random
import unittest
from decimal import Decimal

import numpy as np

from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS, cent_of_part, cents, money, parts_to_money, parts_to_price, points_to_parts
from tests.demo import SHORT, chains, short_history
from tests.handmade import instant, session_chains, timeline_of


class AgainstChainsTest(unittest.TestCase):
    def test_every_quote_of_some_sessions_is_the_recorded_one(self) -> None:
        timeline = short_history()
        for number, chain in enumerate(chains(SHORT)):
            if number % 22:
                continue
            self.assertEqual(timeline.dates[number], chain.date)
            snap = len(chain.times) - 1
            view = timeline.view(int(timeline.first[number]) + snap)
            self.assertEqual(view.instant, int(chain.times[snap]))
            self.assertEqual(view.spot, int(chain.spot[snap]))
            for row, contract in enumerate(chain.contracts):
                quote = view.quote(contract)
                self.assertEqual((quote.bid, quote.ask), (int(chain.bid[row, snap]), int(chain.ask[row, snap])))
                self.assertEqual(quote.iv, int(chain.iv[row, snap]) or None)
            part = view.slice(chain.expirations[2], "put")
            rows = [
                i for i, c in enumerate(chain.contracts) if c.expiration == chain.expirations[2] and c.right == "put"
            ]
            listed = np.isin(part.strikes, [chain.contracts[i].strike for i in rows])
            np.testing.assert_array_equal(part.bid[listed], chain.bid[rows, snap])
            np.testing.assert_array_equal(part.open_interest[listed], chain.open_interest[rows])

    def test_daily_history_ends_before_the_session(self) -> None:
        timeline = short_history()
        known = timeline.daily.before(10)
        self.assertEqual(known.dates, timeline.dates[:10])
        self.assertEqual(len(known.close), 10)


class LookUpTest(unittest.TestCase):
    def setUp(self) -> None:
        quote = {"2026-10-16/put/3040": "6.00/6.20"}
        self.timeline = timeline_of(
            session_chains([
                {"at": "2026-10-05 17:30", "spot": 3100, **quote},
                {"at": "2026-10-06 09:05", "spot": 3101, **quote},
                {"at": "2026-10-06 09:10", "spot": 3102, "2026-10-16/put/3040": "6.30/6.20"},
            ])
        )  # fmt: skip

    def test_single_and_last_snapshots(self) -> None:
        self.assertEqual(self.timeline.is_single.tolist(), [True, False, False])
        self.assertEqual(self.timeline.is_last.tolist(), [True, False, True])
        self.assertEqual(self.timeline.minute.tolist(), [17 * 60 + 30, 9 * 60 + 5, 9 * 60 + 10])

    def test_spans_and_instants(self) -> None:
        self.assertEqual(self.timeline.span(dt.date(2026, 10, 6), dt.date(2026, 10, 6)), (1, 3))
        self.assertEqual(self.timeline.span(dt.date(2026, 10, 7), dt.date(2026, 10, 9)), (3, 3))
        self.assertEqual(self.timeline.at_or_before(instant("2026-10-06 09:07")), 1)
        with self.assertRaises(ValueError):
            self.timeline.at_or_before(instant("2026-10-05 09:00"))

    def test_validity_of_quotes(self) -> None:
        contract = ContractKey(dt.date(2026, 10, 16), "put", 3040, "MK30")
        self.assertTrue(self.timeline.view(1).quote(contract).valid)
        self.assertFalse(self.timeline.view(2).quote(contract).valid, "crossed")
        for unknown in (contract._replace(strike=3050), contract._replace(expiration=dt.date(2026, 10, 23))):
            self.assertFalse(self.timeline.view(1).quote(unknown).valid)
        with self.assertRaises(KeyError):
            self.timeline.view(1).slice(dt.date(2026, 10, 23), "put")


class ContractKeyTest(unittest.TestCase):
    def test_code_and_back(self) -> None:
        contract = ContractKey(dt.date(2026, 11, 13), "call", 3200, "MK30")
        self.assertEqual(contract.code, "MK30/2026-11-13/call/3200")
        self.assertEqual(ContractKey.parse(contract.code), contract)
        self.assertEqual(contract.label, "13 Nov 2026 3200 call")

    def test_what_is_no_contract_is_refused_with_words(self) -> None:
        for text in (
            "",
            "2026-11-13/call",
            "2026-11-13/straddle/3200",
            "2026-13-13/call/3200",
            "2026-11-13/call/-5",
            "x/call/1",
        ):
            with self.assertRaisesRegex(ValueError, "not a"):
                ContractKey.parse(text, "MK30")


class PricesTest(unittest.TestCase):
    quantum = Decimal("0.05")

    def test_money_rounds_half_even(self) -> None:
        self.assertEqual(
            [money(Decimal(t)) for t in ("0.125", "0.135", "-0.125")], [Decimal(t) for t in ("0.12", "0.14", "-0.12")]
        )

    def test_cents_in_whole_numbers_are_that_money(self) -> None:
        dice = random.Random(4)
        for quantum, multiplier in (
            (Decimal("0.05"), 10),
            (Decimal("0.01"), 100),
            (Decimal("0.125"), 7),
            (Decimal("0.005"), 1),
        ):
            worth = cent_of_part(quantum, multiplier)
            halves = [half for half in range(-40_000, 40_000, 125) if (half * worth * 2).denominator == 1]
            for parts in (*halves, *(dice.randrange(-(10**9), 10**9) for _ in range(500))):
                self.assertEqual(cents(parts, worth), money(parts_to_money(parts, quantum, multiplier)) * 100)
            self.assertTrue(any((half * worth).denominator == 2 for half in halves), "halves of cents are among them")

    def test_parts(self) -> None:
        self.assertEqual(parts_to_price(PARTS, self.quantum), self.quantum)
        self.assertEqual(parts_to_money(-PARTS // 2, self.quantum, 50), Decimal("-1.25"))
        self.assertEqual(points_to_parts(Decimal("3100.25"), self.quantum), 62_005 * PARTS)
        with self.assertRaises(ValueError):
            points_to_parts(Decimal("0.01"), Decimal("0.07"))

"""Contracts by name: whole strikes and those in between."""

from __future__ import annotations

import datetime as dt
import unittest

from strell_core.market.instruments import ContractKey, strike_of, thousandths


class StrikesTest(unittest.TestCase):
    def test_a_code_is_read_back(self) -> None:
        for text in (
            "MK30/2026-11-13/call/3200", "MK30/2026-11-13/put/82.5", "A/B/2026-11-13/put/7.125",
            "MK30/2026-11-13/call/0.5/open",
        ):  # fmt: skip
            self.assertEqual(ContractKey.parse(text).code, text)

    def test_a_code_without_its_underlying_means_that_of_its_place(self) -> None:
        meant = ContractKey(dt.date(2026, 11, 13), "call", 3200, "MK30")
        self.assertEqual(ContractKey.parse("2026-11-13/call/3200", "MK30"), meant)
        self.assertEqual(ContractKey.parse("MK30/2026-11-13/call/3200", "MK30"), meant)
        with self.assertRaisesRegex(ValueError, "of which underlying"):
            ContractKey.parse("2026-11-13/call/3200")
        with self.assertRaisesRegex(ValueError, "of MK30, not of PLLM"):
            ContractKey.parse("MK30/2026-11-13/call/3200", "PLLM")

    def test_contracts_of_one_date_differ_in_their_settlement_and_underlying(self) -> None:
        plain = ContractKey(dt.date(2026, 11, 13), "call", 3200, "MK30")
        self.assertEqual(len({plain, plain._replace(settles="open"), plain._replace(underlying="PLLM")}), 3)

    def test_one_strike_has_one_form(self) -> None:
        self.assertEqual(
            ContractKey.parse("MK30/2026-11-13/call/3200.000"), ContractKey(dt.date(2026, 11, 13), "call", 3200, "MK30")
        )
        self.assertIsInstance(strike_of(3_200_000), int)
        self.assertEqual(strike_of(33_333), 33.333)
        for number in (1, 500, 33_333, 82_500, 3_200_000):
            self.assertEqual(thousandths(strike_of(number)), number)

    def test_what_is_no_contract(self) -> None:
        for text in (
            "2026-11-13/call/-5",
            "2026-11-13/call/1.2345",
            "2026-11-13/call/1e3",
            "13-11-2026/call/3",
            "2026-11-13/warrant/3",
            "",
        ):
            with self.assertRaises(ValueError, msg=text):
                ContractKey.parse(text, "MK30")

"""Contracts found by what people call them."""

from __future__ import annotations

import unittest

from config.tests.demo import DemoTestCase
from observe.finding import Wanted, wanted


class WantedTest(unittest.TestCase):
    def test_what_a_text_says(self) -> None:
        for text, meant in (
            ("3150 call", Wanted(3150.0, "call")),
            ("3150c", Wanted(3150.0, "call")),
            ("MK30 3050P Dec", Wanted(3050.0, "put", None, 12, None, "MK30")),
            ("18 Dec 2026 3100 put", Wanted(3100.0, "put", 18, 12, 2026)),
            ("put 3100, 4 december", Wanted(3100.0, "put", 4, 12)),
            ("42.5 calls", Wanted(42.5, "call")),
            ("jan 3100", Wanted(3100.0, None, None, 1)),
        ):
            self.assertEqual(wanted(text, ["MK30"]), meant, text)

    def test_what_names_no_contract(self) -> None:
        for text in ("", "call", "harbour 3150", "3150 call 3200", "dec", "31509999999 call", "trade 57", "1e9 put"):
            self.assertIsNone(wanted(text, ["MK30"]), text)


class FoundTest(DemoTestCase):
    def test_listed_contracts_with_their_quotes_the_nearest_first(self) -> None:
        view = self.history().view(len(self.history().times) - 1)
        chain = view.slice(view.expirations[1], "call")
        strike = float(chain.strikes[len(chain.strikes) // 2])
        status, found = self.send("get", f"/contracts?text=mk30 {strike:g} call")
        self.assertEqual(status, 200)
        self.assertEqual([item["expiration"] for item in found], sorted(item["expiration"] for item in found))
        own = next(item for item in found if item["expiration"] == view.expirations[1].isoformat())
        self.assertEqual(own["contract"], f"MK30/{own['expiration']}/call/{strike:g}")
        self.assertLessEqual(own["bid"], own["ask"])
        date = view.expirations[1]
        self.assertEqual(
            [item["expiration"] for item in self.send("get", f"/contracts?text={strike:g} call {date:%-d %b %Y}")[1]],
            [date.isoformat()],
        )
        self.assertEqual(self.send("get", "/contracts?text=1 call")[1], [])

"""The memory-mapped cache: complete or not there."""

from __future__ import annotations

import json
import tempfile
import unittest
from collections.abc import Iterator
from pathlib import Path

from strell_core.formats import cubes
from strell_core.market.calendars import marrowick
from strell_core.market.chains import SessionChain
from strell_core.pricing.black import black_delta, years_between
from strell_core.scenario.generator import MK30
from tests.demo import SHORT, chains, short_history


class CubesTest(unittest.TestCase):
    def setUp(self) -> None:
        self.place = Path(tempfile.mkdtemp(prefix="strell-"))

    def test_a_build_that_dies_leaves_nothing_under_the_final_name(self) -> None:
        def dying() -> Iterator[SessionChain]:
            for number, chain in enumerate(chains(SHORT)):
                if number == 5:
                    raise OSError("the disk is full")
                yield chain

        with self.assertRaises(OSError):
            cubes.build(self.place / "mk30", dying, MK30, marrowick(), "x")
        self.assertFalse((self.place / "mk30").exists())

    def test_another_layout_is_not_opened(self) -> None:
        cubes.build(self.place / "mk30", lambda: list(chains(SHORT))[:3], MK30, marrowick(), "x")
        index = json.loads((self.place / "mk30" / "index.json").read_text())
        (self.place / "mk30" / "index.json").write_text(json.dumps({**index, "layout": 0}))
        with self.assertRaises(FileNotFoundError):
            cubes.open_timeline(self.place / "mk30", MK30, marrowick())

    def test_deltas_are_those_of_the_stored_volatility(self) -> None:
        timeline = short_history()
        index = len(timeline.times) - 50
        view = timeline.view(index)
        for expiration in view.expirations[:5]:
            part = view.slice(expiration, "put")
            years = years_between(view.instant, part.settlement_at)
            for i in range(0, len(part.strikes), 7):
                if part.iv[i]:
                    discount = 2.718281828459045 ** (-MK30.rate * years)
                    exact = black_delta(
                        part.forward, float(part.strikes[i]), years, int(part.iv[i]) / 10_000, discount, -1
                    )
                    self.assertAlmostEqual(int(part.delta[i]) / 10_000, exact, delta=0.5001e-4)

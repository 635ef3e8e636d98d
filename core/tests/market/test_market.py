"""Several underlyings on one clock: each at its last snapshot near enough, and nothing from later."""

from __future__ import annotations

import dataclasses
import datetime as dt
import unittest

import numpy as np

from strell_core.formats import cubes
from strell_core.market.calendars import marrowick
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Market, Observation, market_of
from strell_core.scenario.generator import MK30
from tests.handmade import session_chains, timeline_of


def snapshots(day: str, *times: str) -> list[dict[str, object]]:
    return [
        {"at": f"{day} {time}", "spot": 3100 + n, "2026-10-16/call/3150": "6.00/6.20"} for n, time in enumerate(times)
    ]


class MarketTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.main = timeline_of(session_chains([
            *snapshots("2026-10-05", "10:00", "10:05", "10:10", "10:15"), *snapshots("2026-10-06", "10:00", "10:05"),
        ]))  # fmt: skip
        other = session_chains([*snapshots("2026-10-05", "09:56", "10:01"), *snapshots("2026-10-06", "17:30")])
        cls.market = Market(cls.main, {
            "OTHR": cubes.in_memory(other, dataclasses.replace(MK30, symbol="OTHR"), marrowick(), "other"),
        })  # fmt: skip

    def test_the_clock_is_that_of_the_first(self) -> None:
        self.assertEqual(self.market.places(0, 6).tolist(), list(range(6)))
        self.assertIs(self.market.timeline("MK30"), self.main)
        self.assertIs(market_of(self.market), self.market)
        self.assertIs(market_of(self.main).main, self.main)
        with self.assertRaises(KeyError):
            self.market.timeline("ELSE")

    def test_another_is_read_at_its_last_snapshot_within_a_step(self) -> None:
        # 09:56 is four minutes old at 10:00; 10:01 four at 10:05, nine at 10:10; the next day it comes too late
        self.assertEqual(self.market.places(0, 6, "OTHR").tolist(), [0, 1, -1, -1, -1, -1])
        seen = [Observation(self.market, i).view("OTHR") for i in range(3)]
        self.assertEqual([view.spot if view else None for view in seen], [310_000, 310_100, None])

    def test_what_is_not_seen_yet_has_the_last_price_in_the_units_of_now(self) -> None:
        # on the second day it is recorded at 10:05 only; it was split in two overnight
        other = session_chains([*snapshots("2026-10-05", "10:00", "10:05"), *snapshots("2026-10-06", "10:05", "10:10")])
        split = dataclasses.replace(MK30, symbol="SPLT", splits=((dt.date(2026, 10, 6), 2.0),))
        there = cubes.in_memory(other, split, marrowick(), "split")
        seen = Market(self.main, {"SPLT": there}).on_clock("SPLT")
        self.assertEqual(seen.spot.tolist(), [310_000, 310_100, 310_100, 310_100, 155_050, 310_000])
        self.assertEqual([seen.recorded_at(i) >= 0 for i in range(6)], [True, True, True, False, False, True])
        self.assertEqual(list(seen.splits), [4])
        unit = ContractKey.unit("SPLT")
        self.assertEqual(seen.quote_at(unit, 4), (-1, -1))
        self.assertEqual(seen.quotes(unit, 3, 6)[0].tolist(), [-1, -1, 310_000 * seen.spot_parts])
        put = ContractKey(dt.date(2026, 10, 16), "call", 3150, "SPLT")
        self.assertEqual([seen.quote_at(put, i)[0] > 0 for i in range(6)], [True, True, True, False, False, True])
        self.assertEqual([b > 0 for b in seen.quotes(put, 1, 6)[0].tolist()], [True, True, False, False, True])
        self.assertEqual(seen.recorded_anew(0, 6).tolist(), [0, 1, 5])
        self.assertEqual([seen.recorded_after(int(self.main.times[i])) for i in (0, 1, 4)], [1, 5, 5])

    def test_only_completed_sessions_are_known(self) -> None:
        first, second = (Observation(self.market, i) for i in (3, 4))
        self.assertEqual([len(o.daily("OTHR").dates) for o in (first, second)], [0, 1])
        self.assertEqual([len(o.daily().dates) for o in (first, second)], [0, 1])
        np.testing.assert_array_equal(second.daily("OTHR").close, [3101.0])

"""What a leg is carried at while nobody quotes it: its last quote since it was opened, else what it was opened for."""

from __future__ import annotations

import unittest
from types import SimpleNamespace
from typing import Any

import numpy as np

from strell_core.engine.marks import carried, valid_quotes
from strell_core.engine.state import LegState
from strell_core.market.instruments import ContractKey
from tests.demo import short_history

OPENED_FOR = 123_456


class CarriedTest(unittest.TestCase):
    def setUp(self) -> None:
        self.timeline = short_history()

    def leg(self, contract: Any, opened: int) -> int:
        """Carried at the history's end, opened at snapshot ``opened``."""
        trade: Any = SimpleNamespace(opened_at=int(self.timeline.times[opened]))
        held = LegState("s1", contract, -1, OPENED_FOR)
        return carried(self.timeline, trade, held, len(self.timeline.times) - 1)

    def test_the_last_quote_since_it_was_opened_else_its_price(self) -> None:
        gone = next(cube for cube in self.timeline.cubes.values() if cube.end < len(self.timeline.times) - 2)
        strike = gone.strikes[len(gone.strikes) // 2]
        contract = ContractKey(gone.expiration, "put", strike, self.timeline.underlying.symbol)
        bids, asks = self.timeline.quotes(contract, gone.start, gone.end)
        known = np.flatnonzero(valid_quotes(bids, asks))
        last = int(known[-1])
        mid = int(bids[last] + asks[last]) // 2
        self.assertNotEqual(mid, OPENED_FOR)
        self.assertEqual(self.leg(contract, gone.start), mid)
        self.assertEqual(self.leg(contract, gone.start + last + 1), OPENED_FOR, "nobody quoted it since")

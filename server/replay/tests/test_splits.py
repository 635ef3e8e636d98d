"""A replay session over a split: what is held is called and counted anew, its worth is not."""

from __future__ import annotations

from decimal import Decimal
from unittest import TestCase

import numpy as np

from replay.life import Life, life
from replay.models import ReplayFill, ReplaySession
from strell_core.market.prices import PARTS
from strell_core.results.equity import equity_at
from tests.engine.test_splits import AFTER, BEFORE, timeline

CASH = Decimal(50_000)
SIX = 6 * 20 * PARTS


class SplitTest(TestCase):
    def fills(self, history) -> list[ReplayFill]:
        return [
            ReplayFill(
                at=int(history.times[1]), order=1, contract="MK30/2026-10-16/put/3040", contracts=-2, price_parts=SIX,
                commission=Decimal("1.60"),
            )
        ]  # fmt: skip

    def lived(self, history, fills: list[ReplayFill], until: int) -> Life:
        first, now = int(history.times[0]), int(history.times[until])
        return life(ReplaySession(cash=CASH, start=first, cursor=now), history, fills)

    def test_held_before_and_after(self) -> None:
        history = timeline(2.0)
        before, now = (self.lived(history, self.fills(history), i) for i in (2, 3))
        self.assertEqual([(h.contract.strike, h.contracts, h.average) for h in before.open], [(3040, -2, SIX)])
        self.assertEqual([(h.contract.strike, h.contracts, h.average) for h in now.open], [(1520, -4, SIX // 2)])
        self.assertEqual((before.cash, now.cash), (CASH + 600 - Decimal("1.60"),) * 2)

    def test_the_curve_goes_on_and_closing_closes_what_is_there(self) -> None:
        history = timeline(2.0)
        out = ReplayFill(
            at=int(history.times[4]), order=2, contract="MK30/2026-10-16/put/1520", contracts=4,
            price_parts=round(1.5 * 20 * PARTS), commission=Decimal("3.20"),
        )  # fmt: skip
        lived = self.lived(history, [*self.fills(history), out], len(history.times) - 1)
        curve = equity_at(history, lived.history, np.arange(len(history.times)), CASH)[0] - float(CASH)
        self.assertEqual([round(value + 1.6, 2) for value in curve[1:4].tolist()], [-10.0, 90.0, 90.0])
        self.assertEqual(round(float(curve[-1]), 2), round(300 - 4.8, 2))
        self.assertEqual(lived.open, [])
        self.assertEqual(lived.cash, CASH + 300 - Decimal("4.80"))

    def test_where_contracts_cannot_be_followed_they_are_closed_at_their_last_mids(self) -> None:
        history = timeline(1.5, [*BEFORE, *AFTER])
        lived = self.lived(history, self.fills(history), 4)
        self.assertEqual(lived.open, [])
        (gone,) = lived.history.closed
        self.assertEqual((gone.rule, gone.legs[0].closed_parts), ("split", round(5.1 * 20 * PARTS)))

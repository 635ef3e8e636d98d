"""A replay session over a split: what is held is called and counted anew, its worth is not."""

from __future__ import annotations

from decimal import Decimal
from unittest import TestCase

import numpy as np

from replay.models import ReplayFill, ReplaySession
from replay.position import position
from replay.queries import _pnl_series
from strell_core.market.prices import PARTS
from tests.engine.test_splits import AFTER, BEFORE, timeline

CASH = Decimal(50_000)
SIX = 6 * 20 * PARTS


class SplitTest(TestCase):
    def fills(self, history) -> list[ReplayFill]:
        return [
            ReplayFill(
                at=int(history.times[1]), order=1, contract="2026-10-16/put/3040", contracts=-2, price_parts=SIX,
                commission=Decimal("1.60"),
            )
        ]  # fmt: skip

    def test_held_before_and_after(self) -> None:
        history = timeline(2.0)
        fills = self.fills(history)
        before, now = (position(history, fills, CASH, int(history.times[i])) for i in (2, 3))
        self.assertEqual([(h.contract.strike, h.contracts, h.average) for h in before.held], [(3040, -2, SIX)])
        self.assertEqual([(h.contract.strike, h.contracts, h.average) for h in now.held], [(1520, -4, SIX // 2)])
        self.assertEqual((before.cash, now.cash), (CASH + 600 - Decimal("1.60"),) * 2)

    def test_the_curve_goes_on_and_closing_closes_what_is_there(self) -> None:
        history = timeline(2.0)
        fills = self.fills(history)
        out = ReplayFill(
            at=int(history.times[4]), order=2, contract="2026-10-16/put/1520", contracts=4,
            price_parts=round(1.5 * 20 * PARTS), commission=Decimal("3.20"),
        )  # fmt: skip
        session = ReplaySession(cash=CASH)
        curve = _pnl_series(history, session, [*fills, out], np.arange(len(history.times)))
        self.assertEqual([round(value + 1.6, 2) for value in curve[1:4]], [-10.0, 90.0, 90.0])
        self.assertEqual(curve[-1], round(300 - 4.8, 2))
        flat = position(history, [*fills, out], CASH, int(history.times[5]))
        self.assertEqual(flat.open, [])
        self.assertEqual(flat.cash, CASH + 300 - Decimal("4.80"))

    def test_where_contracts_cannot_be_followed_they_stay_without_a_quote(self) -> None:
        history = timeline(1.5, [*BEFORE, *AFTER])
        held = position(history, self.fills(history), CASH, int(history.times[4])).held
        self.assertEqual([(h.contract.strike, h.contracts) for h in held], [(3040, -2)])
        self.assertFalse(history.view(4).quote(held[0].contract).valid)

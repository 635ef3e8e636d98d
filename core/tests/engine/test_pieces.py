"""What a leg came together from, and what of it goes first."""

from __future__ import annotations

import datetime as dt
import unittest
from decimal import Decimal

from strell_core.engine.corporate import over_split
from strell_core.engine.pieces import added, closed_pieces, parted
from strell_core.engine.state import EngineState, LegState, Piece, TradeState
from strell_core.engine.stored import dump, load
from strell_core.market.instruments import ContractKey
from strell_core.market.splits import Split
from tests.demo import short_history

PUT = ContractKey(dt.date(2026, 10, 16), "put", Decimal(3000), "MK30")
LEG = added(added(LegState("p", PUT, -2, 6000), -1, 9000, 100), -2, 4000, 200)


class PiecesTest(unittest.TestCase):
    def test_rules_see_the_average_and_the_record_what_came_when(self) -> None:
        self.assertEqual((LEG.contracts, LEG.opened_parts), (-5, round((2 * 6000 + 9000 + 2 * 4000) / 5)))
        self.assertEqual(LEG.came, (Piece(-2, 6000, 0), Piece(-1, 9000, 100), Piece(-2, 4000, 200)))
        closes = closed_pieces(LEG, parted(LEG, -5)[0], 5000, 300, "order")
        self.assertEqual(
            [(item.contracts, item.opened_parts, item.opened_at) for item in closes],
            [(-2, 6000, 0), (-1, 9000, 100), (-2, 4000, 200)],
        )

    def test_the_oldest_goes_first_and_a_part_at_the_average(self) -> None:
        gone, left = parted(LEG, -3)
        self.assertEqual([(item.contracts, item.opened_at) for item in gone], [(-2, 0), (-1, 100)])
        self.assertEqual(left.pieces, (Piece(-2, LEG.opened_parts, 200),))
        self.assertEqual((left.contracts, left.opened_at), (-2, 0))
        gone, left = parted(LEG, -1)
        self.assertEqual(left.pieces[0], Piece(-1, LEG.opened_parts, 0))
        made = sum(item.contracts * item.opened_parts for item in (*gone, *left.pieces))
        self.assertEqual(made, LEG.contracts * LEG.opened_parts)

    def test_of_one_piece_nothing_is_said(self) -> None:
        one = LegState("p", PUT, 4, 6000)
        gone, left = parted(one, 1)
        self.assertEqual((gone, left.pieces, left.contracts), ([Piece(1, 6000, 0)], (), 3))

    def test_it_is_stored(self) -> None:
        trade = TradeState(1, 5, 10, 20, dt.date(2026, 10, 5), (LEG,), 30_000, more_lots=3)
        state = EngineState(Decimal(10), 2, (trade,))
        self.assertEqual(load(dump(state), "MK30"), state)

    def test_a_split_keeps_what_came_when(self) -> None:
        timeline = short_history()
        cube = next(iter(timeline.cubes.values()))
        strike = 2 * Decimal(str(cube.strikes[0]))
        leg = added(LegState("p", ContractKey(cube.expiration, "put", strike, "MK30"), 1, 400), 1, 800, 50)
        trade = TradeState(1, 1, 0, 0, cube.expiration, (leg,), 0)
        followed = over_split(timeline, trade, Split(cube.expiration, 2.0), 70)
        assert followed is not None
        self.assertEqual([item.opened_parts for item in followed.closed_legs], [400, 800])
        self.assertEqual((followed.legs[0].contracts, followed.legs[0].opened_parts), (4, 300))


if __name__ == "__main__":
    unittest.main()

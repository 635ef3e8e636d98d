"""Arrays that grow keep what was put into them."""

from __future__ import annotations

import unittest

import numpy as np

from strell_core.engine.known import Grown, Known, Table
from strell_core.market.tape import NONE


class KnownTest(unittest.TestCase):
    def test_rows_keep_their_places(self) -> None:
        grown = Grown(np.float64)
        places = [grown.extend(np.full(k, float(k))) for k in range(1, 60)]
        self.assertEqual(places[:4], [0, 1, 3, 6])
        self.assertEqual(grown.count, 59 * 60 // 2)
        for k, place in enumerate(places, 1):
            self.assertEqual(set(grown.rows[place : place + k]), {float(k)})
        self.assertEqual(grown.add(7.5), grown.count - 1)
        self.assertEqual(grown.rows[grown.count - 1], 7.5)

    def test_a_table_grows_along_both(self) -> None:
        table = Table(np.int64)
        self.assertEqual([table.place(key) for key in ("a", "b", "a", "c")], [0, 1, 0, 2])
        table.put(1, 700, 5)
        for number in range(9):
            table.place(f"key {number}")
        table.put(11, 3, 6)
        table.make_room(5_000)
        self.assertEqual((table.cells[1, 700], table.cells[11, 3]), (5, 6))
        self.assertEqual(np.count_nonzero(table.cells != NONE), 2)
        self.assertTrue(table.cells.shape[0] >= 12 and table.cells.shape[1] >= 5_000)
        self.assertEqual(table.keys[:3], ["a", "b", "c"])

    def test_it_says_what_it_takes(self) -> None:
        known = Known()
        before = known.megabytes
        known.floats.extend(np.zeros(2**20))
        self.assertAlmostEqual(known.megabytes - before, 8, delta=0.1)

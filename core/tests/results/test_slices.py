"""Trades told apart: ranges, choices that filter the other columns, ranges of means against scipy."""

from __future__ import annotations

import unittest

import numpy as np
import scipy.stats

from strell_core.results.slices import Names, Numbers, edges, mean_range, sliced

RNG = np.random.default_rng(1)
PNL = RNG.normal(10, 100, 200).round(2)
DAYS = Names("weekday", "Weekday", ["Wed", "Mon"] * 100, {"Mon": "Monday", "Tue": "Tuesday", "Wed": "Wednesday"})
DTE = Numbers("dte", "DTE", np.arange(200.0) % 50, "days")


class SlicesTest(unittest.TestCase):
    def test_every_trade_is_in_one_cell_of_each_column(self) -> None:
        found = sliced([DAYS, DTE], PNL, {})
        self.assertTrue(found.chosen.all())
        self.assertEqual(
            [cell.key for cell in found.cells["weekday"]], ["Mon", "Wed"], "told in order, without empty ones"
        )
        for cells in found.cells.values():
            self.assertEqual(sum(cell.count for cell in cells), 200)
            self.assertAlmostEqual(sum(cell.total for cell in cells), float(PNL.sum()), places=6)
        monday = found.cells["weekday"][0]
        here = PNL[1::2]
        self.assertEqual((monday.title, monday.low, monday.high), ("Monday", None, None))
        self.assertAlmostEqual(monday.mean or 0, float(here.mean()))
        self.assertAlmostEqual(monday.win_rate or 0, float((here > 0).mean()))

    def test_ranges_say_what_they_hold(self) -> None:
        cells = sliced([DTE], PNL, {}).cells["dte"]
        self.assertEqual([cell.title for cell in cells], ["up to 9 days", "10 to 19 days", "20 to 28 days", "29 to 38 days", "39 days and more"])  # fmt: skip
        self.assertEqual([cell.count for cell in cells], [40, 40, 36, 40, 44])
        self.assertEqual([(cell.low, cell.high) for cell in cells[1:3]], [(10.0, 20.0), (20.0, 29.0)])
        self.assertAlmostEqual(cells[1].total, float(PNL[(DTE.values >= 10) & (DTE.values < 20)].sum()), places=6)

    def test_what_is_measured_has_ends_between_values(self) -> None:
        values = np.linspace(10.05, 19.95, 100)
        titles = [cell.title for cell in sliced([Numbers("iv", "IV", values, "%", 0.01)], PNL[:100], {}).cells["iv"]]
        self.assertEqual((titles[0], titles[1], titles[-1]), ("below 12 %", "12 to 14 %", "18 % and more"))
        alone = sliced([Numbers("lots", "Lots", np.repeat([1.0, 2.0, 3.0], 10), "")], PNL[:30], {}).cells["lots"]
        self.assertEqual([cell.title for cell in alone], ["up to 1", "2", "3 and more"])

    def test_a_choice_filters_the_other_columns_and_not_its_own(self) -> None:
        found = sliced([DAYS, DTE], PNL, {"weekday": ["Mon"], "dte": ["0", "1"], "unheard": ["x"]})
        monday, low = np.arange(200) % 2 == 1, DTE.values < 20
        np.testing.assert_array_equal(found.chosen, monday & low)
        self.assertEqual(sum(cell.count for cell in found.cells["dte"]), 100, "all Mondays")
        self.assertEqual(sum(cell.count for cell in found.cells["weekday"]), 80, "all up to 20 days")
        nothing = sliced([DAYS, DTE], PNL, {"weekday": ["Tue"]})
        self.assertFalse(nothing.chosen.any())
        self.assertTrue(all(cell.count == 0 and cell.mean is None for cell in nothing.cells["dte"]))

    def test_trades_without_a_value_have_a_cell_of_their_own(self) -> None:
        values = np.array([1.0, np.nan, 3.0, np.nan])
        found = sliced([Numbers("rank", "IV rank", values)], np.array([1.0, 2.0, 3.0, 4.0]), {"rank": ["none"]})
        self.assertEqual([cell.count for cell in found.cells["rank"]][-1], 2)
        self.assertEqual(found.chosen.tolist(), [False, True, False, True])

    def test_edges_are_round_and_no_range_is_empty(self) -> None:
        self.assertEqual(edges(np.full(10, 7.0), 1.0), [])
        self.assertEqual(edges(np.array([np.nan]), 1.0), [])
        skewed = np.concatenate([np.full(150, 9.0), np.arange(50.0) + 10])
        for cut in edges(skewed, 1.0):
            self.assertTrue((skewed < cut).any() and (skewed >= cut).any())
        fine = edges(RNG.normal(15, 2, 500), 0.01)
        self.assertEqual(fine, [round(cut, 1) for cut in fine], "no more digits than the spread asks for")
        self.assertEqual(len(fine), 4)


class ChanceTest(unittest.TestCase):
    """References: scipy's Student t interval and Welch's test."""

    def test_the_range_of_a_mean(self) -> None:
        here = PNL[:30]
        theirs = scipy.stats.t.interval(0.9, 29, loc=here.mean(), scale=scipy.stats.sem(here))
        np.testing.assert_allclose(mean_range(here) or (0, 0), theirs)
        self.assertIsNone(mean_range(here[:4]))

    def test_apart_is_welch_at_a_shared_level(self) -> None:
        names = Names("who", "Who", ["a"] * 30 + ["b"] * 50 + ["c"] * 20, {"a": "A", "b": "B", "c": "C"})
        rng = np.random.default_rng(3)
        told = {True: 0, False: 0}
        for shift in (0.0, 20.0, 45.0, 60.0, 90.0, 160.0):
            pnl = rng.normal(0, 100, 100)
            pnl[:30] += shift
            for cell in sliced([names], pnl, {}).cells["who"]:
                inside = np.array(names.values) == cell.key
                p = scipy.stats.ttest_ind(pnl[inside], pnl[~inside], equal_var=False).pvalue
                self.assertEqual(cell.apart, bool(p < 0.05 / 3), (shift, cell.key, p))
                told[cell.apart] += 1
        self.assertGreater(min(told.values()), 3)

    def test_groups_of_different_spread_and_size_are_apart_as_welch_says(self) -> None:
        """Degrees of freedom matter where one of the two is small: just above and below where scipy draws the line."""
        names = Names("who", "Who", ["a"] * 6 + ["b"] * 60, {"a": "A", "b": "B"})
        rng = np.random.default_rng(8)
        noise, told = np.concatenate([rng.normal(0, 2, 6), rng.normal(0, 60, 60)]), set()
        for pair in (noise, np.concatenate([30 * noise[:6], noise[6:] / 60])):
            for shift in np.linspace(0, 120, 60):
                pnl = pair + np.where(np.array(names.values) == "a", shift, 0.0)
                p = scipy.stats.ttest_ind(pnl[:6], pnl[6:], equal_var=False).pvalue
                apart = {cell.apart for cell in sliced([names], pnl, {}).cells["who"]}
                self.assertEqual(apart, {bool(p < 0.05 / 2)}, (shift, p))
                told |= apart
        self.assertEqual(told, {True, False})

    def test_columns_of_noise_stand_out_as_rarely_as_said(self) -> None:
        names = Names("who", "Who", [str(n % 5) for n in range(200)], {str(n): str(n) for n in range(5)})
        rng = np.random.default_rng(4)
        out = sum(
            any(cell.apart for cell in sliced([names], rng.normal(0, 50, 200), {}).cells["who"]) for _ in range(200)
        )
        self.assertLessEqual(out, 19, "5 % of 200 columns, and three deviations")

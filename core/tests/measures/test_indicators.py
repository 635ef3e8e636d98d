"""Indicators on sessions and on bars, statistics and the table of moves, against pandas and by hand."""

from __future__ import annotations

import math
import unittest
from typing import Any

import numpy as np
import pandas as pd

from strell_core.market.market import Market, Observation
from strell_core.measures import values
from strell_core.measures.bars import bars_of
from strell_core.measures.daily.moves import BUCKETS, move_table, wilson
from strell_core.measures.frames import Frame
from strell_core.measures.measure import load
from tests.demo import demo_history, short_history


def full(name: str, **params: Any) -> dict[str, Any]:
    made: dict[str, Any] = values.normal({"measure": name, **params})
    return made


class IndicatorTest(unittest.TestCase):
    """Reference: pandas' rolling windows and exponential weights over the demo's closes."""

    @classmethod
    def setUpClass(cls) -> None:
        load()
        cls.market = Market(demo_history())
        cls.close = pd.Series(demo_history().daily.close)

    def series(self, name: str, **params: Any) -> np.ndarray:
        return values.by_session(full(name, **params), self.market, "MK30")

    def same(self, found: np.ndarray, wanted: Any, grid: float, skip: int = 0) -> None:
        np.testing.assert_allclose(found[skip:], np.asarray(wanted, float)[skip:], atol=grid / 2 + 1e-9)
        self.assertLess(np.isnan(found).mean(), 0.5)

    def test_averages(self) -> None:
        self.same(self.series("moving_average", sessions=50), self.close.rolling(50).mean(), 0.01)
        seeded = self.close.copy()
        seeded[:19], seeded[19] = np.nan, self.close[:20].mean()
        exponential = seeded.ewm(alpha=2 / 21, adjust=False).mean()
        self.same(self.series("moving_average", kind="exponential", sessions=20), exponential, 0.01)

    def test_macd_long_after_its_beginning(self) -> None:
        """How the first averages are seeded differs between libraries and is forgotten after 300 sessions."""
        line = self.close.ewm(span=12, adjust=False).mean() - self.close.ewm(span=26, adjust=False).mean()
        signal = line.ewm(span=9, adjust=False).mean()
        for name, wanted in (("line", line), ("signal", signal), ("histogram", line - signal)):
            self.same(self.series("macd", line=name), wanted, 0.001, 300)

    def test_band(self) -> None:
        middle, width = self.close.rolling(20).mean(), 2 * self.close.rolling(20).std(ddof=0)
        self.same(self.series("band_position"), 100 * (self.close - middle + width) / (2 * width), 0.01)

    def test_channel_by_numpys_least_squares(self) -> None:
        found = self.series("channel_position", sessions=30, width=1.5)
        for session in (29, 100, 400, 700):
            y = self.close[session - 29 : session + 1].to_numpy()
            slope, start = np.polyfit(np.arange(30), y, 1)
            line = start + slope * np.arange(30)
            half = 1.5 * math.sqrt(np.mean((y - line) ** 2))
            self.assertAlmostEqual(found[session], 100 * (y[-1] - line[-1] + half) / (2 * half), delta=0.006)

    def test_returns_and_extremes(self) -> None:
        self.same(self.series("session_return", sessions=5), 100 * (self.close / self.close.shift(5) - 1), 0.01)
        self.same(self.series("close_before"), self.close, 0.01)
        for which, wanted in (("highest", self.close.rolling(60).max()), ("lowest", self.close.rolling(60).min())):
            self.same(self.series("from_extreme", which=which, sessions=60), 100 * (self.close / wanted - 1), 0.01)

    def test_percentile_and_statistics(self) -> None:
        iv = pd.Series(self.series("atm_iv"))
        below = iv.rolling(60).apply(lambda window: 100 * (window[:-1] < window[-1]).mean(), raw=True)
        self.same(self.series("iv_percentile", sessions=60), below, 0.01)
        rolled = iv.rolling(60)
        rank = 100 * (iv - rolled.min()) / (rolled.max() - rolled.min())
        for which, wanted in (
            ("average", rolled.mean()), ("median", rolled.median()), ("highest", rolled.max()), ("lowest", rolled.min()),
            ("change", iv - iv.shift(60)), ("deviations", (iv - rolled.mean()) / rolled.std(ddof=1)), ("percentile", below),
            ("rank", rank),
        ):  # fmt: skip
            found = self.series("statistic", which=which, of=full("atm_iv"), sessions=60)
            self.same(found, wanted, 0.0001)
        self.same(self.series("iv_rank", sessions=60), rank, 0.01)

    def test_a_range_needs_sessions_of_several_snapshots(self) -> None:
        found = self.series("true_range", sessions=5)
        timeline = demo_history()
        several = [n for n in range(len(timeline.dates)) if not timeline.is_single[int(timeline.first[n])]]
        self.assertTrue(np.isnan(found[: several[0] + 5]).all())
        bars = [timeline.spot[timeline.first[n] : timeline.first[n + 1]] / 100 for n in several[:6]]
        closes = [timeline.daily.close[n] for n in several[:6]]
        ranges = [max(b.max(), c) - min(b.min(), c) for b, c in zip(bars[1:], closes, strict=False)]
        self.assertAlmostEqual(found[several[0] + 5], np.mean(ranges[:5]), delta=0.006)

    def test_bars_are_the_recorded_prices_and_known_when_they_end(self) -> None:
        timeline = short_history()
        bars, ends = bars_of(timeline, 30)
        session = next(n for n in range(len(timeline.dates)) if not timeline.is_single[int(timeline.first[n])])
        a = int(timeline.first[session])
        step = timeline.step_minutes(session)
        first = a + 30 // step
        self.assertEqual(int(ends[0]), first)
        price = timeline.spot[a : first + 1] / 100
        self.assertEqual(
            [bars.open[0], bars.high[0], bars.low[0], bars.close[0]], [price[0], price.max(), price.min(), price[-1]]
        )
        found = values.over(full("moving_average", sessions=2, bars="30"), Frame(Market(timeline), a, a + 20, "MK30"))
        second = int(ends[1])
        self.assertTrue(np.isnan(found[: second - a]).all())
        self.assertAlmostEqual(found[second - a], bars.close[:2].mean(), delta=0.006)


class MoveTableTest(unittest.TestCase):
    """Reference: an empirical table by pandas' groupby over daily closes of an index, a dataset that ``arch`` ships."""

    @classmethod
    def setUpClass(cls) -> None:
        from arch.data import sp500

        cls.close = sp500.load()["Adj Close"].to_numpy()

    def test_counts_by_bucket(self) -> None:
        table = pd.DataFrame({"close": self.close})
        table["before"] = 100 * (table.close / table.close.shift(2) - 1)
        table["after"] = 100 * (table.close.shift(-3) / table.close - 1)
        table = table.dropna()
        table["bucket"] = pd.cut(table.before, list(BUCKETS), right=False, labels=False)
        table["hit"] = table.after.between(-1.5, 2.0)
        wanted = table.groupby("bucket").hit.agg(["count", "sum"])
        found = move_table(self.close, 2, 3, -1.5, 2.0)
        self.assertEqual([(c.cases, c.hits) for c in found], [tuple(row) for row in wanted.to_numpy()])
        self.assertGreater(min(c.cases for c in found), 100)

    def test_wilsons_interval(self) -> None:
        """Reference: statsmodels, a general statistics library."""
        from statsmodels.stats.proportion import proportion_confint

        for hits, cases in ((0, 10), (3, 20), (50, 100), (20, 20)):
            np.testing.assert_allclose(
                wilson(hits, cases), proportion_confint(hits, cases, method="wilson"), atol=1e-12
            )

    def test_the_measure_counts_only_what_was_over(self) -> None:
        timeline = demo_history()
        close = timeline.daily.close
        found = values.by_session(
            full("move_chance", **{"horizon": 2, "given": 1, "sessions": 252, "least": 5}), Market(timeline), "MK30"
        )
        checked = 0
        for session in (100, 260, 300, 500, 700):
            before = 100 * (close[session] / close[session - 1] - 1)
            low, high = next((a, b) for a, b in zip(BUCKETS, BUCKETS[1:], strict=False) if a <= before < b)
            cases = hits = 0
            for n in range(max(1, session + 1 - 252), session - 1):
                if low <= 100 * (close[n] / close[n - 1] - 1) < high:
                    cases += 1
                    hits += -1 <= 100 * (close[n + 2] / close[n] - 1) <= 1
            if cases >= 5:
                self.assertAlmostEqual(found[session], 100 * hits / cases, delta=0.006)
                checked += 1
        self.assertGreaterEqual(checked, 3)


class GrammarTest(unittest.TestCase):
    def over(self, value: Any, index: int = 3000) -> float:
        found = values.over(values.normal(value), Frame(Market(demo_history()), index, index + 1, "MK30"))
        assert found is not None
        return float(found[0])

    def test_sums_multiples_differences_and_quotients(self) -> None:
        load()
        spot, close = self.over({"measure": "price"}), self.over({"measure": "close_before"})
        two = {"first": {"measure": "price"}, "second": {"measure": "close_before"}}
        self.assertEqual(self.over({"measure": "sum", **two}), spot + close)
        self.assertEqual(self.over({"measure": "difference", **two}), spot - close)
        self.assertEqual(self.over({"measure": "quotient", **two}), spot / close)
        self.assertEqual(
            self.over({"measure": "scaled", "of": {"measure": "price"}, "times": 0.5, "plus": -3}), 0.5 * spot - 3
        )
        self.assertTrue(math.isnan(self.over({"measure": "quotient", "first": 1, "second": 0})))
        self.assertEqual(self.over(7.25), 7.25)

    def test_one_value_while_a_comparison_holds_another_otherwise(self) -> None:
        load()
        spot = self.over({"measure": "price"})
        for right, wanted in ((spot - 1, 1), (spot, 2), (spot + 1, 2)):
            value = {
                "measure": "while",
                "then": 1,
                "left": {"measure": "price"},
                "is": "above",
                "right": right,
                "otherwise": 2,
            }
            self.assertEqual(self.over(value), wanted)
        nothing = {"measure": "quotient", "first": 1, "second": 0}
        known = {"left": 1, "is": "above", "right": 0}
        self.assertEqual(self.over({"measure": "while", "then": 3, **known, "otherwise": nothing}), 3)
        self.assertTrue(math.isnan(self.over({"measure": "while", "then": nothing, **known, "otherwise": 4})))
        self.assertTrue(
            math.isnan(self.over({"measure": "while", "then": 3, **known, "left": nothing, "otherwise": 4}))
        )
        # what does not exist, here a position, is no reason for the first value
        held = {"measure": "while", "then": 3, **known, "left": {"measure": "days_held_so_far"}, "otherwise": 4}
        self.assertEqual(self.over(held), 4)
        # by session it is what its parts are
        market = Market(demo_history())
        parts = {
            "then": {"measure": "price"},
            "otherwise": {"measure": "scaled", "of": {"measure": "price"}, "times": 2},
        }
        value = values.normal({"measure": "while", "left": {"measure": "rsi"}, "is": "at least", "right": 50, **parts})
        made = values.by_session(value, market, "MK30")
        price, rsi = (values.by_session(values.normal({"measure": name}), market, "MK30") for name in ("price", "rsi"))
        wanted = [math.nan if math.isnan(r) else p if r >= 50 else 2 * p for p, r in zip(price, rsi, strict=True)]
        np.testing.assert_array_equal(made, wanted)
        self.assertEqual({2 * p == m for p, m in zip(price, made, strict=True) if not math.isnan(m)}, {True, False})

    def test_a_value_does_not_depend_on_how_much_is_asked_for(self) -> None:
        """Instant by instant, and over a stretch, each measure of a market says the same."""
        market, begin, end = Market(demo_history()), 700, 1000
        for measure in load().all():
            if measure.declaration.scope not in ("market", "clock", "event"):
                continue
            value = values.normal({"measure": measure.declaration.id})
            whole = values.over(value, Frame(market, begin, end, "MK30"))
            for index in (begin, begin + 57, begin + 133, end - 1):
                one = values.over(value, Frame(market, index, index + 1, "MK30"))
                np.testing.assert_array_equal(one, whole[index - begin : index - begin + 1], measure.declaration.id)

    def test_what_is_wrong_is_named_with_what_is_allowed(self) -> None:
        load()
        for value, path, words in (
            ({"measure": "rsii"}, "measure", "'rsii' is not known; did you mean rsi"),
            ({"measure": "zzzzzz"}, "measure", "'zzzzzz' is not known; there is"),
            ({"measure": "pnl"}, "measure", "speaks of a position, which is not known here"),
            ({"measure": "rsi", "sessions": 1}, "sessions", "must lie between 2 and 100"),
            (
                {"measure": "scaled", "of": {"measure": "rsi", "length": 3}},
                "of/length",
                "is not a value of this sentence",
            ),
            ({"measure": "scaled", "of": "x"}, "of", "is no value; write a number"),
            ("x", "", "is no value"),
            ([1], "", "is no value"),
        ):
            found = list(values.problems(values.normal(value), ("market",)))
            self.assertTrue(any(p == path and words in m for p, m in found), (value, found))
        deep: Any = 1
        for _ in range(6):
            deep = {"measure": "scaled", "of": deep}
        self.assertTrue(any("deep" in m for _, m in values.problems(values.normal(deep), ("market",))))

    def test_written_and_told(self) -> None:
        load()
        value = values.normal({"measure": "scaled", "of": {"measure": "rsi", "sessions": 9}, "times": 2})
        self.assertEqual(
            values.written(value),
            {"measure": "scaled", "of": {"measure": "rsi", "sessions": 9, "bars": "session"}, "times": 2, "plus": 0.0},
        )
        self.assertEqual(values.told(value), {"measure": "scaled", "of": {"measure": "rsi", "sessions": 9}, "times": 2})
        self.assertEqual(values.normal(values.written(value)), value)

    def test_at_an_instant_of_another_underlyings_clock(self) -> None:
        market = Market(demo_history())
        self.assertEqual(
            load()["price"].at(Observation(market, 800), {}, "MK30"),
            int(demo_history().spot[800]) / 100,  # type: ignore[attr-defined]
        )

"""Changes, the opening range, sizes and products, and where a session stands: against pandas and by hand."""

from __future__ import annotations

import unittest
from typing import Any

import numpy as np
import pandas as pd

from strell_core.market.market import Market
from strell_core.measures import values
from strell_core.measures.frames import Frame
from strell_core.measures.measure import load
from tests.demo import short_history
from tests.engine.split_by_hand import twice


def full(name: str, **params: Any) -> dict[str, Any]:
    load()
    made: dict[str, Any] = values.normal({"measure": name, **params})
    return made


class ChangesTest(unittest.TestCase):
    def setUp(self) -> None:
        self.market = Market(short_history())
        self.timeline = self.market.main
        self.frame = Frame(self.market, 0, len(self.timeline.times), "MK30")
        self.table = pd.DataFrame({
            "spot": self.timeline.spot / 100, "session": self.timeline.session_of, "minute": self.timeline.minute,
        })  # fmt: skip
        self.several = self.table.groupby("session")["spot"].transform("size") > 1

    def over(self, name: str, **params: Any) -> np.ndarray:
        found = values.over(full(name, **params), self.frame)
        assert found is not None
        return found

    def same(self, found: np.ndarray, wanted: Any) -> None:
        np.testing.assert_allclose(found, np.asarray(wanted, float), atol=1e-4)
        self.assertLess(np.isnan(found).mean(), 0.9)

    def test_since_the_session_before(self) -> None:
        last = self.table.groupby("session")["spot"].last()
        wanted = self.table["spot"] - self.table["session"].map(last.shift())
        self.same(self.over("change_since_session", of={"measure": "price"}), wanted)
        by_session = values.by_session(full("change_since_session", of={"measure": "price"}), self.market, "MK30")
        self.same(by_session, last.diff())

    def test_over_minutes_within_the_session(self) -> None:
        found = self.over("change_over_minutes", of={"measure": "price"}, minutes=30)
        for _, part in self.table[self.several].groupby("session"):
            then = pd.merge_asof(part.assign(then=part["minute"] - 30), part[["minute", "spot"]], left_on="then", right_on="minute",
                                 suffixes=("", "_then"))["spot_then"]  # fmt: skip
            np.testing.assert_allclose(found[part.index], part["spot"].to_numpy() - then.to_numpy(), atol=1e-4)
        self.assertTrue(np.isnan(found[~self.several]).all(), "a session of one snapshot has no minutes before")

    def test_a_change_is_the_same_asked_for_an_instant(self) -> None:
        for name, more in (
            ("change_since_session", {}),
            ("change_over_minutes", {"minutes": 45}),
            ("opening_range", {}),
            ("opening_range", {"day": "yesterday"}),
        ):
            value = full(name, **more)
            whole = values.over(value, self.frame)
            for index in (0, 3, 70, 400, 1999, len(self.timeline.times) - 1):
                one = values.over(value, Frame(self.market, index, index + 1, "MK30"))
                np.testing.assert_array_equal(one, whole[index : index + 1], f"{name} at {index}")

    def test_the_opening_range(self) -> None:
        parts = self.table[self.several].groupby("session")
        first = parts["minute"].transform("first")
        early = self.table[self.several][self.table["minute"] - first <= 30].groupby("session")["spot"]
        known = (self.table["minute"] - first) >= 30
        high, low = early.max(), early.min()
        for which, by in (("high", high), ("low", low), ("middle", (high + low) / 2)):
            wanted = self.table["session"].map(by).where(known)
            self.same(self.over("opening_range", which=which), wanted)
        yesterday = self.table["session"].map(high.reindex(range(len(self.timeline.dates))).shift())
        self.same(self.over("opening_range", day="yesterday"), yesterday)

    def test_yesterday_s_range_is_told_in_today_s_units(self) -> None:
        session = len(self.timeline.dates) - 10
        whole, split = (Market(side) for side in twice(self.timeline, 2, session))
        at = int(self.timeline.first[session]) + 20
        for name, more in (
            ("opening_range", {"day": "yesterday"}),
            ("change_since_session", {"of": {"measure": "price"}}),
        ):
            one, other = (values.over(full(name, **more), Frame(m, at, at + 1, "MK30")) for m in (whole, split))
            np.testing.assert_allclose(one, 2 * other)
            days = [values.by_session(full(name, **more), m, "MK30") for m in (whole, split)]
            np.testing.assert_allclose(days[0][session:], 2 * days[1][session:], atol=1e-6)
            np.testing.assert_allclose(days[0][:session], days[1][:session], atol=1e-6)

    def test_size_product_larger_and_smaller(self) -> None:
        move, price = {"measure": "move_since_close"}, {"measure": "price"}
        a, b = self.over("move_since_close"), self.over("price")
        self.same(self.over("absolute", of=move), np.abs(a))
        self.same(self.over("product", first=move, second=price), a * b)
        self.same(self.over("larger", first=move, second=0.1), np.where(np.isnan(a), np.nan, np.maximum(a, 0.1)))
        self.same(self.over("smaller", first=move, second=0.1), np.where(np.isnan(a), np.nan, np.minimum(a, 0.1)))
        self.assertTrue((a < 0).any() and (a > 0.1).any())

    def test_where_a_session_stands(self) -> None:
        days = pd.Series(pd.to_datetime(pd.Index(self.timeline.calendar.dates)))
        places = {"week": days.dt.strftime("%G-%V"), "month": days.dt.strftime("%Y-%m")}
        for period, group in places.items():
            for end, ascending in (("start", True), ("close", False)):
                wanted = dict(zip(days.dt.date, days.groupby(group).rank(ascending=ascending), strict=True))
                found = values.by_session(full("session_number", period=period, end=end), self.market, "MK30")
                self.assertEqual(found.tolist(), [wanted[date] for date in self.timeline.dates])

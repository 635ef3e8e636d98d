"""Series of one's own: their last known value, and its age."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from strell_core.market.market import Market
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Frame
from strell_core.measures.measure import Measure, Params, Series, by_dates, measures

NAME = Param("series", "series", "Series", "")
KNOWN = "A value of a whole day counts from the next day on, one with a time from that instant on."
VALUE = Declaration(
    id="series_value", section="measure", title="A series of one's own", sentence="the series {series}", params=(NAME,),
    explains=f"Its last known value. {KNOWN} Unvalued before the first.", example="the series “BREADTH”",
    words=("signal", "own data", "indicator", "external"), scope="series", clock="snapshot",
)  # fmt: skip
AGE = Declaration(
    id="series_age", usual=("at most", 3), section="measure", title="Age of a series' last value", sentence="the age in days of the series {series}",
    params=(NAME,), explains=f"Days since its last value counts, with their parts. {KNOWN} Unvalued before the first.",
    example="the age in days of the series “BREADTH”", words=("signal", "stale", "own data"), scope="series", clock="snapshot", grid=0.0001,
)  # fmt: skip
DAY = 86_400


@dataclass(frozen=True)
class OfSeries(Measure):
    """``place``: 0 the value, 1 its age."""

    place: int

    def _at(self, market: Market, times: npt.NDArray[np.int64], name: str) -> Series:
        series = market.series.get(name)
        if series is None:
            return np.full(len(times), np.nan)
        value, age = series.last(times)
        return self.on_grid(age / DAY) if self.place else value

    def over(self, frame: Frame, params: Params) -> Series:
        return self._at(frame.market, frame.market.main.times[frame.begin : frame.end], params["series"])

    def by_session(self, market: Market, symbol: str, params: Params, units_of: dt.date | None = None) -> Series:
        main = market.main
        found = self._at(market, main.times[main.first[1:] - 1], params["series"])
        return by_dates(found, main, market.timeline(symbol))


measures.register(OfSeries(VALUE, 0))
measures.register(OfSeries(AGE, 1))

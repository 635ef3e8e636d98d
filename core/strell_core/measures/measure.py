"""Measures: array functions declared once, computed once a timeline, read at any instant."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from strell_core.market.market import Market, Observation
from strell_core.market.timeline import DailyHistory, Timeline
from strell_core.measures.declaration import Declaration
from strell_core.measures.registry import Registry, load_folder

Series = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Measure:
    """A number of a market. Its declaration's ``clock`` says what it is made of and when it is known:

    ``session``: ``series(daily history, params)`` gives one value a completed session as of its close, known from
    the next session on. ``snapshot``: ``series(timeline, params)`` gives one value a snapshot, known at it. NaN is
    unvalued. A series is anchored at the first of its clock: a longer history never changes an earlier value
    (semantics rule 21).
    """

    declaration: Declaration
    series: Callable[[Any, Mapping[str, Any]], Series]

    def value(self, history: DailyHistory, params: Mapping[str, Any]) -> float | None:
        """Of a session's clock: the last value of ``history`` on the declared grid; ``None``: unvalued."""
        if len(history.dates) == 0:
            return None
        return self._on_grid(float(self.series(history, params)[-1]))

    def _on_grid(self, value: float) -> float | None:
        """Rounded to the declared grid, so that a value does not depend on how much was computed with it."""
        if not math.isfinite(value):
            return None
        return round(round(value / self.declaration.grid) * self.declaration.grid, 10)

    def known(self, timeline: Timeline, params: Mapping[str, Any]) -> list[float | None]:
        """One value on its clock: a session's as known when it begins (one more than there are sessions), or a
        snapshot's. Computed once a timeline and parameters."""
        key = (self.declaration.id, tuple(sorted((name, repr(value)) for name, value in params.items())))
        if key not in timeline.computed:
            timeline.computed[key] = (
                self._by_session(timeline, params)
                if self.declaration.clock == "session"
                else [self._on_grid(value) for value in self.series(timeline, params).tolist()]
            )
        known: list[float | None] = timeline.computed[key]
        return known

    def _by_session(self, timeline: Timeline, params: Mapping[str, Any]) -> list[float | None]:
        """Between two splits closes have the same units, so one series serves all sessions there."""
        daily, count = timeline.daily, len(timeline.dates)
        out: list[float | None] = []
        for until in daily.unit_ends(count):
            history = daily.before(until)
            values = self.series(history, params).tolist() if len(history.dates) else []
            for session in range(len(out), until + 1):
                known = daily.earlier + session
                out.append(self._on_grid(values[known - 1]) if known else None)
        return out

    def at(self, observation: Observation, params: Mapping[str, Any], symbol: str = "") -> float | None:
        """The value known at an instant; ``None``: unvalued, or the underlying is not observed then."""
        market, index = observation.market, observation.index
        values = self.known(market.timeline(symbol), params)
        if self.declaration.clock == "session":
            return values[market.sessions_before(index, symbol)]
        place = market.place(index, symbol)
        return None if place is None else values[place]

    def over(self, market: Market, begin: int, end: int, params: Mapping[str, Any], symbol: str = "") -> Series:
        """What :meth:`at` gives at every snapshot of ``[begin, end)``; NaN: unvalued."""
        found = [self.at(Observation(market, index), params, symbol) for index in range(begin, end)]
        return np.array([np.nan if value is None else value for value in found])


measures: Registry[Measure] = Registry()


def load() -> Registry[Measure]:
    """All measures, their files imported."""
    from strell_core.measures import daily

    load_folder(daily)
    return measures

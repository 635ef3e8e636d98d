"""Measures: one array function each, from completed sessions to a value a session."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from strell_core.market.timeline import DailyHistory
from strell_core.measures.declaration import Declaration
from strell_core.measures.registry import Registry, load_folder

Series = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Measure:
    """A daily measure. ``series(history, params)`` gives one value per session in ``history`` as of
    that session's close (NaN: unvalued), anchored at the first session, so that a longer history
    never changes an earlier value."""

    declaration: Declaration
    series: Callable[[DailyHistory, Mapping[str, Any]], Series]

    def value(self, history: DailyHistory, params: Mapping[str, Any]) -> float | None:
        """The last value of ``history``, rounded to the declared grid; ``None``: unvalued."""
        if len(history.dates) == 0:
            return None
        last = float(self.series(history, params)[-1])
        if not np.isfinite(last):
            return None
        return round(round(last / self.declaration.grid) * self.declaration.grid, 10)


measures: Registry[Measure] = Registry()


def load() -> Registry[Measure]:
    """All measures, their files imported."""
    from strell_core.measures import daily

    load_folder(daily)
    return measures

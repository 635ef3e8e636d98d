"""A dated series of one's own: what was known of it at an instant."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt


@dataclass(frozen=True)
class DatedSeries:
    """Values in the order in which they were known."""

    name: str
    known_at: npt.NDArray[np.int64]
    """Epoch seconds ``(n,)``, ascending: a value counts from its instant on."""
    values: npt.NDArray[np.float64]

    @cached_property
    def digest(self) -> str:
        """Identity of the values and of when they were known."""
        return hashlib.sha256(self.known_at.tobytes() + self.values.tobytes()).hexdigest()

    def last(self, times: npt.NDArray[np.int64]) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
        """The last value known at each instant, and for how many seconds it has been, ``(m,)``; NaN before the first."""
        place = np.searchsorted(self.known_at, times, side="right") - 1
        there = place >= 0
        at = np.maximum(place, 0)
        if not len(self.values):
            nothing = np.full(len(times), np.nan)
            return nothing, nothing
        values = np.where(there, self.values[at], np.nan)
        return values, np.where(there, times - self.known_at[at], np.nan)

"""Two values against each other, snapshot by snapshot."""

from __future__ import annotations

import numpy as np
from numba import njit

from strell_core.measures.frames import FALSE, TRUE, UNVALUED, Truths
from strell_core.measures.measure import Series, to_places

COMPARISONS = {
    "above": "above", "below": "below", "at least": "at least", "at most": "at most", "equal": "equal to",
}  # fmt: skip
ABOVE, BELOW, AT_LEAST, AT_MOST, EQUAL = range(5)
_NUMBERS = dict(zip(COMPARISONS, (ABOVE, BELOW, AT_LEAST, AT_MOST, EQUAL), strict=True))
PLACES = 9
"""Decimal places at which two values are the same: coarser than their arithmetic, finer than any measure's grid."""


def compared(comparison: str, left: Series, right: Series) -> Truths:
    """Truths ``(n,)``, unvalued where either value is."""
    truths: Truths = _compared(_NUMBERS[comparison], np.array(left, np.float64), np.array(right, np.float64))
    return truths


@njit(cache=True, nogil=True, error_model="numpy")
def _compared(comparison: int, left: Series, right: Series) -> Truths:
    truths = np.empty(len(left), np.int8)
    for i in range(len(left)):
        away = to_places(left[i] - right[i], PLACES)
        if np.isnan(away):
            truths[i] = UNVALUED
            continue
        held = away == 0
        if comparison == ABOVE:
            held = away > 0
        elif comparison == BELOW:
            held = away < 0
        elif comparison == AT_LEAST:
            held = away >= 0
        elif comparison == AT_MOST:
            held = away <= 0
        truths[i] = TRUE if held else FALSE
    return truths

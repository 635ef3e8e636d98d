"""Two values against each other, snapshot by snapshot."""

import numpy as np

from strell_core.measures.frames import FALSE, TRUE, UNVALUED, Truths
from strell_core.measures.measure import Series

COMPARISONS = {
    "above": "above", "below": "below", "at least": "at least", "at most": "at most", "equal": "equal to",
}  # fmt: skip
PLACES = 9
"""Decimal places at which two values are the same: coarser than their arithmetic, finer than any measure's grid."""


def compared(comparison: str, left: Series, right: Series) -> Truths:
    """Truths ``(n,)``, unvalued where either value is."""
    away = np.round(left - right, PLACES)
    held = {
        "above": away > 0, "below": away < 0, "at least": away >= 0, "at most": away <= 0, "equal": away == 0,
    }[comparison]  # fmt: skip
    return np.where(np.isnan(away), UNVALUED, np.where(held, TRUE, FALSE)).astype(np.int8)

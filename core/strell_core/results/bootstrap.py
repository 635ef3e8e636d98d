"""What else could have come out: a record is drawn again from itself in blocks of random length.

Source: D. Politis and J. Romano, "The stationary bootstrap", Journal of the American Statistical Association 89 (1994);
the mean length of blocks by D. Politis and H. White, "Automatic block-length selection for the dependent bootstrap",
Econometric Reviews 23 (2004), with the correction of A. Patton, D. Politis and H. White (2009).
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
SAMPLES = 1000
LEVEL = (5.0, 95.0)
"""Percentiles between which a value is called likely."""


def block_length(values: Floats) -> float:
    """Mean length of the blocks by which ``values`` (n,) are to be drawn again, at least 1.

    Autocorrelations are noise from the first lag on at which ``max(5, log10 n)`` in a row stay within
    ``2 √(log10 n / n)``; autocovariances to twice that lag, weighted by a flat-top window, give the length.
    """
    n = len(values)
    centred = values - values.mean()
    if n < 12 or np.ptp(values) == 0:
        return 1.0
    in_a_row = max(5, int(math.log10(n)))
    farthest = min(math.ceil(math.sqrt(n)) + in_a_row, n - 2)
    lags = np.array([float(centred[lag:] @ centred[: n - lag]) / n for lag in range(farthest + 1)])
    squares = np.concatenate([[0.0], np.cumsum(centred**2)])
    at = np.arange(farthest + 1)
    apart = np.sqrt((squares[-1] - squares[at]) * squares[n - at])
    quiet = np.abs(lags * n) < 2.0 * math.sqrt(math.log10(n) / n) * apart
    starts = (lag for lag in range(1, farthest - in_a_row + 1) if quiet[lag : lag + in_a_row].all())
    reach = min(2 * next(starts, farthest), farthest)
    at = np.arange(1, reach + 1)
    weighted = np.minimum(1.0, 2.0 * (1.0 - at / reach)) * lags[1 : reach + 1]
    slope, whole = 2.0 * float((weighted * at).sum()), float(lags[0] + 2.0 * weighted.sum())
    length = (n * slope**2 / whole**2) ** (1 / 3) if whole else 1.0
    return float(min(max(length, 1.0), math.ceil(min(3.0 * math.sqrt(n), n / 3))))


def drawn(n: int, length: float, seed: int, samples: int = SAMPLES) -> npt.NDArray[np.int64]:
    """Places ``(samples, n)`` of a record of ``n``: blocks that begin anywhere, go round at the end, and last
    ``length`` on average (geometric)."""
    rng = np.random.default_rng(seed)
    begins = rng.random((samples, n)) < 1.0 / length
    begins[:, 0] = True
    starts = rng.integers(0, n, (samples, n))
    at = np.arange(n)
    last = np.maximum.accumulate(np.where(begins, at, 0), axis=1)
    return (np.take_along_axis(starts, last, axis=1) + at - last) % n


def likely(outcomes: Floats) -> tuple[float, float] | None:
    """5 and 95 % of outcomes; ``None`` where one of the ends is no number."""
    known = np.sort(np.where(np.isnan(outcomes), np.inf, outcomes))
    if not len(known) or not np.isfinite(known[[0, -max(1, len(known) // 20)]]).all():
        return None
    with np.errstate(invalid="ignore"):
        low, high = (float(value) for value in np.percentile(known, LEVEL))
    return (low, high) if math.isfinite(low) and math.isfinite(high) else None


def rows_of(values: Any, seed: int, samples: int = SAMPLES) -> npt.NDArray[np.int64]:
    """Places of a record drawn again, by blocks as long as it asks for itself."""
    found = np.asarray(values, np.float64)
    return drawn(len(found), block_length(found), seed, samples)

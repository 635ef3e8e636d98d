"""What a run is held against: the same money in the underlying, and in the money market."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from strell_core.market import rates
from strell_core.market.prices import SPOT_SCALE
from strell_core.market.timeline import Timeline

Floats = npt.NDArray[np.float64]


def by_session(timeline: Timeline, sessions: npt.NDArray[np.int64], start: float) -> Floats:
    """Money at the end of every session ``(n,)``, if all of it had bought the underlying at the first snapshot of the first one:
    splits followed, dividends put into more units at the last price of the session they go ex in (common practice for a
    total return). Of an index that is its price alone, for it pays nothing itself."""
    if not len(sessions):
        return np.zeros(0)
    last = timeline.first[sessions + 1] - 1
    price = timeline.spot[last] / SPOT_SCALE
    units = timeline.units[sessions] / timeline.units[sessions[0]]
    dates = [timeline.dates[session] for session in sessions.tolist()]
    for ex, amount in timeline.underlying.dividends:
        after = next((place for place, date in enumerate(dates) if date >= ex), None)
        # who buys in the session it goes ex in does not get it
        if after:
            paid = amount * timeline.units_on(ex) / float(timeline.units[sessions[after]])
            units[after:] *= 1 + paid / price[after]
    bought = float(timeline.spot[timeline.first[sessions[0]]]) / SPOT_SCALE
    found: Floats = start * units * price / bought
    return found


def riskless(timeline: Timeline, sessions: npt.NDArray[np.int64]) -> Floats:
    """What money earned from each session to the next by the shortest interest known then ``(n,)``, as a share; 0 in the
    first. Calendar days of 365, continuously compounded."""
    dates = [timeline.dates[session] for session in sessions.tolist()]
    out = np.zeros(len(dates))
    for place in range(1, len(dates)):
        before, date = dates[place - 1], dates[place]
        out[place] = rates.earned(timeline.underlying.interest(before, date), (date - before).days)
    return out


def beta(daily: Floats, other: Floats) -> float | None:
    """Slope of returns on the returns of something else, by least squares (W. Sharpe, 1964); ``None`` where that does not
    move or one of them is no number."""
    if len(daily) < 2 or np.isnan(daily).any() or np.isnan(other).any():
        return None
    spread = float(other.var(ddof=1))
    return float(np.cov(daily, other, ddof=1)[0, 1]) / spread if spread > 0 else None


def correlation(daily: Floats, other: Floats) -> float | None:
    """Pearson's correlation of two rows of returns; ``None`` where one of them does not move or is no number."""
    slope = beta(daily, other)
    spread = float(daily.std(ddof=1)) if slope is not None else 0.0
    return None if slope is None or spread == 0 else slope * float(other.std(ddof=1)) / spread

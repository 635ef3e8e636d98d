"""Volatility and Greeks of a contract over a stretch of snapshots.

Delta and IV are those recorded with the chain; gamma, theta and vega follow from them by Black-76 on the recorded
forward (:mod:`strell_core.pricing.black`), of American options as well.
"""

from __future__ import annotations

import numpy as np

from strell_core.market.instruments import ContractKey, Right
from strell_core.market.timeline import Timeline
from strell_core.market.view import NO_DELTA
from strell_core.measures.measure import Series
from strell_core.pricing.black import GREEKS, YEAR_SECONDS, greeks_many

NAMES = ("delta", "gamma", "theta", "vega")


def iv(timeline: Timeline, contract: ContractKey, begin: int, end: int) -> Series:
    """Percent, ``(n,)``; NaN where there is none."""
    found = _recorded(timeline, contract, begin, end, "iv")
    return np.where(found > 0, found / 100, np.nan)


def greek(timeline: Timeline, contract: ContractKey, name: str, begin: int, end: int) -> Series:
    """Of one contract, in points of its price, ``(n,)``; NaN where there is none. The underlying itself has delta 1, a
    single unit its share of that."""
    n = end - begin
    if contract.is_unit:
        return np.full(n, 1.0 / contract.divisor if name == "delta" else 0.0)
    if name == "delta":
        found = _recorded(timeline, contract, begin, end, "delta")
        return np.where(found != NO_DELTA, found / 10_000, np.nan)
    vol = iv(timeline, contract, begin, end) / 100
    forward = np.full(n, np.nan)
    cube = timeline.cubes.get(contract.expiration)
    if cube is not None:
        low, high = max(begin, cube.start), min(end, cube.end)
        if low < high:
            forward[low - begin : high - begin] = cube.forward[low - cube.start : high - cube.start]
    years = np.maximum(timeline.settles_at(contract) - timeline.times[begin:end], 0) / YEAR_SECONDS
    good = np.isfinite(vol) & np.isfinite(forward) & (years > 0)
    out = np.full(n, np.nan)
    if good.any():
        date = timeline.dates[int(timeline.session_of[begin])]
        rate = timeline.underlying.interest(date, contract.expiration)
        sign = np.full(int(good.sum()), Right(contract.right).sign, np.int64)
        strike = np.full(int(good.sum()), float(contract.strike))
        out[good] = greeks_many(forward[good], strike, years[good], vol[good], rate, sign)[GREEKS.index(name)]
    return out


def _recorded(timeline: Timeline, contract: ContractKey, begin: int, end: int, name: str) -> Series:
    """A stored field over snapshots, its mark of nothing where it is not recorded."""
    nothing = NO_DELTA if name == "delta" else 0
    out = np.full(end - begin, nothing, np.float64)
    cube = timeline.cubes.get(contract.expiration)
    row = None if cube is None else cube.row(contract.right, contract.strike)
    if cube is not None and row is not None:
        low, high = max(begin, cube.start), min(end, cube.end)
        if low < high:
            out[low - begin : high - begin] = getattr(cube, name)[row, low - cube.start : high - cube.start]
    return out

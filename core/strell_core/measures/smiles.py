"""What measures of the chain share: out-of-the-money volatilities of an expiration, and mixing two expirations."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Callable
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from strell_core.market.prices import SPOT_SCALE
from strell_core.market.view import NO_DELTA, ChainView

DAY = 86_400
Floats = npt.NDArray[np.float64]


class Smile(NamedTuple):
    """Volatilities by strike: of puts below the forward, of calls from it on."""

    expiration: dt.date
    seconds: int
    """To its settlement."""
    forward: float
    strikes: Floats
    vol: Floats


def smile(view: ChainView, expiration: dt.date) -> Smile | None:
    """Of an expiration with a forward and volatilities on both sides of it; else nothing."""
    calls, puts = view.slice(expiration, "call"), view.slice(expiration, "put")
    seconds = calls.settlement_at - view.instant
    if not calls.forward > 0 or seconds <= 0:
        return None
    vol = np.where(calls.strikes >= calls.forward, calls.iv, puts.iv).astype(np.float64) / 100
    there = vol > 0
    strikes = calls.strikes[there]
    if len(strikes) < 2 or not strikes[0] <= calls.forward <= strikes[-1]:
        return None
    return Smile(expiration, seconds, calls.forward, strikes, vol[there])


def at_the_money(found: Smile) -> float:
    """Volatility in percent at the forward, linear between the strikes around it."""
    return float(np.interp(found.forward, found.strikes, found.vol))


def mixed(view: ChainView, days: float, of: Callable[[Smile], float], variance: bool) -> float:
    """A number of each expiration, mixed to a constant maturity between the two around it: linear in time, of a
    volatility in its total variance. Before the first and after the last expiration theirs; NaN without any."""
    known = [
        (found.seconds / DAY, value)
        for expiration in view.expirations
        if (found := smile(view, expiration)) is not None and math.isfinite(value := of(found))
    ]
    before = [item for item in known if item[0] <= days]
    after = [item for item in known if item[0] >= days]
    if not known:
        return math.nan
    if not before or not after:
        return (after or before)[0 if after else -1][1]
    (t1, v1), (t2, v2) = before[-1], after[0]
    if t2 == t1:
        return v1
    share = (days - t1) / (t2 - t1)
    if not variance:
        return v1 + share * (v2 - v1)
    total = v1 * v1 * t1 + share * (v2 * v2 * t2 - v1 * v1 * t1)
    return math.sqrt(max(0.0, total) / days) if days > 0 else v1


def by_delta(view: ChainView, expiration: dt.date, right: str, delta: float) -> float:
    """Volatility in percent at a delta (its size) of a right, linear between the deltas around it; NaN beyond them."""
    chain = view.slice(expiration, right)
    good = (chain.delta != NO_DELTA) & (chain.iv > 0) & chain.valid
    size = np.abs(chain.delta[good].astype(np.float64)) / 10_000
    if len(size) < 2 or not size.min() <= delta <= size.max():
        return math.nan
    order = np.argsort(size, kind="stable")
    return float(np.interp(delta, size[order], chain.iv[good][order].astype(np.float64) / 100))


def nearest(view: ChainView, days: int) -> dt.date | None:
    """The listed expiration nearest to so many days, of two the earlier."""
    return min(view.expirations, key=lambda date: (abs((date - view.date).days - days), date), default=None)


def straddle(view: ChainView, expiration: dt.date) -> float:
    """Mid of an expiration's at-the-money straddle in points: at the strike nearest to the forward that quotes both; NaN
    without one."""
    calls, puts = view.slice(expiration, "call"), view.slice(expiration, "put")
    both = np.flatnonzero(calls.valid & puts.valid)
    if not len(both) or not calls.forward > 0:
        return math.nan
    at = min(both.tolist(), key=lambda i: (abs(calls.strikes[i] - calls.forward), i))
    quanta = int(calls.bid[at]) + int(calls.ask[at]) + int(puts.bid[at]) + int(puts.ask[at])
    return quanta / 2 * float(view.underlying.quantum)


def deviation(view: ChainView, expiration: dt.date) -> float:
    """One standard deviation to an expiration in points, by its at-the-money volatility; NaN without one."""
    found = smile(view, expiration)
    if found is None:
        return math.nan
    return view.spot / SPOT_SCALE * at_the_money(found) / 100 * math.sqrt(found.seconds / (365 * DAY))

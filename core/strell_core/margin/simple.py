"""Capital of structures whose shorts are covered in one way at any price, compiled: to the bit what
:func:`strell_core.margin.strategy_based.capital` says of them."""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt
from numba import njit

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
LEAST_SHARE = 0.10
NOTHING = 1e-12
"""Points that are no requirement."""


@njit(cache=True, nogil=True, error_model="numpy")
def lone_share(sign: int, strike: float, spot: float, share: float) -> float:
    """What one lone short contract needs beyond its own value, points."""
    out_of_the_money = max(0.0, sign * (strike - spot))
    least = LEAST_SHARE * (spot if sign > 0 else strike)
    return max(share * spot - out_of_the_money, least)


@njit(cache=True, nogil=True, error_model="numpy")
def capital_over(
    contracts: Ints, signs: Ints, strikes: Floats, settlements: Ints, marks: Floats, spot: Floats, share: float
) -> Floats:
    """Capital at many instants, points times contracts ``(n,)``: ``marks`` ``(legs, n)`` and ``spot`` ``(n,)`` in points,
    ``signs`` 1 call, -1 put. NaN where a short may be covered in more than one way."""
    out, now = np.empty(len(spot)), np.empty(len(contracts))
    for i in range(len(spot)):
        for leg in range(len(contracts)):
            now[leg] = marks[leg, i]
        out[i] = capital(contracts, signs, strikes, settlements, now, spot[i], share)
    return out


@njit(cache=True, nogil=True, error_model="numpy")
def capital(
    contracts: Ints, signs: Ints, strikes: Floats, settlements: Ints, marks: Floats, spot: float, share: float
) -> float:
    """The same at one instant, ``marks`` ``(legs,)``."""
    n = len(contracts)
    order, values = np.empty(n, np.int64), 0.0
    for leg in range(n):
        values += contracts[leg] * marks[leg]
        order[leg] = leg
        at = leg
        while at > 0:
            before = _compared(settlements, signs, strikes, order[at - 1], leg)
            if before == 0:
                return math.nan
            if before < 0:
                break
            order[at] = order[at - 1]
            at -= 1
        order[at] = leg
    # of every leg as many contracts as stand alone, and as are left over
    left, covers = contracts.copy(), 0
    count, sign, strike, at_once = (
        np.empty(3 * n, np.int64),
        np.empty(3 * n, np.int64),
        np.empty(3 * n),
        np.empty(3 * n, np.int64),
    )
    for side in (1, -1):
        short, long, shorts, longs = -1, -1, 0, 0
        for leg in range(n):
            if signs[leg] == side and contracts[leg] < 0:
                short, shorts = leg, shorts + 1
            elif signs[leg] == side and contracts[leg] > 0:
                long, longs = leg, longs + 1
        if shorts == 0 or longs == 0:
            continue
        if shorts > 1 or longs > 1:
            return math.nan
        if settlements[long] < settlements[short]:
            continue
        both = min(-contracts[short], contracts[long])
        left[short] += both
        left[long] -= both
        for leg, how_many in ((short, -both), (long, both)):
            count[covers], sign[covers], strike[covers], at_once[covers] = (
                how_many,
                side,
                strikes[leg],
                settlements[short],
            )
            covers += 1
    amount = 0.0
    spreads = _together(order, left, signs, strikes, settlements, count, sign, strike, at_once, covers)
    last = -(2**62)
    while True:
        now = _next(at_once, spreads, last)
        if now == last:
            break
        last = now
        amount += _counted(_most_lost(count, sign, strike, at_once, spreads, now))
    alone = _alone(order, left, signs, strikes, settlements, marks, spot, share)
    for place in range(len(alone)):
        amount += _counted(alone[place])
    return max(0.0, amount + values)


@njit(cache=True, nogil=True, error_model="numpy")
def _compared(settlements: Ints, signs: Ints, strikes: Floats, one: int, other: int) -> int:
    """Below 0 where a leg stands before another; 0: they are the same contract."""
    if settlements[one] != settlements[other]:
        return -1 if settlements[one] < settlements[other] else 1
    if signs[one] != signs[other]:
        return -1 if signs[one] < signs[other] else 1
    if strikes[one] != strikes[other]:
        return -1 if strikes[one] < strikes[other] else 1
    return 0


@njit(cache=True, nogil=True, error_model="numpy")
def _counted(amount: float) -> float:
    return amount if amount > NOTHING else 0.0


@njit(cache=True, nogil=True, error_model="numpy")
def _together(
    order: Ints, left: Ints, signs: Ints, strikes: Floats, settlements: Ints, count: Ints, sign: Ints, strike: Floats,
    at_once: Ints, covers: int,
) -> int:  # fmt: skip
    """Longs that cover nothing, put to the latest spreads that expire no later: how many there are with them."""
    pairs = covers
    for place in range(len(order)):
        leg = order[place]
        group = -(2**62)
        for other in range(pairs):
            if at_once[other] <= settlements[leg]:
                group = max(group, at_once[other])
        if left[leg] > 0 and group > -(2**62):
            count[covers], sign[covers], strike[covers], at_once[covers] = left[leg], signs[leg], strikes[leg], group
            covers += 1
    return covers


@njit(cache=True, nogil=True, error_model="numpy")
def _next(values: Ints, n: int, last: int) -> int:
    """The least of the first ``n`` above ``last``; that without one."""
    found = last
    for place in range(n):
        if values[place] > last and (found == last or values[place] < found):
            found = values[place]
    return found


@njit(cache=True, nogil=True, error_model="numpy")
def _most_lost(count: Ints, sign: Ints, strike: Floats, at_once: Ints, n: int, now: int) -> float:
    """What spreads that expire at once can lose together: at nothing or at a strike of theirs."""
    worst = math.inf
    for at in range(-1, n):
        if at >= 0 and at_once[at] != now:
            continue
        price, total = 0.0 if at < 0 else strike[at], 0.0
        for leg in range(n):
            if at_once[leg] == now:
                total += count[leg] * max(0.0, sign[leg] * (price - strike[leg]))
        worst = min(worst, total)
    return max(0.0, -worst)


@njit(cache=True, nogil=True, error_model="numpy")
def _alone(
    order: Ints, left: Ints, signs: Ints, strikes: Floats, settlements: Ints, marks: Floats, spot: float, share: float
) -> Floats:
    """What shorts that stand alone need: by settlement the greater side's share, then the value of all."""
    n = len(order)
    out, values = np.zeros(n + 1), 0.0
    for side in (1, -1):
        for place in range(n):
            leg = order[place]
            if left[leg] < 0 and signs[leg] == side:
                values += -left[leg] * marks[leg]
    last, groups = -(2**62), 0
    while True:
        now = _next(settlements, n, last)
        if now == last:
            break
        last, calls, puts = now, 0.0, 0.0
        for place in range(n):
            leg = order[place]
            if left[leg] < 0 and settlements[leg] == now:
                needs = -left[leg] * lone_share(signs[leg], strikes[leg], spot, share)
                if signs[leg] > 0:
                    calls += needs
                else:
                    puts += needs
        out[groups] = max(calls, puts)
        groups += 1
    out[n] = values
    return out

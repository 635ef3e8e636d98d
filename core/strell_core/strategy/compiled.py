"""What common rules ask of quotes, a structure or a stretch, compiled: each said once, for the sentence itself and for loops
that know it by its number (:mod:`strell_core.engine.judged`, :mod:`strell_core.engine.lived`)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.market.instruments import STRIKE_SCALE
from strell_core.market.view import NO_DELTA, valid_quote
from strell_core.measures.frames import FALSE, TRUE, UNVALUED, PickedLeg, first_from_day

Ints = npt.NDArray[np.int64]
Masks = npt.NDArray[np.bool_]

DELTA, DELTA_RANGE, PREMIUM, PREMIUM_RANGE, PERCENT = range(5)
"""Strike picks."""
NEAREST_DAYS = 0
"""Expiry picks."""
BALANCE, NET_PREMIUM, WIDTH = range(3)
"""Checks."""
CREDIT_TARGET, DEBIT_TARGET, PREMIUM_STOP, TRAILING, FENCE, BEFORE_EXPIRATION, DAYS_HELD = range(7)
"""Exits."""
BY_TIME = (BEFORE_EXPIRATION, DAYS_HELD)
"""Those at a time of day."""
ANYTHING = 2**40
"""A distance that no strike has."""


class Numbers(NamedTuple):
    """A rule as compiled loops know it: its kind, and its values as whole numbers."""

    kind: int
    a: int = 0
    b: int = 0
    within: int = ANYTHING
    """Of a strike pick how far away it takes a strike, of an expiry pick how many days."""


@njit(cache=True, nogil=True, error_model="numpy")
def away(value: int, wanted: int) -> int:
    """Distance from what is wanted."""
    return abs(value - wanted)


@njit(cache=True, nogil=True, error_model="numpy")
def days_off(left: int, days: int, least: int, most: int) -> int:
    """How far an expiration with so many days left is from so many days; -1 outside of what is allowed."""
    return abs(left - days) if least <= left <= most else -1


@njit(cache=True, nogil=True, error_model="numpy")
def from_middle(value: int, low: int, high: int) -> int:
    """Twice the distance from the middle of a range."""
    return abs(2 * value - low - high)


@njit(cache=True, nogil=True, error_model="numpy")
def from_share(strike: int, spot: int, sign: int, tenths: int) -> int:
    """Distance of a strike (thousandths) from so many tenths of a percent of spot (0.01 points) out of the money."""
    return abs(strike * (100_000 // STRIKE_SCALE) - spot * (1000 + sign * tenths))


@njit(cache=True, nogil=True, error_model="numpy")
def distance(kind: int, a: int, b: int, bid: int, ask: int, delta: int, strike: int, spot: int, sign: int) -> int:
    """A strike's distance from what a pick wants; below 0: it may not be picked."""
    if not valid_quote(bid, ask):
        return -1
    if kind == PERCENT:
        return int(from_share(strike, spot, sign, a))
    if kind in (DELTA, DELTA_RANGE):
        if delta == NO_DELTA:
            return -1
        value = abs(delta)
    else:
        value = bid + ask
    if kind in (DELTA, PREMIUM):
        return int(away(value, a))
    return int(from_middle(value, a, b)) if a <= value <= b else -1


@njit(cache=True, nogil=True, error_model="numpy")
def most_away(kind: int, within: int, spot: int) -> int:
    """How far away a pick takes a strike."""
    return within * spot if kind == PERCENT else within


def quoted(legs: Sequence[PickedLeg]) -> tuple[list[int], list[int], list[int], list[int]]:
    """Picked options for what checks ask of them: contracts, signs (1 call, -1 put), bids, asks."""
    return (
        [leg.contracts for leg in legs], [1 if leg.contract.right == "call" else -1 for leg in legs],
        [leg.quote.bid for leg in legs], [leg.quote.ask for leg in legs],
    )  # fmt: skip


@njit(cache=True, nogil=True, error_model="numpy")
def balance(contracts: Ints, signs: Ints, bid: Ints, ask: Ints, least: int) -> tuple[int, int, int]:
    """Whether the smaller side's premium is at least so many percent of the larger one's, and both, twice at mid."""
    calls, puts, has_calls, has_puts = 0, 0, False, False
    for leg in range(len(contracts)):
        if signs[leg] > 0:
            calls, has_calls = calls + contracts[leg] * (bid[leg] + ask[leg]), True
        else:
            puts, has_puts = puts + contracts[leg] * (bid[leg] + ask[leg]), True
    small, large = min(abs(calls), abs(puts)), max(abs(calls), abs(puts))
    if not (has_calls and has_puts) or large == 0:
        return UNVALUED, small, large
    return (TRUE if 100 * small >= least * large else FALSE), small, large


@njit(cache=True, nogil=True, error_model="numpy")
def credit(contracts: Ints, bid: Ints, ask: Ints) -> int:
    """What opening at bid and ask brings in."""
    found = 0
    for leg in range(len(contracts)):
        found -= contracts[leg] * (bid[leg] if contracts[leg] < 0 else ask[leg])
    return found


@njit(cache=True, nogil=True, error_model="numpy")
def width(contracts: Ints, bid: Ints, ask: Ints, percent: int) -> tuple[int, int, int]:
    """Whether the spreads are at most so many percent of the mids, and both, the mids twice."""
    spreads, mids = 0, 0
    for leg in range(len(contracts)):
        spreads += abs(contracts[leg]) * (ask[leg] - bid[leg])
        mids += abs(contracts[leg]) * (ask[leg] + bid[leg])
    if mids == 0:
        return UNVALUED, spreads, mids
    return (TRUE if 200 * spreads <= percent * mids else FALSE), spreads, mids


@njit(cache=True, nogil=True, error_model="numpy")
def passes(kind: int, a: int, b: int, contracts: Ints, signs: Ints, bid: Ints, ask: Ints) -> bool:
    """Whether a check is true of picked legs."""
    if kind == BALANCE:
        return bool(balance(contracts, signs, bid, ask, a)[0] == TRUE)
    if kind == NET_PREMIUM:
        # a debit is a credit the other way round
        return bool(b * credit(contracts, bid, ask) >= a)
    return bool(width(contracts, bid, ask, a)[0] == TRUE)


@njit(cache=True, nogil=True, error_model="numpy")
def first_at_least(values: Ints, times: int, wanted: int, asked: Masks, since: int) -> int:
    """First place from ``since`` on, of those ``asked``, at which ``times`` a value is at least what is ``wanted``; -1
    without one, and where nothing is wanted."""
    for i in range(since, len(values) if wanted > 0 else 0):
        if asked[i] and times * values[i] >= wanted:
            return i
    return -1


@njit(cache=True, nogil=True, error_model="numpy")
def first_fallen(best: Ints, mid: Ints, valued: Masks, premium: int, start: int, back: int, since: int) -> int:
    """First place from ``since`` on at which P/L lies ``back`` percent of the premium below its best, once ``start`` percent
    were earned; -1 without one."""
    for i in range(since, len(mid) if premium > 0 else 0):
        if valued[i] and 100 * best[i] >= start * premium and 100 * (best[i] - mid[i]) >= back * premium:
            return i
    return -1


@njit(cache=True, nogil=True, error_model="numpy")
def first_past(spot: npt.NDArray[np.int32], signs: Ints, fences: Ints, since: int) -> int:
    """First place from ``since`` on at which the underlying (0.01 points) is past a fence (0.000001 points), upward for a call;
    -1 without one."""
    for i in range(since, len(spot)):
        for fence in range(len(fences)):
            if signs[fence] * (spot[i] * 10_000 - fences[fence]) >= 0:
                return i
    return -1


@njit(cache=True, nogil=True, error_model="numpy")
def fence_of(strike: int, sign: int, tenths: int) -> int:
    """A fence so many tenths of a percent beyond a strike (thousandths), 0.000001 points."""
    return strike * (1000 + sign * tenths)


@njit(cache=True, nogil=True, error_model="numpy")
def first_true(
    kind: int, a: int, b: int, mid: Ints, closable: Ints, best: Ints, valued: Masks, firm: Masks, opening: int,
    spot: npt.NDArray[np.int32], signs: Ints, strikes: Ints, ordinal: npt.NDArray[np.int32], day: int, reached: Masks,
    since: int,
) -> int:  # fmt: skip
    """First place from ``since`` on at which an exit is true of a stretch; -1 without one. ``signs``, ``strikes``: of its
    shorts; ``day``: on which an exit by time leaves, where it has ``reached`` its time of day."""
    if kind == CREDIT_TARGET:
        return int(first_at_least(closable, 100, a * opening, firm, since))
    if kind == DEBIT_TARGET:
        return int(first_at_least(closable, 100, a * -opening, firm, since))
    if kind == PREMIUM_STOP:
        return int(first_at_least(mid, -100, a * abs(opening), valued, since))
    if kind == TRAILING:
        return int(first_fallen(best, mid, valued, abs(opening), a, b, since))
    if kind == FENCE:
        fences = np.empty(len(signs), np.int64)
        for leg in range(len(signs)):
            fences[leg] = fence_of(strikes[leg], signs[leg], a if signs[leg] > 0 else b)
        return int(first_past(spot, signs, fences, since))
    return int(first_from_day(ordinal, day, reached, since))

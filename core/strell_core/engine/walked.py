"""What the trades of a variant's walk amount to, compiled: in the order in which a run books them, sum by sum."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.engine.capital import CENT
from strell_core.engine.known import Row, Rows, as_int
from strell_core.engine.walk import before
from strell_core.market.tape import NONE

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]
BY_FILL, BY_END = np.bool_(False), np.bool_(True)
"""By what trades are put in order."""


@njit(cache=True, nogil=True, error_model="numpy")
def told(
    lived: Ints, openings: Rows, ends: Rows, floats: Floats, closes: Ints, session_of: Ints, low: int, start: int,
    calls: bool,
) -> tuple[bool, Ints, Floats, Bools, Floats, Bools]:  # fmt: skip
    """What trades ``(n, 3)``, last stage, end and entry, amount to: whether only the engine can tell; the places of those that ended,
    in the order in which they did, and of those that did not; equity, whether something was held, needed capital, and whether
    capital was compared, at ``closes``: the last snapshots of the sessions from ``low`` on. ``start``: cents that are
    there at first; ``calls``: less than the needed capital is more than only told."""
    n = len(lived)
    opened, closed, order = np.empty(n, np.int64), np.empty(n, np.int64), np.empty(n, np.int64)
    stages = 0
    for place in range(n):
        opened[place] = place
        _put(opened, place, lived, openings, ends, BY_FILL)
        stages += _stages(openings, lived[place, 0])
    dealt = _in_order(lived, openings, opened, stages)
    count = np.int64(0)
    for place in range(n):
        at = opened[place]
        if ends[lived[at, 1]].ends:
            closed[count] = at
            _put(closed, count, lived, openings, ends, BY_END)
            count += 1
    k = len(closes)
    equity, held, needed, watched = np.empty(k), np.empty(k, np.bool_), np.empty(k), np.empty(k, np.bool_)
    compared = np.empty(k)
    for close in range(k):
        held[close], watched[close], needed[close] = False, False, 0.0
    bad = not _moved(lived, openings, ends, floats, closes, start, dealt, closed, count, equity, compared)
    # first those that ended, in that order, then those that are open, as a run's curve adds them up
    at = count
    for place in range(n):
        if place < count:
            order[place] = closed[place]
        if not ends[lived[opened[place], 1]].ends:
            order[at] = opened[place]
            at += 1
    for place in range(n):
        one, end = openings[lived[order[place], 0]], ends[lived[order[place], 1]]
        first = one.first_session - low
        there = end.held if end.ends else one.closes
        for leg in range(one.legs):
            for close in range(there):
                equity[first + close] += floats[one.values + leg * one.closes + close]
        last = session_of[end.index] - low if end.ends else k - 1
        for close in range(first, last + 1):
            held[close] = True
    for place in range(n):
        one, end = openings[lived[opened[place], 0]], ends[lived[opened[place], 1]]
        first, worth = one.first_session - low, one.values + one.legs * one.closes
        for close in range(one.unwatched, end.watched if end.ends else one.closes):
            compared[first + close] += floats[worth + close]
            needed[first + close] += floats[worth + one.closes + close]
            watched[first + close] = True
    for close in range(k):
        if watched[close]:
            bad |= compared[close] <= 0 or (calls and compared[close] - needed[close] <= -CENT)
    return bad, order, equity, held, needed, watched


@njit(cache=True, nogil=True, error_model="numpy")
def _moved(
    lived: Ints, openings: Rows, ends: Rows, floats: Floats, closes: Ints, start: int, dealt: Ints, closed: Ints,
    count: int, equity: Floats, compared: Floats,
) -> bool:  # fmt: skip
    """Cash at ``closes`` with stages ``dealt`` and the first ``count`` of ``closed``: as booked amount by amount up to the
    snapshot, and in whole cents before what is filled after its decisions. False where all was lost without a trade."""
    cents, moved, there, a, b, fine = np.int64(start), 0.0, 0, 0, 0, True
    booked, watched = 0, 0
    while a < len(dealt) or b < count:
        opens = b == count or (a < len(dealt) and _dealt_first(lived, openings, ends, dealt[a], closed[b]))
        if opens:
            one = openings[dealt[a]]
            index, moment, amounts, moves, brought = one.index, one.moment, one.amounts, one.moves, one.cents
            a, there = a + 1, there + (one.before == NONE)
        else:
            end = ends[lived[closed[b], 1]]
            index, moment, amounts, moves, brought = end.index, end.moment, end.amounts, end.moves, end.cents
            b, there = b + 1, there - 1
        while booked < len(closes) and closes[booked] < index:
            equity[booked] = start / 100 + moved
            booked += 1
        while watched < len(closes) and 2 * closes[watched] < moment:
            compared[watched] = cents / 100
            watched += 1
        for place in range(amounts, amounts + moves):
            moved += floats[place]
        cents += brought
        fine &= there > 0 or cents > 0
    for close in range(booked, len(closes)):
        equity[close] = start / 100 + moved
    for close in range(watched, len(closes)):
        compared[close] = cents / 100
    return fine


@njit(cache=True, nogil=True, error_model="numpy")
def _put(order: Ints, place: int, lived: Ints, openings: Rows, ends: Rows, by_end: np.bool_) -> None:
    """The last of ``order[: place + 1]`` to where it belongs; what comes at the same time stays as it stands."""
    new = order[place]
    while place > 0:
        other = order[place - 1]
        if by_end:
            earlier = _ends_first(lived, openings, ends, new, other)
        else:
            earlier = before(_root(openings, lived[new, 0]), _root(openings, lived[other, 0]))
        if not earlier:
            break
        order[place] = other
        place -= 1
    order[place] = new


@njit(cache=True, nogil=True, error_model="numpy")
def _ends_first(lived: Ints, openings: Rows, ends: Rows, one: int, other: int) -> bool:
    """Whether a trade ended before another: a snapshot's settlements come before its fills, which come in the order in which
    they were decided; at the same time the one that was opened first."""
    a, b = ends[lived[one, 1]], ends[lived[other, 1]]
    if a.moment != b.moment:
        return a.moment < b.moment
    if a.settles != b.settles:
        return a.settles
    if not a.settles and a.left != b.left:
        return a.left < b.left
    if not a.settles and a.adjusts != b.adjusts:
        return b.adjusts
    return before(_root(openings, lived[one, 0]), _root(openings, lived[other, 0]))


@njit(cache=True, nogil=True, error_model="numpy")
def _root(openings: Rows, stage: int) -> Row:
    return openings[openings[stage].root]


@njit(cache=True, nogil=True, error_model="numpy")
def _stages(openings: Rows, stage: int) -> int:
    """How many stages of a life there are up to this one."""
    count = 0
    while stage != NONE:
        stage, count = openings[stage].before, count + 1
    return count


@njit(cache=True, nogil=True, error_model="numpy")
def _in_order(lived: Ints, openings: Rows, opened: Ints, stages: int) -> Ints:
    """All stages of trades in the order in which their orders were filled: at the same time in that in which they were decided,
    adjustments before entries, those of what was opened first before others."""
    found, count = np.empty(stages, np.int64), 0
    for place in range(len(opened)):
        stage = lived[opened[place], 0]
        while stage != NONE:
            at = count
            while at > 0 and _filled_first(openings, stage, found[at - 1]):
                found[at] = found[at - 1]
                at -= 1
            found[at] = stage
            count += 1
            stage = as_int(openings[stage].before)
    return found


@njit(cache=True, nogil=True, error_model="numpy")
def _filled_first(openings: Rows, one: int, other: int) -> bool:
    a, b = openings[one], openings[other]
    if a.moment != b.moment or a.decided != b.decided:
        return before(a, b)
    return a.before != NONE and b.before == NONE


@njit(cache=True, nogil=True, error_model="numpy")
def _dealt_first(lived: Ints, openings: Rows, ends: Rows, one: int, other: int) -> bool:
    """Whether a stage began before a trade ended: of what was decided on the same snapshot exits come before
    adjustments, closing or not, and these before entries."""
    a, b = openings[one], ends[lived[other, 1]]
    if a.moment != b.moment:
        return a.moment < b.moment
    if b.settles or a.decided != b.left:
        return not b.settles and a.decided < b.left
    return b.adjusts and a.before != NONE and before(_root(openings, one), _root(openings, lived[other, 0]))

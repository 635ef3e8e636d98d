"""A variant as a walk over its looks, compiled: what is not known yet of the commonest rules it works out itself; at what is not told
there it stops, is told, and goes on.

What it does at a look is what :class:`strell_core.engine.advance.Decisions` does with trades that live their lives by themselves;
:mod:`strell_core.engine.known` says what the arrays hold.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.engine.capital import CENT
from strell_core.engine.ended import learn_end
from strell_core.engine.judged import judge
from strell_core.engine.known import (
    ADJUSTED,
    DECIDE,
    DECISIONS,
    DONE,
    ENDS,
    FIRSTS,
    FUNDS,
    NOTHING,
    OPEN,
    OPENINGS,
    PICKS,
    ROOM,
    STAYS,
    WAITS,
    Rows,
    as_int,
)
from strell_core.engine.lived import learn_firsts, learn_opening
from strell_core.market.tape import NONE, Tape

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]

AT, THERE, LIVED, GONE, CHANGES, DECIDED_AT, DECIDED, ASKED, LEFT, URGENT, BY_ADJUSTS = range(11)
"""Places of its state: the look; how many trades and orders are there, and how many trades there were; cents that ended trades
have moved; the next moment at which something ends; what was decided at a look for it alone; what it stops for."""
CONDITIONS, LEGS, CHECKS, LOTS, TERMS, LEAST, BRINGS, ADJUSTMENTS = range(8)
"""Places of an entry's sheet: how many conditions, legs and checks it has, its lots, the place of its orders' terms, and of what a fill
has to bring at least, and that; the place of its adjustments."""
NO, REFUSED, ENTERED, LAPSED = range(4)
"""What came of a look: a sentence said no, the capital was not there, it was entered, or entered with no snapshot left."""


PATIENT, AT_ANY_PRICE, ADJUSTS = range(3)
"""How exits leave: at the sheet's price, or at any; and adjustments, as the first."""
GO_ON, ONLY_FUNDS = np.bool_(True), np.bool_(False)
"""What is asked of it."""


class Path(NamedTuple):
    """Where a walk is, and what it left behind."""

    state: Ints
    counts: Ints
    """At the look at which it stops, as :data:`strell_core.engine.known.COUNTS`."""
    entered: Ints
    """By entry, the session in which it was last entered, and how often: ``(entries, 2)``."""
    there: Ints
    """Trades and orders that are there: last stage, entry, moment at which it is gone, cents that it then has moved; ``(n, 4)``."""
    lived: Ints
    """Trades that were opened, their last stage, end and entry: ``(n, 3)``."""
    outcomes: Ints
    """Of every look, what came of it, and the decision that said so: ``(looks, 2)``."""
    free: Floats
    """Free capital at looks that would enter, money."""

    @classmethod
    def begin(cls, entries: int, looks: int) -> Path:
        state = np.zeros(11, np.int64)
        state[CHANGES], state[DECIDED_AT] = STAYS, NONE
        return cls(
            state, np.zeros(4, np.int64), np.full((entries, 2), NONE, np.int64), np.empty((looks, 4), np.int64),
            np.empty((looks, 3), np.int64), np.full((looks, 2), NONE, np.int64), np.zeros(looks),
        )  # fmt: skip


class Rules(NamedTuple):
    """What of a plan a walk goes by."""

    looks: Rows
    looks_are: int
    """The same for all plans with these looks."""
    heads: npt.NDArray[np.int32]
    """By look, its first known decision."""
    exits: Ints
    """By entry, the places of its exits, and at last of adjustments that close, and how they leave; ``(entries, most, 2)``."""
    sheet: Ints
    """By entry, ``(entries, 8)``."""
    conditions: Ints
    legs: Ints
    checks: Ints
    """What it decides by, as :mod:`strell_core.engine.judged` has it; ``(entries, most, …)``. Without legs it is not told there."""
    share: float
    """Of the underlying that a lone short needs."""
    end: int
    start: int
    """Cents that it begins with."""
    refuses: bool
    """It enters nothing for which the capital is not there."""


class Facts(NamedTuple):
    """The arrays of :class:`strell_core.engine.known.Known`, as they are now."""

    used: Ints
    picks: Rows
    decisions: Rows
    openings: Rows
    ends: Rows
    floats: Floats
    picks_at: npt.NDArray[np.int32]
    terms: Rows
    by_look: npt.NDArray[np.int32]
    exits: Rows
    reached: Bools
    opening_of: npt.NDArray[np.int32]
    firsts: Ints
    stages: npt.NDArray[np.int32]


def go_on(path: Path, rules: Rules, facts: Facts, tape: Tape) -> int:
    """Goes on until something is not known that cannot be told here, or to the end: why it stops."""
    return int(_ask(GO_ON, *path, *rules, *facts, *tape)[0])


def funds(path: Path, rules: Rules, facts: Facts, tape: Tape) -> tuple[int, float, float]:
    """Why it cannot be told, equity and needed capital at the look at which a walk has stopped, as
    :func:`strell_core.engine.capital.funds` adds them up: trades in the order in which they were filled, then orders at work."""
    code, equity, needed = _ask(ONLY_FUNDS, *path, *rules, *facts, *tape)
    return int(code), equity, needed


@njit(cache=True, nogil=True, error_model="numpy")
def _ask(
    whole: np.bool_, state: Ints, counts: Ints, entered: Ints, there: Ints, lived: Ints, outcomes: Ints, free: Floats,
    looks: Rows, looks_are: int, heads: npt.NDArray[np.int32], exits: Ints, sheet: Ints, conditions: Ints, legs: Ints,
    checks: Ints, share: float, end: int, start: int, refuses: bool, used: Ints, picks: Rows, decisions: Rows,
    openings: Rows, ends: Rows, floats: Floats, picks_at: npt.NDArray[np.int32], terms: Rows,
    by_look: npt.NDArray[np.int32], exits_are: Rows, reached: Bools, opening_of: npt.NDArray[np.int32], firsts: Ints,
    stages: npt.NDArray[np.int32], expirations: Rows, bid: npt.NDArray[np.int32], ask: npt.NDArray[np.int32], delta: npt.NDArray[np.int16],
    strikes: Ints, spot: npt.NDArray[np.int32], ordinal: npt.NDArray[np.int32], session_of: npt.NDArray[np.int32],
    last_of_several: Bools, sessions: Rows, on_or_before: Ints, units: Rows,
) -> tuple[int, float, float]:  # fmt: skip
    """The one door to what is compiled: arrays are handed over one by one a good deal faster than together, here and from one
    compiled function to the next."""
    tape = Tape(
        expirations, bid, ask, delta, strikes, spot, ordinal, session_of, last_of_several, sessions, on_or_before, units
    )
    if not whole:
        return _funds(state, there, looks, looks_are, start, openings, floats)
    k = state[AT]
    while k < len(looks):
        index, session, entry = looks[k].index, looks[k].session, looks[k].entry
        state[AT], state[ASKED] = k, 0
        if state[CHANGES] <= 2 * index:
            _leave(state, there, 2 * index)
        _count(state, counts, entered, there, entry, session)
        row = as_int(NONE)
        if state[DECIDED_AT] == k:
            picked = state[DECIDED]
        else:
            row = as_int(heads[k])
            while row != NONE and not _holds(decisions[row].asked, counts):
                row = as_int(decisions[row].next)
            if row == NONE:
                own = sheet[entry]
                if own[LEGS] == 0:
                    return DECIDE, 0.0, 0.0
                if used[DECISIONS] == len(decisions) or used[PICKS] == len(picks):
                    return ROOM, 0.0, 0.0
                code, row = judge(
                    looks[k].own, index, counts, heads[k], conditions[entry, : own[CONDITIONS]], legs[entry, : own[LEGS]],
                    checks[entry, : own[CHECKS]], own[LOTS], own[TERMS], share, by_look, terms, picks, picks_at, decisions,
                    used, tape,
                )  # fmt: skip
                if code != DONE:
                    state[ASKED] = row
                    return code, 0.0, 0.0
                heads[k] = row
            picked = as_int(decisions[row].picked)
        outcomes[k, 1] = row
        if picked == NONE:
            outcomes[k, 0] = NO
            k += 1
            continue
        code, equity, needed = _funds(state, there, looks, looks_are, start, openings, floats)
        if code != DONE:
            return code, 0.0, 0.0
        free[k] = equity - needed
        if refuses and picks[picked].needed > free[k] + CENT:
            outcomes[k, 0] = REFUSED
            k += 1
            continue
        if looks[k].last:
            outcomes[k, 0] = LAPSED
        else:
            least, opening, ending = sheet[entry, LEAST], as_int(NONE), as_int(NONE)
            if picked < opening_of.shape[1]:
                opening = as_int(opening_of[least, picked])
            if opening == NONE:
                if used[OPENINGS] >= min(len(openings), firsts.shape[1]) or picked >= opening_of.shape[1]:
                    return ROOM, 0.0, 0.0
                code, opening = learn_opening(
                    picked, least, sheet[entry, BRINGS], end, looks, looks_are, share, tape, picks, terms, exits_are, reached,
                    openings, floats, opening_of, firsts, used,
                )  # fmt: skip
                if code != DONE:
                    state[ASKED] = picked if code == OPEN else opening
                    return code, 0.0, 0.0
            if openings[opening].filled:
                adjusts, left, urgent, by = sheet[entry, ADJUSTMENTS], as_int(STAYS), False, False
                while True:
                    state[ASKED] = opening
                    later = as_int(NOTHING)
                    if adjusts != NONE:
                        later = as_int(stages[adjusts, opening]) if opening < stages.shape[1] else as_int(NONE)
                        if later == NONE:
                            return ADJUSTED, 0.0, 0.0
                    if _lacks(exits[entry], firsts, opening):
                        learn_firsts(opening, end, tape, picks, terms, exits_are, reached, openings, firsts)
                        if _lacks(exits[entry], firsts, opening):
                            return FIRSTS, 0.0, 0.0
                    left, urgent, by = _left(exits[entry], firsts, opening)
                    # an exit comes before an adjustment, and ends the order of one that was decided before
                    if later == NOTHING or (left < STAYS and 2 * left < openings[later].moment):
                        break
                    opening = later
                state[LEFT], state[URGENT], state[BY_ADJUSTS] = left, urgent, by
                ending = as_int(openings[opening].ends)
                while ending != NONE and not _left_so(ends[ending], left, urgent, by):
                    ending = as_int(ends[ending].next)
                if ending == NONE:
                    if used[ENDS] == len(ends):
                        state[ASKED] = 0
                        return ROOM, 0.0, 0.0
                    code, ending = learn_end(
                        opening, left, urgent, by, end, tape, picks, terms, openings, ends, floats, used
                    )
                    if code != DONE:
                        state[ASKED] = ending if code == ROOM else opening
                        return code, 0.0, 0.0
            outcomes[k, 0] = ENTERED
            _add(state, there, lived, openings, ends, entry, opening, ending)
        entered[entry, 1] = counts[2] + 1
        entered[entry, 0] = session
        k += 1
    state[AT] = k
    return DONE, 0.0, 0.0


@njit(cache=True, nogil=True, error_model="numpy")
def _leave(state: Ints, there: Ints, now: int) -> None:
    """Forget trades that have ended, and orders that have lapsed."""
    left = 0
    state[CHANGES] = STAYS
    for place in range(state[THERE]):
        if there[place, 2] <= now:
            state[GONE] += there[place, 3]
        else:
            state[CHANGES] = min(state[CHANGES], there[place, 2])
            for column in range(4):
                there[left, column] = there[place, column]
            left += 1
    state[THERE] = left


@njit(cache=True, nogil=True, error_model="numpy")
def _count(state: Ints, counts: Ints, entered: Ints, there: Ints, entry: int, session: int) -> None:
    """As :data:`strell_core.engine.known.COUNTS`."""
    n = state[THERE]
    counts[0], counts[1], counts[2], counts[3] = n, 0, 0, 0
    for place in range(n):
        counts[1] += there[place, 1] == entry
    for other in range(len(entered)):
        if entered[other, 0] == session:
            counts[3] += entered[other, 1]
            if other == entry:
                counts[2] = entered[other, 1]


@njit(cache=True, nogil=True, error_model="numpy")
def _holds(asked: Ints, counts: Ints) -> bool:
    """Whether nothing on which a decision rests is different now."""
    same = True
    for place in range(4):
        same &= asked[place] == NONE or asked[place] == counts[place]
    return same


@njit(cache=True, nogil=True, error_model="numpy")
def _funds(
    state: Ints, there: Ints, looks: Rows, looks_are: int, start: int, openings: Rows, floats: Floats
) -> tuple[int, float, float]:
    """See :func:`funds`."""
    k, n = state[AT], state[THERE]
    index, filled, order = looks[k].index, 0, np.empty(n, np.int64)
    cents = start + state[GONE]
    for place in range(n):
        opening = there[place, 0]
        began = openings[openings[opening].root]
        if began.moment > 2 * index:
            continue
        while openings[opening].moment > 2 * index:
            opening = openings[opening].before
        cents += openings[opening].total
        at = filled
        while at > 0 and before(began, openings[openings[order[at - 1]].root]):
            order[at] = order[at - 1]
            at -= 1
        order[at] = opening
        filled += 1
    equity, needed = cents / 100, 0.0
    for place in range(filled):
        now = openings[order[place]]
        if now.looks != looks_are or not now.from_look <= k < now.to_look:
            state[ASKED] = order[place]
            return FUNDS, 0.0, 0.0
        at = now.funds + 2 * (k - now.from_look)
        equity += floats[at]
        needed += floats[at + 1]
    for place in range(n if filled < n else 0):
        now = openings[openings[there[place, 0]].root]
        if now.moment > 2 * index:
            if now.waits_at != index:
                state[ASKED] = now.root
                return WAITS, 0.0, 0.0
            needed += now.waits_for
    return DONE, equity, needed


@njit(cache=True, nogil=True, error_model="numpy")
def before(one: Any, other: Any) -> bool:
    """Whether an opening was filled before another, or on the same snapshot and decided before it."""
    return one.moment < other.moment or (one.moment == other.moment and one.decided < other.decided)


@njit(cache=True, nogil=True, error_model="numpy")
def _lacks(exits: Ints, firsts: Ints, opening: int) -> bool:
    """Whether it is not known of one of its exits when it is true of a trade."""
    lacks = False
    for place in range(len(exits)):
        lacks |= exits[place, 0] != NONE and firsts[exits[place, 0], opening] == NONE
    return lacks


@njit(cache=True, nogil=True, error_model="numpy")
def _left(exits: Ints, firsts: Ints, opening: int) -> tuple[int, bool, bool]:
    """When a trade is left, whether at any price, and whether by adjustments."""
    left, urgent, by = STAYS, False, False
    for place in range(len(exits)):
        if exits[place, 0] == NONE:
            break
        first = firsts[exits[place, 0], opening]
        if first < left:
            left, urgent, by = first, exits[place, 1] == AT_ANY_PRICE, exits[place, 1] == ADJUSTS
        elif first == left < STAYS:
            urgent |= exits[place, 1] == AT_ANY_PRICE
    return left, urgent, by


@njit(cache=True, nogil=True, error_model="numpy")
def _left_so(end: Any, left: int, urgent: bool, by: bool) -> bool:
    """Whether an end is that of a trade that is left so."""
    return end.left == left and end.urgent == urgent and end.adjusts == by


@njit(cache=True, nogil=True, error_model="numpy")
def _add(
    state: Ints, there: Ints, lived: Ints, openings: Rows, ends: Rows, entry: int, opening: int, ending: int
) -> None:
    """Trades are there from their order on, until they have ended or it has lapsed."""
    now = openings[opening]
    gone_at, cents = now.moment, as_int(0)
    if now.filled:
        gone_at, cents = ends[ending].moment, now.total + ends[ending].cents
        lived[state[LIVED], 0], lived[state[LIVED], 1], lived[state[LIVED], 2] = opening, ending, entry
        state[LIVED] += 1
    place = state[THERE]
    there[place, 0], there[place, 1] = opening, entry
    there[place, 2], there[place, 3] = gone_at, cents
    state[THERE] += 1
    state[CHANGES] = min(state[CHANGES], gone_at)

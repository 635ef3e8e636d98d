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
from strell_core.engine.judged import judge
from strell_core.engine.known import (
    DECIDE,
    DECISIONS,
    DONE,
    ENDS,
    FIRSTS,
    FUNDS,
    NONE,
    OPEN,
    OPENINGS,
    PICKS,
    ROOM,
    STAYS,
    WAITS,
    Rows,
)
from strell_core.engine.lived import learn_end, learn_firsts, learn_opening
from strell_core.market.tape import Tape
from strell_core.strategy.compiled import BEFORE_EXPIRATION, DAYS_HELD

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]

AT, THERE, LIVED, GONE, CHANGES, DECIDED_AT, DECIDED, ASKED, LEFT, URGENT = range(10)
"""Places of its state: the look; how many trades and orders are there, and how many trades there were; cents that ended trades
have moved; the next moment at which something ends; what was decided at a look for it alone; what it stops for."""
CONDITIONS, LEGS, CHECKS, LOTS, TERMS, LEAST = range(6)
"""Places of an entry's sheet: how many conditions, legs and checks it has, its lots, the place of its orders' terms, and what a fill
has to bring at least."""
BY_TIME = (BEFORE_EXPIRATION, DAYS_HELD)
"""Exits at a time of day."""
NO, REFUSED, ENTERED, LAPSED = range(4)
"""What came of a look: a sentence said no, the capital was not there, it was entered, or entered with no snapshot left."""


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
    """Trades and orders that are there: opening, entry, moment at which it is gone, cents that it then has moved; ``(n, 4)``."""
    lived: Ints
    """Trades that were opened, opening and end: ``(n, 2)``."""
    outcomes: Ints
    """Of every look, what came of it, and the decision that said so: ``(looks, 2)``."""
    free: Floats
    """Free capital at looks that would enter, money."""

    @classmethod
    def begin(cls, entries: int, looks: int) -> Path:
        state = np.zeros(10, np.int64)
        state[CHANGES], state[DECIDED_AT] = STAYS, NONE
        return cls(
            state, np.zeros(4, np.int64), np.full((entries, 2), NONE, np.int64), np.empty((looks, 4), np.int64),
            np.empty((looks, 2), np.int64), np.full((looks, 2), NONE, np.int64), np.zeros(looks),
        )  # fmt: skip


class Rules(NamedTuple):
    """What of a plan a walk goes by."""

    looks: Rows
    looks_are: int
    """The same for all plans with these looks."""
    heads: npt.NDArray[np.int32]
    """By look, its first known decision."""
    least: Ints
    """By entry, the place of what its fills have to bring."""
    exits: Ints
    """By entry, the places of its exits; ``(entries, most)``."""
    urgent: Bools
    """Which of these leave at any price."""
    sheet: Ints
    """By entry, ``(entries, 6)``."""
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


def go_on(path: Path, rules: Rules, facts: Facts, tape: Tape) -> int:
    """Goes on until something is not known that cannot be told here, or to the end: why it stops."""
    return int(_ask(GO_ON, *path, *rules, *facts, *tape)[0])


def funds(path: Path, rules: Rules, facts: Facts, tape: Tape) -> tuple[int, float, float]:
    """Why it cannot be told, equity and needed capital at the look at which a walk has stopped, as
    :func:`strell_core.engine.capital.funds` adds them up: trades in the order in which they were filled, then orders at work."""
    code, equity, needed = _ask(ONLY_FUNDS, *path, *rules, *facts, *tape)
    return int(code), equity, needed


@njit(cache=True, nogil=True)
def _ask(
    whole: np.bool_, state: Ints, counts: Ints, entered: Ints, there: Ints, lived: Ints, outcomes: Ints, free: Floats,
    looks: Rows, looks_are: int, heads: npt.NDArray[np.int32], least: Ints, exits: Ints, urgent: Bools, sheet: Ints,
    conditions: Ints, legs: Ints, checks: Ints, share: float, end: int, start: int, refuses: bool, used: Ints, picks: Rows,
    decisions: Rows, openings: Rows, ends: Rows, floats: Floats, picks_at: npt.NDArray[np.int32], terms: Rows,
    by_look: npt.NDArray[np.int32], exits_are: Rows, reached: Bools, opening_of: npt.NDArray[np.int32], firsts: Ints,
    expirations: Rows, bid: npt.NDArray[np.int32], ask: npt.NDArray[np.int32], delta: npt.NDArray[np.int16],
    strikes: Ints, times: Ints, spot: npt.NDArray[np.int32], ordinal: npt.NDArray[np.int32],
    session_of: npt.NDArray[np.int32], single: Bools, last_of_several: Bools, first: Ints, multiplier: Ints,
    on_or_before: Ints, days_from: int, quantum: float, cents: int, of: int, parts: int, in_thousandths: int,
) -> tuple[int, float, float]:  # fmt: skip
    """The one door to what is compiled: arrays are handed over one by one a good deal faster than together."""
    path = Path(state, counts, entered, there, lived, outcomes, free)
    rules = Rules(
        looks, looks_are, heads, least, exits, urgent, sheet, conditions, legs, checks, share, end, start, refuses
    )
    facts = Facts(
        used, picks, decisions, openings, ends, floats, picks_at, terms, by_look, exits_are, reached, opening_of, firsts
    )
    tape = Tape(
        expirations, bid, ask, delta, strikes, times, spot, ordinal, session_of, single, last_of_several, first,
        multiplier, on_or_before, days_from, quantum, cents, of, parts, in_thousandths,
    )  # fmt: skip
    if whole:
        return _walk(path, rules, facts, tape), 0.0, 0.0
    return _funds(path, rules, facts)


@njit(cache=True, nogil=True)
def _walk(path: Path, rules: Rules, facts: Facts, tape: Tape) -> int:
    state, looks = path.state, rules.looks
    k = state[AT]
    while k < len(looks):
        index, session, entry = looks[k].index, looks[k].session, looks[k].entry
        state[AT] = k
        if state[CHANGES] <= 2 * index:
            _leave(path, 2 * index)
        _count(path, entry, session)
        row = NONE
        if state[DECIDED_AT] == k:
            picked = state[DECIDED]
        else:
            row = rules.heads[k]
            while row != NONE and not _holds(facts.decisions[row].asked, path.counts):
                row = facts.decisions[row].next
            if row == NONE:
                code, row = _decided(k, path, rules, facts, tape)
                if code != DONE:
                    return code
            picked = facts.decisions[row].picked
        path.outcomes[k, 1] = row
        if picked == NONE:
            path.outcomes[k, 0] = NO
            k += 1
            continue
        code, equity, needed = _funds(path, rules, facts)
        if code != DONE:
            return code
        path.free[k] = equity - needed
        if rules.refuses and facts.picks[picked].needed > path.free[k] + CENT:
            path.outcomes[k, 0] = REFUSED
            k += 1
            continue
        if looks[k].last:
            path.outcomes[k, 0] = LAPSED
        else:
            code, opening, ending = _lives(state, rules, facts, tape, entry, picked)
            if code != DONE:
                return code
            path.outcomes[k, 0] = ENTERED
            _add(path, facts, entry, opening, ending)
        path.entered[entry, 1] = path.counts[2] + 1
        path.entered[entry, 0] = session
        k += 1
    state[AT] = k
    return DONE


@njit(cache=True, nogil=True)
def _decided(k: int, path: Path, rules: Rules, facts: Facts, tape: Tape) -> tuple[int, int]:
    """What an entry decides at a look of which that is not known yet: the row of it, in front of the look's others."""
    state, look, used = path.state, rules.looks[k], facts.used
    sheet = rules.sheet[look.entry]
    if sheet[LEGS] == 0:
        return DECIDE, NONE
    state[ASKED] = 0
    if used[DECISIONS] == len(facts.decisions) or used[PICKS] == len(facts.picks):
        return ROOM, NONE
    code, row = judge(
        look.own, look.index, path.counts, rules.heads[k], rules.conditions[look.entry, : sheet[CONDITIONS]],
        rules.legs[look.entry, : sheet[LEGS]], rules.checks[look.entry, : sheet[CHECKS]], sheet[LOTS], sheet[TERMS],
        rules.share, facts.by_look, facts.terms, facts.picks, facts.picks_at, facts.decisions, used, tape,
    )  # fmt: skip
    if code == DONE:
        rules.heads[k] = row
    else:
        state[ASKED] = row
    return code, row


@njit(cache=True, nogil=True)
def _leave(path: Path, now: int) -> None:
    """Forget trades that have ended, and orders that have lapsed."""
    state, there, left = path.state, path.there, 0
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


@njit(cache=True, nogil=True)
def _count(path: Path, entry: int, session: int) -> None:
    """As :data:`strell_core.engine.known.COUNTS`."""
    counts, n = path.counts, path.state[THERE]
    counts[0], counts[1], counts[2], counts[3] = n, 0, 0, 0
    for place in range(n):
        counts[1] += path.there[place, 1] == entry
    for other in range(len(path.entered)):
        if path.entered[other, 0] == session:
            counts[3] += path.entered[other, 1]
            if other == entry:
                counts[2] = path.entered[other, 1]


@njit(cache=True, nogil=True)
def _holds(asked: Ints, counts: Ints) -> bool:
    """Whether nothing on which a decision rests is different now."""
    same = True
    for place in range(4):
        same &= asked[place] == NONE or asked[place] == counts[place]
    return same


@njit(cache=True, nogil=True)
def _funds(path: Path, rules: Rules, facts: Facts) -> tuple[int, float, float]:
    """See :func:`funds`."""
    state, there, k = path.state, path.there, path.state[AT]
    index, n = rules.looks[k].index, path.state[THERE]
    filled, order = 0, np.empty(n, np.int64)
    cents = rules.start + state[GONE]
    for place in range(n):
        opening = there[place, 0]
        now = facts.openings[opening]
        if now.moment > 2 * index:
            continue
        cents += now.cents
        at = filled
        while at > 0 and before(now, facts.openings[order[at - 1]]):
            order[at] = order[at - 1]
            at -= 1
        order[at] = opening
        filled += 1
    equity, needed = cents / 100, 0.0
    for place in range(filled):
        now = facts.openings[order[place]]
        if now.looks != rules.looks_are or not now.from_look <= k < now.to_look:
            state[ASKED] = order[place]
            return FUNDS, 0.0, 0.0
        at = now.funds + 2 * (k - now.from_look)
        equity += facts.floats[at]
        needed += facts.floats[at + 1]
    for place in range(n if filled < n else 0):
        now = facts.openings[there[place, 0]]
        if now.moment > 2 * index:
            if now.waits_at != index:
                state[ASKED] = there[place, 0]
                return WAITS, 0.0, 0.0
            needed += now.waits_for
    return DONE, equity, needed


@njit(cache=True, nogil=True)
def before(one: Any, other: Any) -> bool:
    """Whether an opening was filled before another, or on the same snapshot and decided before it."""
    return one.moment < other.moment or (one.moment == other.moment and one.decided < other.decided)


@njit(cache=True, nogil=True)
def _lives(
    state: Ints, rules: Rules, facts: Facts, tape: Tape, entry: int, picked: int
) -> tuple[int, int, int]:  # fmt: skip
    """Why it cannot be told, what comes of an entry's order, and how its trade ends."""
    used = facts.used
    opening = np.int64(NONE)
    if picked < facts.opening_of.shape[1]:
        opening = np.int64(facts.opening_of[rules.least[entry], picked])
    if opening == NONE:
        state[ASKED] = 0
        enough = used[OPENINGS] < min(len(facts.openings), facts.firsts.shape[1]) and picked < facts.opening_of.shape[1]
        if not enough:
            return ROOM, NONE, NONE
        code, opening = learn_opening(
            picked, rules.least[entry], rules.sheet[entry, LEAST], rules.end, rules.looks, rules.looks_are, rules.share, tape,
            facts.picks, facts.terms, facts.exits, facts.reached, facts.openings, facts.floats, facts.opening_of,
            facts.firsts, used,
        )  # fmt: skip
        if code != DONE:
            state[ASKED] = picked if code == OPEN else opening
            return code, NONE, NONE
    state[ASKED] = opening
    if not facts.openings[opening].filled:
        return DONE, opening, NONE
    left, urgent, asked = STAYS, False, False
    for place in range(rules.exits.shape[1]):
        exit = rules.exits[entry, place]
        if exit == NONE:
            break
        if facts.firsts[exit, opening] == NONE and not asked:
            asked = True
            learn_firsts(
                opening,
                rules.end,
                tape,
                facts.picks,
                facts.terms,
                facts.exits,
                facts.reached,
                facts.openings,
                facts.firsts,
            )
        first = facts.firsts[exit, opening]
        if first == NONE:
            return FIRSTS, NONE, NONE
        if first < left:
            left, urgent = first, rules.urgent[entry, place]
        elif first == left < STAYS:
            urgent |= rules.urgent[entry, place]
    end = np.int64(facts.openings[opening].ends)
    while end != NONE and (facts.ends[end].left != left or facts.ends[end].urgent != urgent):
        end = np.int64(facts.ends[end].next)
    state[LEFT], state[URGENT] = left, urgent
    if end != NONE:
        return DONE, opening, end
    if used[ENDS] == len(facts.ends):
        state[ASKED] = 0
        return ROOM, NONE, NONE
    code, end = learn_end(
        opening, left, urgent, rules.end, tape, facts.picks, facts.terms, facts.openings, facts.ends, facts.floats, used
    )
    if code == ROOM:
        state[ASKED] = end
    return code, opening, end


@njit(cache=True, nogil=True)
def _add(path: Path, facts: Facts, entry: int, opening: int, end: int) -> None:
    """Trades are there from their order on, until they have ended or it has lapsed."""
    state, now = path.state, facts.openings[opening]
    gone_at, cents = now.moment, np.int64(0)
    if now.filled:
        gone_at, cents = facts.ends[end].moment, now.cents + facts.ends[end].cents
        path.lived[state[LIVED], 0], path.lived[state[LIVED], 1] = opening, end
        state[LIVED] += 1
    place = state[THERE]
    path.there[place, 0], path.there[place, 1] = opening, entry
    path.there[place, 2], path.there[place, 3] = gone_at, cents
    state[THERE] += 1
    state[CHANGES] = min(state[CHANGES], gone_at)

"""What an entry decides at a look, compiled, for rules that go by numbers: what :func:`strell_core.engine.entering.decide_entry`
says of them."""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.engine.fills import parts_at
from strell_core.engine.known import DECIDE, DECISIONS, DONE, LOOKED, PICKS, UNKNOWN, Ints, Row, Rows, as_int
from strell_core.margin import simple
from strell_core.market.instruments import STRIKE_SCALE
from strell_core.market.prices import PARTS, SPOT_SCALE
from strell_core.market.tape import NONE, Tape
from strell_core.measures.frames import TRUE
from strell_core.strategy.compiled import days_off, distance, most_away, passes

OPEN_LIMIT, OF_LOOK = as_int(0), as_int(1)
"""Conditions: on how many trades are open, and those that rest on the look alone, whose truths are known by look."""
KIND, A, B, WITHIN, SIGN, CONTRACTS, EXPIRY, DAYS, FROM, TO = LEG = range(10)
"""What is known of a leg: its strike pick, the sign of its right, contracts of a lot, where its expirations are known by look, or how
it has one; days and their bounds where by these."""
AS_FIRST, BY_DAYS = -1, -2


@njit(cache=True, nogil=True, error_model="numpy")
def judge(
    own: int, index: int, counts: Ints, head: int, conditions: Ints, legs: Ints, checks: Ints, lots: int, place: int,
    share: float, by_look: npt.NDArray[np.int32], terms: Rows, picks: Rows, picks_at: npt.NDArray[np.int32],
    decisions: Rows, used: Ints, tape: Tape,
) -> tuple[int, int]:  # fmt: skip
    """A look's decision as a row in front of those that are known of it; or why it cannot be told, and which values by look
    it lacks. ``own``: the look among the entry's; ``place``: of its orders' terms; ``share``: of the underlying that a lone short
    needs."""
    asked, goes_on = np.empty(4, np.int32), True
    for count in range(4):
        asked[count] = NONE
    for condition in range(len(conditions)):
        number = conditions[condition, 1]
        if conditions[condition, 0] == OPEN_LIMIT:
            asked[0] = counts[0]
            goes_on = counts[0] < number
        else:
            truth = by_look[number + own]
            if truth == UNKNOWN:
                return LOOKED, number
            goes_on = truth == TRUE
        if not goes_on:
            break
    code, picked = DONE, NONE
    if goes_on:
        code, picked = _picked(
            own, index, legs, checks, lots, place, share, by_look, terms, picks, picks_at, used, tape
        )
        if code != DONE:
            return code, picked
    row = used[DECISIONS]
    used[DECISIONS] += 1
    for count in range(4):
        decisions[row].asked[count] = asked[count]
    decisions[row].picked = picked
    decisions[row].next = head
    return DONE, row


@njit(cache=True, nogil=True, error_model="numpy")
def _picked(
    own: int, index: int, legs: Ints, checks: Ints, lots: int, terms_are: int, share: float,
    by_look: npt.NDArray[np.int32], terms: Rows, picks: Rows, picks_at: npt.NDArray[np.int32], used: Ints, tape: Tape,
) -> tuple[int, int]:  # fmt: skip
    """What an entry would deal in; none where a leg is not found or a check says no."""
    n, spot = len(legs), as_int(tape.spot[index])
    places, rows = np.empty(n, np.int64), np.empty(n, np.int64)
    contracts, signs = np.empty(n, np.int64), np.empty(n, np.int64)
    bid, ask = np.empty(n, np.int64), np.empty(n, np.int64)
    for leg in range(n):
        expiry = legs[leg, EXPIRY]
        if expiry == BY_DAYS:
            at = _by_days(legs[leg], index, as_int(tape.ordinal[index]), tape.expirations, tape.ask)
        elif expiry == AS_FIRST:
            at = places[0]
        else:
            at = as_int(by_look[expiry + own])
            if at == UNKNOWN:
                return LOOKED, expiry
        if at == NONE:
            return DONE, NONE
        places[leg], contracts[leg], signs[leg] = at, legs[leg, CONTRACTS], legs[leg, SIGN]
        rows[leg] = _nearest(
            leg, legs[leg], index, places, rows, contracts, signs[leg], spot, tape.expirations, tape.strikes, tape.bid, tape.ask,
            tape.delta,
        )  # fmt: skip

        if rows[leg] == NONE:
            return DONE, NONE
        cell = cell_of(tape.expirations, at, rows[leg]) + index
        bid[leg], ask[leg] = tape.bid[cell], tape.ask[cell]
    for check in range(len(checks)):
        if not passes(checks[check, 0], checks[check, 1], checks[check, 2], contracts, signs, bid, ask):
            return DONE, NONE
    for leg in range(n):
        contracts[leg] *= lots
    return place_of(index, places, rows, contracts, lots, terms_are, share, terms, picks, picks_at, used, tape)


@njit(cache=True, nogil=True, error_model="numpy")
def _by_days(rule: Ints, index: int, today: int, expirations: Rows, ask: npt.NDArray[np.int32]) -> int:
    """The expiration with quotes nearest to so many days; of two as near the earlier, none outside of the bounds."""
    best, found = -1, as_int(NONE)
    for place in range(len(expirations)):
        one = expirations[place]
        off = days_off(one.day - today, rule[DAYS], rule[FROM], rule[TO])
        nearer = off >= 0 and one.day >= today and (found == NONE or off < best)
        if nearer and one.start <= index < one.end and _quoted(one, index, ask):
            best, found = off, as_int(place)
    return found


@njit(cache=True, nogil=True, error_model="numpy")
def _quoted(one: Row, index: int, ask: npt.NDArray[np.int32]) -> bool:
    """Whether any contract of an expiration is offered."""
    columns, at = one.end - one.start, one.cell - one.start + index
    for _ in range(2 * one.strikes):
        if ask[at] > 0:
            return True
        at += columns
    return False


@njit(cache=True, nogil=True, error_model="numpy")
def cell_of(expirations: Rows, place: int, row: int) -> int:
    """Where quotes of a contract lie, less the snapshot."""
    one = expirations[place]
    return one.cell + row * (one.end - one.start) - one.start


@njit(cache=True, nogil=True, error_model="numpy")
def _nearest(
    leg: int, rule: Ints, index: int, places: Ints, rows: Ints, contracts: Ints, sign: int, spot: int, expirations: Rows,
    strikes: Ints, bid: npt.NDArray[np.int32], ask: npt.NDArray[np.int32], delta: npt.NDArray[np.int16],
) -> int:  # fmt: skip
    """Row of the strike nearest to what a leg wants, of those that no leg before it trades the other way round; ties go
    further out of the money (semantics rule 6)."""
    one = expirations[places[leg]]
    columns = one.end - one.start
    base = 0 if sign > 0 else one.strikes
    cell = one.cell + base * columns - one.start + index
    best, found = 0, NONE
    for strike in range(one.strikes):
        at = cell + strike * columns
        away = distance(
            rule[KIND], rule[A], rule[B], as_int(bid[at]), as_int(ask[at]), as_int(delta[at]),
            strikes[one.strike + strike], spot, sign,
        )  # fmt: skip
        if away < 0 or (found != NONE and (away > best or (away == best and sign < 0))):
            continue
        taken = False
        for other in range(leg):
            same = places[other] == places[leg] and rows[other] == base + strike
            taken |= same and contracts[other] * contracts[leg] < 0
        if not taken:
            best, found = away, base + strike
    return found if found != NONE and best <= most_away(rule[KIND], rule[WITHIN], spot) else NONE


@njit(cache=True, nogil=True, error_model="numpy")
def place_of(
    index: int, places: Ints, rows: Ints, contracts: Ints, lots: int, terms_are: int, share: float, terms: Rows,
    picks: Rows, picks_at: npt.NDArray[np.int32], used: Ints, tape: Tape,
) -> tuple[int, int]:  # fmt: skip
    """The place of what would be dealt in, a new one where it is not known yet. ``DECIDE``: its capital is not told here."""
    n, found = len(rows), picks_at[index]
    while found != NONE:
        one = picks[found]
        same = one.legs == n and one.lots == lots and one.terms == terms_are
        for leg in range(n if same else 0):
            same &= (
                one.expiration[leg] == places[leg]
                and one.row[leg] == rows[leg]
                and one.contracts[leg] == contracts[leg]
            )
        if same:
            return DONE, as_int(found)
        found = one.next
    needed = _needed(index, places, rows, contracts, terms[terms_are].share, share, tape)
    if math.isnan(needed):
        return DECIDE, NONE
    found = used[PICKS]
    used[PICKS] += 1
    for leg in range(n):
        picks[found].expiration[leg], picks[found].row[leg] = places[leg], rows[leg]
        picks[found].contracts[leg] = contracts[leg]
    picks[found].index, picks[found].lots, picks[found].terms, picks[found].legs = index, lots, terms_are, n
    picks[found].needed, picks[found].next = needed, picks_at[index]
    picks_at[index] = found
    return DONE, found


@njit(cache=True, nogil=True, error_model="numpy")
def _needed(index: int, places: Ints, rows: Ints, contracts: Ints, way: int, share: float, tape: Tape) -> float:
    """Capital of contracts that are to be opened, as :func:`strell_core.engine.capital.of_new` has it; NaN where it is not told
    here."""
    n = len(rows)
    marks, signs, strikes, settlements = np.empty(n), np.empty(n, np.int64), np.empty(n), np.empty(n, np.int64)
    for leg in range(n):
        cell = cell_of(tape.expirations, places[leg], rows[leg]) + index
        bid, ask = as_int(tape.bid[cell]), as_int(tape.ask[cell])
        parts = (bid + ask) * (PARTS // 2)
        if contracts[leg] > 0 or bid > 0:
            parts = parts_at(bid, ask, contracts[leg], way)
        marks[leg] = parts * (tape.units[0].quantum / PARTS)
        signs[leg], strikes[leg], settlements[leg] = told_of(tape.expirations, tape.strikes, places[leg], rows[leg])
    spot = as_int(tape.spot[index]) / SPOT_SCALE
    found = simple.capital(contracts, signs, strikes, settlements, marks, spot, share)
    return found * tape.sessions[tape.session_of[index]].multiplier


@njit(cache=True, nogil=True, error_model="numpy")
def strike_of(expirations: Rows, strikes: Ints, place: int, row: int) -> int:
    """A contract's strike, thousandths."""
    one = expirations[place]
    return strikes[one.strike + (row if row < one.strikes else row - one.strikes)]


@njit(cache=True, nogil=True, error_model="numpy")
def told_of(expirations: Rows, strikes: Ints, place: int, row: int) -> tuple[int, float, int]:
    """The sign of a contract's right, its strike in points, when it settles."""
    one = expirations[place]
    sign = 1 if row < one.strikes else -1
    return sign, strike_of(expirations, strikes, place, row) / STRIKE_SCALE, one.settlement_at

"""How a trade by itself ends, compiled: what :mod:`strell_core.engine.lives` says of leaving at a snapshot, and of settlement. Whatever
is asked that is not told here says so before anything is written, and that room has to tell."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.engine.fills import parts_at
from strell_core.engine.judged import strike_of
from strell_core.engine.known import DONE, ENDED, ENDS, FLOATS, ROOM, STAYS, Ints, Row, Rows, as_int
from strell_core.engine.lived import commission, quote, single_at, stop_of
from strell_core.market.instruments import STRIKE_SCALE
from strell_core.market.prices import SPOT_SCALE, half_even
from strell_core.market.tape import NONE, Tape
from strell_core.market.view import valid_quote

Floats = npt.NDArray[np.float64]


@njit(cache=True, nogil=True, error_model="numpy")
def learn_end(
    opening: int, left: int, urgent: bool, by: bool, end: int, tape: Tape, picks: Rows, terms: Rows, openings: Rows, ends: Rows,
    floats: Floats, used: Ints,
) -> tuple[int, int]:  # fmt: skip
    """How a trade ends that is left at a snapshot, ``by`` adjustments or not, is known from now on; or why it is not told here,
    and for how many numbers room is needed."""
    row = openings[opening]
    pick = picks[row.picked]
    n = pick.legs
    if n == 0:
        return ENDED, NONE
    if used[FLOATS] + n + 1 > len(floats):
        return ROOM, n + 1
    stop = stop_of(pick, end, tape.expirations)
    at = stop
    if left < STAYS:
        at = left if single_at(left, tape.session_of, tape.sessions) else left + 1
        while at < stop and not _usable(pick, at, tape.expirations, tape.bid, tape.ask):
            at += 1
    began = openings[row.root].index
    multiplier, place, brought = tape.sessions[tape.session_of[began]].multiplier, used[FLOATS], as_int(0)
    found = ends[used[ENDS]]
    if at >= stop >= end:
        found.ends, found.index, found.moment, found.settles, found.held, found.watched = False, 0, STAYS, False, 0, 0
        found.cents, found.amounts, found.moves = 0, 0, 0
    else:
        settles, moves = at >= stop, n
        if settles and not _settles(pick, tape.expirations, tape.strikes, tape.units):
            return ENDED, NONE
        share = 100 if urgent else terms[pick.terms].share
        for leg in range(n):
            if settles:
                parts = _intrinsic(pick.expiration[leg], pick.row[leg], tape.expirations, tape.strikes, tape.units)
            else:
                bid, ask = quote(pick.expiration[leg], pick.row[leg], at, tape.expirations, tape.bid, tape.ask)
                # what nobody bids for is given away
                away = pick.contracts[leg] > 0 and bid == 0
                parts = as_int(0) if away else parts_at(bid, ask, -pick.contracts[leg], share)
            cents = half_even(pick.contracts[leg] * parts * tape.units[0].cents * multiplier, tape.units[0].of)
            floats[place + leg] = cents / 100
            brought += cents
        if not settles:
            costs = commission(pick.contracts[:n].copy(), terms[pick.terms])
            floats[place + n] = -costs / 100
            brought -= costs
            moves = n + 1
        moment = 2 * at + (not settles and at == left)
        found.ends, found.index, found.moment, found.settles = True, at, moment, settles
        found.held = _before(row, at, tape.session_of, tape.sessions)
        found.watched = _before(row, (moment + 1) // 2, tape.session_of, tape.sessions)
        found.cents, found.amounts, found.moves = brought, place, moves
        used[FLOATS] += moves
    found.left, found.urgent, found.adjusts, found.next = left, urgent, by, row.ends
    row.ends = used[ENDS]
    used[ENDS] += 1
    return DONE, as_int(row.ends)


@njit(cache=True, nogil=True, error_model="numpy")
def _usable(pick: Row, at: int, expirations: Rows, bid: npt.NDArray[np.int32], ask: npt.NDArray[np.int32]) -> bool:
    for leg in range(pick.legs):
        low, high = quote(pick.expiration[leg], pick.row[leg], at, expirations, bid, ask)
        if not valid_quote(low, high):
            return False
    return True


@njit(cache=True, nogil=True, error_model="numpy")
def _settles(pick: Row, expirations: Rows, strikes: Ints, units: Rows) -> bool:
    """Whether all legs settle at once, at a value that is recorded and in whole parts."""
    for leg in range(pick.legs):
        one = expirations[pick.expiration[leg]]
        if one.settlement_at != expirations[pick.expiration[0]].settlement_at or one.official == NONE:
            return False
        above = _thousandths(pick.expiration[leg], pick.row[leg], expirations, strikes)
        if above * units[0].parts % units[0].in_thousandths:
            return False
    return True


@njit(cache=True, nogil=True, error_model="numpy")
def _thousandths(place: int, row: int, expirations: Rows, strikes: Ints) -> int:
    """How far the settlement value lies above a contract's strike."""
    official = expirations[place].official * (STRIKE_SCALE // SPOT_SCALE)
    return official - strike_of(expirations, strikes, place, row)


@njit(cache=True, nogil=True, error_model="numpy")
def _intrinsic(place: int, row: int, expirations: Rows, strikes: Ints, units: Rows) -> int:
    """What a contract is worth at its settlement, parts."""
    sign = 1 if row < expirations[place].strikes else -1
    above = _thousandths(place, row, expirations, strikes) * units[0].parts // units[0].in_thousandths
    return max(as_int(0), sign * above)


@njit(cache=True, nogil=True, error_model="numpy")
def _before(row: Row, index: int, session_of: npt.NDArray[np.int32], several: Rows) -> int:
    """How many of a trade's session ends come before a snapshot."""
    sessions = session_of[index] if index < len(session_of) else len(several) - 1
    return min(row.closes, sessions - row.first_session)

"""The life of a trade by itself, compiled: what :mod:`strell_core.engine.lives` says of one whose quotes lie behind one another.
Whatever is asked that is not told here says so before anything is written, and that room has to tell."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.engine.fills import parts_at
from strell_core.engine.judged import cell_of, strike_of, told_of
from strell_core.engine.known import (
    AHEAD,
    DONE,
    FLOATS,
    OPEN,
    OPENINGS,
    ROOM,
    STAYS,
    Ints,
    Row,
    Rows,
    as_int,
)
from strell_core.engine.marks import NEVER, carried_at, marked, usable
from strell_core.margin import simple
from strell_core.market.prices import PARTS, SPOT_SCALE, half_even
from strell_core.market.tape import NONE, Tape
from strell_core.market.timeline import NO_PRICE
from strell_core.market.view import valid_quote
from strell_core.strategy.compiled import BEFORE_EXPIRATION, BY_TIME, first_true

Floats = npt.NDArray[np.float64]
Masks = npt.NDArray[np.bool_]
ANY = -(2**62)
"""What a fill has to bring where it has to bring nothing."""


class Marks(NamedTuple):
    """A trade from its fill to its settlement, or the end: quotes of legs ``(legs, n)`` in parts, marks ``(n,)``."""

    bid: Ints
    ask: Ints
    good: Masks
    mid: Ints
    closable: Ints
    valued: Masks
    firm: Masks
    best: Ints


@njit(cache=True, nogil=True, error_model="numpy")
def learn_opening(
    picked: int, least_place: int, least: int, end: int, looks: Rows, looks_are: int, share: float, tape: Tape, picks: Rows,
    terms: Rows, exits: Rows, reached: Masks, openings: Rows, floats: Floats, opening_of: npt.NDArray[np.int32],
    firsts: Ints, used: Ints,
) -> tuple[int, int]:  # fmt: skip
    """What comes of the order for what was picked is known from now on, with when its exits are true; or why it is not told
    here, and for how many numbers room is needed."""
    pick = picks[picked]
    n, index = pick.legs, pick.index
    if n == 0:
        return OPEN, NONE
    prices = np.empty(n, np.int64)
    at, decided_last = _filled(pick, least, end, terms, tape, prices)
    opening, late = used[OPENINGS], as_int(at == index)
    if at == NONE:
        _empty(openings[opening], opening, picked, least_place, decided_last, index)
        opening_of[least_place, picked] = opening
        used[OPENINGS] += 1
        return DONE, opening
    stop = stop_of(pick, end, tape.expirations)
    if stop <= at:
        return OPEN, NONE
    session, last = tape.session_of[at], tape.session_of[stop - 1]
    room = n + 1 + (n + 2) * (last - session + 1) + 2 * AHEAD
    if used[FLOATS] + room > len(floats):
        return ROOM, room
    contracts = pick.contracts[:n].copy()
    signs, strikes, settlements = np.empty(n, np.int64), np.empty(n), np.empty(n, np.int64)
    for leg in range(n):
        signs[leg], strikes[leg], settlements[leg] = told_of(
            tape.expirations, tape.strikes, pick.expiration[leg], pick.row[leg]
        )
    if math.isnan(simple.capital(contracts, signs, strikes, settlements, np.zeros(n), 0.0, share)):
        return OPEN, NONE
    premium = as_int(0)
    for leg in range(n):
        premium -= contracts[leg] * prices[leg]
    marks = _marks(pick, terms, premium, premium, NEVER, at, stop, tape)
    multiplier = tape.sessions[session].multiplier
    place, brought = used[FLOATS], as_int(0)
    for leg in range(n + 1):
        if leg < n:
            cents = half_even(-contracts[leg] * prices[leg] * tape.units[0].cents * multiplier, tape.units[0].of)
        else:
            cents = -commission(contracts, terms[pick.terms])
        floats[place + leg] = cents / 100
        brought += cents
    closes = last - session + 1 - (tape.sessions[last + 1].first - 1 >= stop)
    first = _at_or_after(looks, at + late)
    to = first
    while to < min(first + AHEAD, len(looks)) and looks[to].index < stop:
        to += 1
    values = place + n + 1
    funds = values + (n + 2) * closes
    at_once, parts = np.empty(n), np.empty(n, np.int64)
    for k in range(closes + to - first):
        now = tape.sessions[session + k + 1].first - 1 if k < closes else looks[first + k - closes].index
        together = as_int(0)
        for leg in range(n):
            parts[leg] = carried_at(marks.bid[leg], marks.ask[leg], marks.good[leg], prices[leg], now - at)
            together += contracts[leg] * parts[leg]
            at_once[leg] = parts[leg] * (tape.units[0].quantum / PARTS)
        worth = together * (tape.units[0].quantum / PARTS) * multiplier
        spot = as_int(tape.spot[now]) / SPOT_SCALE
        needed = simple.capital(contracts, signs, strikes, settlements, at_once, spot, share) * multiplier
        if k < closes:
            for leg in range(n):
                floats[values + leg * closes + k] = (
                    contracts[leg] * parts[leg] * (tape.units[0].quantum * multiplier / PARTS)
                )
            floats[values + n * closes + k], floats[values + (n + 1) * closes + k] = worth, needed
        else:
            floats[funds + 2 * (k - closes)], floats[funds + 2 * (k - closes) + 1] = worth, needed
    used[FLOATS] = funds + 2 * (to - first)
    row = openings[opening]
    _empty(row, opening, picked, least_place, 2 * at + late, index)
    row.filled, row.index, row.cents, row.amounts, row.moves = True, at, brought, place, n + 1
    row.total, row.premium, row.base, row.best = brought, premium, premium, NEVER
    row.first_session, row.closes, row.legs, row.values = session, closes, n, values
    row.unwatched = 1 if closes > 0 and 2 * at + late > 2 * (tape.sessions[session + 1].first - 1) else 0
    row.looks, row.from_look, row.to_look, row.funds = looks_are, first, to, funds
    _learn_firsts(opening, pick, premium, marks, at, stop, late, tape, exits, reached, firsts)
    opening_of[least_place, picked] = opening
    used[OPENINGS] += 1
    return DONE, opening


@njit(cache=True, nogil=True, error_model="numpy")
def _at_or_after(looks: Rows, index: int) -> int:
    """The first look from a snapshot on."""
    low, high = 0, len(looks)
    while low < high:
        middle = (low + high) // 2
        if looks[middle].index < index:
            low = middle + 1
        else:
            high = middle
    return low


@njit(cache=True, nogil=True, error_model="numpy")
def _empty(row: Row, opening: int, picked: int, least_place: int, moment: int, decided: int) -> None:
    """An opening of which nothing came."""
    row.picked, row.least, row.filled, row.moment, row.decided = picked, least_place, False, moment, decided
    row.index, row.cents, row.amounts, row.moves, row.ends = 0, 0, 0, 0, NONE
    row.first_session, row.unwatched, row.closes, row.legs, row.values = 0, 0, 0, 0, 0
    row.looks, row.from_look, row.to_look, row.funds = 0, 0, 0, 0
    row.waits_at, row.waits_for, row.before, row.root, row.total = NONE, 0.0, NONE, opening, 0
    row.worths, row.premium, row.base, row.best = NONE, 0, 0, NEVER


@njit(cache=True, nogil=True, error_model="numpy")
def stop_of(pick: Row, end: int, expirations: Rows) -> int:
    """Where a trade's first leg settles, or the end."""
    stop = end
    for leg in range(pick.legs):
        stop = min(stop, expirations[pick.expiration[leg]].settles_from)
    return stop


@njit(cache=True, nogil=True, error_model="numpy")
def _filled(pick: Row, least: int, end: int, terms: Rows, tape: Tape, prices: Ints) -> tuple[int, int]:
    """The snapshot at which an order is filled, with its ``prices``; none, and the moment at which it is gone."""
    index, session = pick.index, tape.session_of[pick.index]
    last = tape.sessions[session + 1].first - 1
    at, until = index + 1, min(last, end - 1)
    single = single_at(index, tape.session_of, tape.sessions)
    if single:
        at, until = index, index
    while at <= until:
        if _dealt(pick, least, terms[pick.terms].share, at, prices, tape.expirations, tape.bid, tape.ask):
            return at, NONE
        at += 1
    if single:
        return NONE, 2 * index + 1
    return NONE, (2 * last if last < end else STAYS)


@njit(cache=True, nogil=True, error_model="numpy")
def single_at(index: int, session_of: npt.NDArray[np.int32], sessions: Rows) -> bool:
    """Whether a snapshot is its session's only one."""
    session = session_of[index]
    return sessions[session + 1].first - sessions[session].first == 1


@njit(cache=True, nogil=True, error_model="numpy")
def _dealt(
    pick: Row, least: int, share: int, at: int, prices: Ints, expirations: Rows, bid: npt.NDArray[np.int32],
    ask: npt.NDArray[np.int32],
) -> bool:  # fmt: skip
    """Whether an order to open deals at a snapshot, and its prices."""
    premium = as_int(0)
    for leg in range(pick.legs):
        low, high = quote(pick.expiration[leg], pick.row[leg], at, expirations, bid, ask)
        if not valid_quote(low, high) or (pick.contracts[leg] < 0 and low == 0):
            return False
        prices[leg] = parts_at(low, high, pick.contracts[leg], share)
        premium -= pick.contracts[leg] * prices[leg]
    return least == ANY or premium >= least * pick.lots


@njit(cache=True, nogil=True, error_model="numpy")
def quote(
    place: int, row: int, at: int, expirations: Rows, bid: npt.NDArray[np.int32], ask: npt.NDArray[np.int32]
) -> tuple[int, int]:
    one = expirations[place]
    if not one.start <= at < one.end:
        return NO_PRICE, NO_PRICE
    cell = cell_of(expirations, place, row) + at
    return as_int(bid[cell]), as_int(ask[cell])


@njit(cache=True, nogil=True, error_model="numpy")
def commission(contracts: Ints, terms: Row) -> int:
    """Cents that dealing in so many contracts costs."""
    many = as_int(0)
    for leg in range(len(contracts)):
        many += abs(contracts[leg])
    return half_even(terms.a_contract * many + terms.an_order, terms.of)


@njit(cache=True, nogil=True, error_model="numpy")
def _marks(
    pick: Row, terms: Rows, premium: int, base: int, best_so_far: int, at: int, stop: int, tape: Tape
) -> Marks:  # fmt: skip
    n, count = pick.legs, stop - at
    bid, ask = np.empty((n, count), np.int64), np.empty((n, count), np.int64)
    contracts, spreads = pick.contracts[:n].copy(), np.empty(n, np.int64)
    for leg in range(n):
        one = tape.expirations[pick.expiration[leg]]
        cell = cell_of(tape.expirations, pick.expiration[leg], pick.row[leg])
        until = max(at, min(stop, one.end))
        for i in range(at, until):
            bid[leg, i - at] = as_int(tape.bid[cell + i]) * PARTS
            ask[leg, i - at] = as_int(tape.ask[cell + i]) * PARTS
        for i in range(until, stop):
            bid[leg, i - at], ask[leg, i - at] = NO_PRICE, NO_PRICE
        spreads[leg] = abs(contracts[leg])
    good, now = usable(bid, ask), terms[pick.terms]
    mid, closable, valued, doubtful, best = marked(
        bid, ask, good, contracts, spreads, base, now.doubt * abs(premium), tape.last_of_several[at:stop],
        now.waits, best_so_far,
    )  # fmt: skip
    for i in range(count):
        doubtful[i] = valued[i] and not doubtful[i]
    return Marks(bid, ask, good, mid, closable, valued, doubtful, best)


@njit(cache=True, nogil=True, error_model="numpy")
def learn_firsts(
    opening: int, end: int, tape: Tape, picks: Rows, terms: Rows, exits: Rows, reached: Masks, openings: Rows, firsts: Ints
) -> None:  # fmt: skip
    """When a trade's exits are true is known from now on, of those that go by numbers."""
    row = openings[opening]
    pick = picks[row.picked]
    if pick.legs == 0:
        return
    stop = stop_of(pick, end, tape.expirations)
    marks = _marks(pick, terms, row.premium, row.base, row.best, row.index, stop, tape)
    _learn_firsts(opening, pick, row.premium, marks, row.index, stop, row.moment & 1, tape, exits, reached, firsts)


@njit(cache=True, nogil=True, error_model="numpy")
def _learn_firsts(
    opening: int, pick: Row, premium: int, marks: Marks, at: int, stop: int, since: int, tape: Tape, exits: Rows,
    reached: Masks, firsts: Ints,
) -> None:  # fmt: skip
    shorts, nearest = 0, as_int(STAYS)
    signs, strikes = np.empty(pick.legs, np.int64), np.empty(pick.legs, np.int64)
    for leg in range(pick.legs):
        one = tape.expirations[pick.expiration[leg]]
        nearest = min(nearest, one.day)
        if pick.contracts[leg] < 0:
            signs[shorts] = 1 if pick.row[leg] < one.strikes else -1
            strikes[shorts] = strike_of(tape.expirations, tape.strikes, pick.expiration[leg], pick.row[leg])
            shorts += 1
    for place in range(len(exits)):
        rule = exits[place]
        if rule.kind == NONE or firsts[place, opening] != NONE:
            continue
        day, time = as_int(0), 0
        if rule.kind in BY_TIME:
            time, day = rule.b, as_int(tape.ordinal[at]) + rule.a
        if rule.kind == BEFORE_EXPIRATION:
            back = nearest - rule.a - tape.units[0].days_from
            day = tape.on_or_before[back] if back >= 0 else NONE
            if day == NONE:
                continue
        found = first_true(
            rule.kind, rule.a, rule.b, marks.mid, marks.closable, marks.best, marks.valued, marks.firm, premium,
            tape.spot[at:stop], signs[:shorts], strikes[:shorts], tape.ordinal[at:stop], day, reached[time, at:stop], since,
        )  # fmt: skip
        firsts[place, opening] = STAYS if found < 0 else at + found

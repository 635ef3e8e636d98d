"""Rows of one underlying and session made into a session chain, with what is doubtful in it counted."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import numpy.typing as npt

from strell_core.formats.intake.rows import NONE, PRICE_SCALE, REASONS
from strell_core.formats.intake.tables import IntakeError
from strell_core.market.calendars import Session, SessionCalendar
from strell_core.market.chains import NO_QUOTE, SessionChain
from strell_core.market.dividends import Dividend, paid_at
from strell_core.market.extras import REAL, WHOLE, Extras
from strell_core.market.instruments import ContractKey, Underlying, strike_of, thousandths
from strell_core.pricing.surface import american_surface, expiration_surface

LATE_SECONDS = 30 * 60
"""Quotes stamped up to this long after the close are the close's."""
MAX_SNAPSHOTS = 1500

FINDINGS = {
    "no quote": "contracts without a quote",
    "no bid": "quotes without a bid",
    "after the close": "quotes stamped up to half an hour after the close, taken as the close's",
    "expiration moved": "quotes whose expiration is no session, moved to the session before",
    "no forward": "expirations at an instant without a usable pair of call and put",
    "no volatility": "quotes with a bid but without an implied volatility",
    "vertical arbitrage": "neighbouring strikes whose bid and ask allow a riskless gain",
    "volatility jump": "strikes whose volatility lies far from both neighbours'",
    "missing strike": "contracts quoted before and after an instant, but not at it",
    "stale": "contracts whose quote never changes while the underlying moves",
    "given volatility": "delivered volatilities that lie more than 2 points and a tenth away from ours",
    "off the step": "bids and asks that lie between two of the exchange's price steps",
    "spot by parity": "instants whose underlying price was taken from the nearest forward",
}


@dataclass(frozen=True)
class Built:
    """A session's chain (``None``: nothing usable), lines set aside with their reasons, findings, and what was told
    beside the quotes."""

    chain: SessionChain | None
    rejects: list[tuple[int, str]]
    findings: dict[str, int] = field(default_factory=dict)
    extras: Extras = field(default_factory=dict)


Rows = npt.NDArray[Any]
Ints = npt.NDArray[np.int64]


def build(
    rows: Rows, date: dt.date, terms: Underlying, calendar: SessionCalendar, day_time: str = "",
    dividends: Sequence[Dividend] = (), close: float | None = None,
) -> Built:  # fmt: skip
    """``rows`` of ``terms.symbol`` on ``date`` (see :func:`rows.row_type`) as a chain.

    ``close`` is the official closing value where it is known. Volatilities are computed, never taken over.
    """
    if date not in calendar:
        return Built(None, [(int(line), "no session") for line in rows["line"]])
    session = calendar.session(date)
    if (np.diff(rows["line"]) < 0).any():
        rows = rows[np.argsort(rows["line"], kind="stable")]
    rejects: list[tuple[int, str]] = []
    findings: dict[str, int] = dict.fromkeys(FINDINGS, 0)

    def keep(good: npt.NDArray[np.bool_], why: str) -> None:
        nonlocal rows
        assert why in REASONS
        if good.all():
            return
        rejects.extend((int(line), why) for line in rows["line"][~good])
        rows = rows[good]

    rows["at"] = _instants(rows["at"], session, date, calendar, day_time, findings)
    keep((rows["at"] >= session.open) & (rows["at"] <= session.close), "outside")
    rows["expiration"] = _expirations(rows["expiration"], calendar, findings)
    keep(rows["expiration"] >= date.toordinal(), "expired")
    tick = round(float(terms.quantum) * PRICE_SCALE)
    for side in ("bid", "ask"):
        findings["off the step"] += off_step(rows[side] / tick, terms)
        keep((rows[side] == NONE) | (rows[side] % tick == 0), "off tick")
    if len(rows) == 0:
        return Built(None, rejects)
    placed = _place(rows)
    if len(placed.times) > MAX_SNAPSHOTS:
        raise IntakeError(
            f"{terms.symbol} on {date} has {len(placed.times)} snapshots; at most {MAX_SNAPSHOTS} can be kept. "
            "Thin the file out, to one a minute say."
        )
    rejects.extend((int(line), "duplicate") for line in placed.twice)
    chain, extras = _chain(placed, date, terms, calendar, tick, dividends, close, findings)
    return Built(chain, sorted(rejects), {name: count for name, count in findings.items() if count}, extras)


def off_step(quanta: npt.NDArray[np.float64], terms: Underlying) -> int:
    """How many prices lie between two of the exchange's steps."""
    if not terms.ticks:
        return 0
    whole = quanta[(quanta > 0) & (quanta == np.rint(quanta))].astype(np.int64)
    starts = np.array([int(start / terms.quantum) for start, _ in terms.ticks], np.int64)
    steps = np.array([int(step / terms.quantum) for _, step in terms.ticks], np.int64)
    mine = steps[np.maximum(0, np.searchsorted(starts, whole, side="right") - 1)]
    return int((whole % mine != 0).sum())


def _instants(
    at: Ints, session: Session, date: dt.date, calendar: SessionCalendar, day_time: str, findings: dict[str, int]
) -> Ints:
    day = session.close
    if day_time:
        day = min(session.close, calendar.instant(date, dt.time.fromisoformat(day_time)))
    at = np.where(at == NONE, day, at)
    late = (at > session.close) & (at <= session.close + LATE_SECONDS)
    findings["after the close"] += int(late.sum())
    return np.where(late, session.close, at)


def _expirations(ordinals: Ints, calendar: SessionCalendar, findings: dict[str, int]) -> Ints:
    out = ordinals.copy()
    first, last = calendar.dates[0].toordinal(), calendar.dates[-1].toordinal()
    for ordinal in np.unique(ordinals).tolist():
        if not first <= ordinal <= last:
            out[ordinals == ordinal] = 0  # beyond the calendar
        elif (date := dt.date.fromordinal(ordinal)) not in calendar:
            which = ordinals == ordinal
            findings["expiration moved"] += int(which.sum())
            out[which] = calendar.on_or_before(date).toordinal()
    return out


def _keys(rows: Rows) -> Ints:
    """Contracts as integers that sort as chains do."""
    both = (rows["expiration"].astype(np.int64) << 1) | rows["right"]
    return np.asarray((both << 30) | rows["strike"], np.int64)


@dataclass(frozen=True)
class _Placed:
    """Rows by time with their places in a chain, and lines that repeat contract and instant of an earlier one."""

    rows: Rows
    keys: Ints
    times: Ints
    row: Ints
    column: Ints
    twice: Ints


def _place(rows: Rows) -> _Placed:
    """``rows`` come by line: the first of several about the same stays."""
    times, column = np.unique(rows["at"], return_inverse=True)
    keys, row = np.unique(_keys(rows), return_inverse=True)
    cell, index = row * len(times) + column, np.arange(len(rows))
    first = np.empty(len(keys) * len(times), np.int64)
    first[cell[::-1]] = index[::-1]  # of equal places the last written stays: the first line
    once = first[cell] == index
    twice = rows["line"][~once]
    if not once.all():
        rows, row, column = rows[once], row[once], column[once]
    if (np.diff(column) < 0).any():
        order = np.argsort(column, kind="stable")
        rows, row, column = rows[order], row[order], column[order]
    return _Placed(rows, keys, times, row, column, twice)


def _chain(
    placed: _Placed, date: dt.date, terms: Underlying, calendar: SessionCalendar, tick: int,
    dividends: Sequence[Dividend], close: float | None, findings: dict[str, int],
) -> tuple[SessionChain, Extras]:  # fmt: skip
    rows, keys, times, row, column = placed.rows, placed.keys, placed.times, placed.row, placed.column
    n, m = len(keys), len(times)
    strikes, rights, days = keys & ((1 << 30) - 1), (keys >> 30) & 1, keys >> 31
    bid, ask = np.full((n, m), NO_QUOTE, np.int32), np.full((n, m), NO_QUOTE, np.int32)
    for side, into in (("bid", bid), ("ask", ask)):
        into[row, column] = np.where(rows[side] == NONE, NO_QUOTE, rows[side] // tick)
    findings["no quote"] += int((rows["ask"] == NONE).sum())
    findings["no bid"] += int((rows["bid"] == 0).sum())
    interest, volume = np.zeros(n, np.int32), np.zeros(n, np.int32)
    for name, counts in (("open_interest", interest), ("volume", volume)):
        told = rows[name] > 0
        counts[row[told]] = rows[name][told]  # rows come by time: the last that was told stays

    spot = _spots(rows, column, m)
    forward, iv = _volatilities(
        terms, date, calendar, dividends, days, rights, strikes, times, spot, bid, ask, findings
    )
    findings["spot by parity"] += int(np.isnan(spot).sum())
    spot = _filled(spot, forward)
    _look_along(bid, ask, spot, findings)
    contracts = tuple(
        ContractKey(dt.date.fromordinal(int(day)), "put" if right else "call", strike_of(int(strike)), terms.symbol)
        for day, right, strike in zip(days.tolist(), rights.tolist(), strikes.tolist(), strict=True)
    )
    expirations = tuple(dt.date.fromordinal(int(day)) for day in np.unique(days))
    whole = np.rint(np.nan_to_num(spot) * 100).astype(np.int32)
    settlement = int(whole[-1]) if close is None else round(close * 100)
    extras = _extras(rows, row, column, n, m)
    if "iv" in extras:
        findings["given volatility"] += _far_from_ours(extras["iv"], iv)
    return SessionChain(
        terms.symbol, date, times.astype(np.int64), whole, settlement, expirations, forward, contracts, bid, ask, iv,
        interest, volume,
    ), extras  # fmt: skip


def _volatilities(
    terms: Underlying, date: dt.date, calendar: SessionCalendar, dividends: Sequence[Dividend], days: Ints,
    rights: Ints, strikes: Ints, times: Ints, spot: npt.NDArray[np.float64], bid: Any, ask: Any,
    findings: dict[str, int],
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.uint16]]:  # fmt: skip
    """Forwards of each expiration and volatilities of each contract, by what is known of interest and dividends."""
    n, m = bid.shape
    ordinals = np.unique(days)
    forward, iv = np.full((len(ordinals), m), np.nan), np.zeros((n, m), np.uint16)
    quantum = float(terms.quantum)
    for rank, ordinal in enumerate(ordinals.tolist()):
        expiration = dt.date.fromordinal(ordinal)
        mine = np.flatnonzero(days == ordinal)
        own, place = np.unique(strikes[mine], return_inverse=True)
        quotes = [np.full((len(own), m), NO_QUOTE, np.int32) for _ in range(4)]
        for right in (0, 1):
            which = rights[mine] == right
            quotes[2 * right][place[which]] = bid[mine[which]]
            quotes[2 * right + 1][place[which]] = ask[mine[which]]
        settles = calendar.settlement(expiration, terms.on(expiration).settles)
        left, rate = np.maximum(0, settles - times), terms.interest(date, expiration)
        points = own / 1000.0
        if terms.american:
            paid = [d for d in dividends if date < d.date <= expiration]
            before = np.array([float(settles - paid_at(d, calendar)) for d in paid])
            forward[rank], found = american_surface(
                points, *quotes, left, quantum, rate, _filled(spot, forward), before,
                np.array([d.amount for d in paid]),
            )  # fmt: skip
        else:
            forward[rank], found = expiration_surface(points, *quotes, left, quantum, rate)
        iv[mine] = found[place]
        _look(quotes, found, left, forward[rank], findings)
    return forward, iv


def revalued(
    chain: SessionChain, terms: Underlying, calendar: SessionCalendar, dividends: Sequence[Dividend] = (),
    close: float | None = None,
) -> SessionChain:  # fmt: skip
    """A chain whose forwards and volatilities are computed anew from its quotes, by what is known now of terms,
    interest and dividends; ``close`` is the official closing value where it is known."""
    terms = terms.on(chain.date)
    days = np.array([c.expiration.toordinal() for c in chain.contracts], np.int64)
    rights = np.array([c.right == "put" for c in chain.contracts], np.int64)
    strikes = np.array([thousandths(c.strike) for c in chain.contracts], np.int64)
    forward, iv = _volatilities(
        terms, chain.date, calendar, dividends, days, rights, strikes, chain.times, chain.spot / 100.0, chain.bid,
        chain.ask, dict.fromkeys(FINDINGS, 0),
    )  # fmt: skip
    settlement = int(chain.spot[-1]) if close is None else round(close * 100)
    return replace(chain, forward=forward, iv=iv, settlement=settlement)


def _extras(rows: Rows, row: Ints, column: Ints, n: int, m: int) -> Extras:
    """What the rows tell beside the quotes; volume and open interest where they change within the session."""
    out: dict[str, npt.NDArray[Any]] = {}
    for name in rows.dtype.names or ():
        if name not in WHOLE and name not in REAL:
            continue
        missing = NONE if name in WHOLE else np.nan
        values = np.full((n, m), missing, np.int32 if name in WHOLE else np.float32)
        values[row, column] = rows[name]
        told = values != NONE if name in WHOLE else ~np.isnan(values)
        if not told.any():
            continue
        if name in ("volume", "open_interest"):
            low, high = np.where(told, values, np.iinfo(np.int32).max).min(1), np.where(told, values, NONE).max(1)
            if not (low < high).any():
                continue
        out[name] = values
    return out


def _far_from_ours(given: npt.NDArray[Any], iv: npt.NDArray[np.uint16]) -> int:
    """How many delivered volatilities, as fractions or percent, lie 2 points and a tenth away from ours."""
    both = (given > 0) & (iv > 0)
    if not both.any():
        return 0
    ours, told = iv[both] / 10_000, given[both].astype(np.float64)
    told = told / 100 if np.median(told / ours) > 10 else told
    away = np.abs(told - ours)
    return int(((away > 0.02) & (away > 0.1 * ours)).sum())


def _spots(rows: Rows, column: Ints, m: int) -> npt.NDArray[np.float64]:
    """Underlying price at each instant: the middle one of what its rows say, NaN where none does."""
    out = np.full(m, np.nan)
    ends = np.cumsum(np.bincount(column, minlength=m))  # rows come by time
    for t, (begin, end) in enumerate(zip(np.append(0, ends[:-1]).tolist(), ends.tolist(), strict=True)):
        told = rows["spot"][begin:end]
        told = told[told > 0]
        if len(told):
            out[t] = float(np.median(told)) / 100
    return out


def _filled(spot: npt.NDArray[np.float64], forward: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """Prices, taken from the nearest expiration's forward where the file has none."""
    out = spot.copy()
    for t in np.flatnonzero(np.isnan(spot)).tolist():
        known = forward[:, t][~np.isnan(forward[:, t])]
        out[t] = known[0] if len(known) else np.nan
    return out


def _look(
    quotes: list[npt.NDArray[np.int32]], iv: npt.NDArray[np.uint16], left: Ints, forward: npt.NDArray[np.float64],
    findings: dict[str, int],
) -> None:  # fmt: skip
    """Count what is doubtful in one expiration."""
    call_bid, call_ask, put_bid, put_ask = quotes
    alive = left > 0
    findings["no forward"] += int((np.isnan(forward) & alive).sum())
    bids = (np.maximum(call_bid, put_bid) > 0) & alive
    findings["no volatility"] += int((bids & (iv == 0)).sum())
    # a higher strike's call bid above a lower strike's ask, or the mirror of it for puts
    findings["vertical arbitrage"] += int(((call_bid[1:] > call_ask[:-1]) & (call_ask[:-1] > 0) & alive).sum())
    findings["vertical arbitrage"] += int(((put_bid[:-1] > put_ask[1:]) & (put_ask[1:] > 0) & alive).sum())
    if len(iv) >= 3:
        middle, low, high = (part.astype(np.int64) for part in (iv[1:-1], iv[:-2], iv[2:]))
        known = (middle > 0) & (low > 0) & (high > 0)
        away = np.minimum(np.abs(middle - low), np.abs(middle - high)) > 0.3 * np.maximum(low, high)
        findings["volatility jump"] += int((known & away).sum())


def _look_along(bid: Any, ask: Any, spot: npt.NDArray[np.float64], findings: dict[str, int]) -> None:
    """Count what is doubtful along the session."""
    if bid.shape[1] < 3:
        return
    quoted = ask > 0
    findings["missing strike"] += int((~quoted[:, 1:-1] & quoted[:, :-2] & quoted[:, 2:]).sum())
    moved = np.nanmax(spot) - np.nanmin(spot) > 0.002 * np.nanmean(spot)
    if moved and bid.shape[1] >= 12:
        still = quoted.all(axis=1) & (bid == bid[:, :1]).all(axis=1) & (ask == ask[:, :1]).all(axis=1)
        findings["stale"] += int((still & (bid[:, 0] > 0)).sum())

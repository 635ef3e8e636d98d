"""A history twice: in one unit throughout, and with a split in it that changes nothing but units.

The one that is split has what it had before its day in old units and everything from then on in new ones: prices,
strikes and closes divided by the ratio, and contracts listed from then on that deliver as much more. Who trades in it
earns and decides the same.
"""

from __future__ import annotations

import dataclasses
import datetime as dt
from decimal import Decimal

import numpy as np
import numpy.typing as npt

from strell_core.market.daily import DailyHistory
from strell_core.market.instruments import TermsPeriod, Ticks, Underlying
from strell_core.market.splits import Split
from strell_core.market.timeline import NOTHING, ExpirationCube, Timeline


def _steps(terms: Underlying, ratio: int) -> Ticks:
    """The exchange's price steps in units so many times as large."""
    known = terms.ticks or ((Decimal(0), terms.quantum),)
    return tuple((start * ratio, size * ratio) for start, size in known)


def _period(terms: Underlying, start: dt.date, multiplier: int, ratio: int) -> TermsPeriod:
    return TermsPeriod(
        start, multiplier, terms.american, terms.settles, terms.rate, terms.currency, terms.calendar,
        _steps(terms, ratio),
    )  # fmt: skip


def twice(whole: Timeline, ratio: int, session: int) -> tuple[Timeline, Timeline]:
    """A timeline in units so many times as large, and the same split back at the open of a session."""
    day, at, terms = whole.dates[session], int(whole.first[session]), whole.underlying
    old = [(date, points * ratio) for date, points in terms.dividends]
    new = [(date, points * (ratio if date < day else 1)) for date, points in terms.dividends]
    large = dataclasses.replace(terms, dividends=tuple(old), ticks=_steps(terms, ratio))
    split = dataclasses.replace(
        terms, dividends=tuple(new), splits=((day, float(ratio)),),
        periods=(_period(terms, whole.dates[0], terms.multiplier, ratio), _period(terms, day, terms.multiplier * ratio, 1)),
    )  # fmt: skip
    never = len(whole.times)
    return _told(whole, large, ratio, never, len(whole.dates)), _told(whole, split, ratio, at, session)


def _told(whole: Timeline, terms: Underlying, ratio: int, at: int, session: int) -> Timeline:
    """The timeline in units ``ratio`` times as large before snapshot ``at``, which begins a session."""

    def scaled(values: npt.NDArray[np.int32], until: int) -> npt.NDArray[np.int32]:
        out = np.array(values)
        out[:until][out[:until] >= 0] *= ratio
        return out

    daily, known = whole.daily, whole.daily.earlier + session
    close = np.array(daily.close, np.float64)
    close[:known] *= ratio
    ranges = None if daily.ranges is None else np.array(daily.ranges)
    if ranges is not None:
        ranges[:, :known] *= ratio
    splits = tuple(Split(date, by) for date, by in terms.splits)
    history = DailyHistory(daily.dates, close, daily.atm_iv, daily.earlier, splits, ranges, daily.traded)
    cubes = {date: _cube(cube, ratio, at, session) for date, cube in whole.cubes.items()}
    return Timeline(
        terms, whole.calendar, whole.dates, whole.first, whole.times, scaled(whole.spot, at),
        scaled(whole.settlement, session), history, cubes, f"{whole.digest} {ratio} at {at}",
    )  # fmt: skip


def _cube(cube: ExpirationCube, ratio: int, at: int, session: int) -> ExpirationCube:
    """Strikes of old units, and those of new ones, each listed on its side of the split alone."""
    before = min(max(0, at - cube.start), cube.bid.shape[1])
    sessions = min(max(0, session - cube.first_session), cube.open_interest.shape[1])
    old = np.array(cube.strikes) * ratio if before else np.empty(0)
    new = np.array(cube.strikes) if before < cube.bid.shape[1] else np.empty(0)
    strikes = np.unique(np.concatenate([old, new]))
    rows = {
        side: np.concatenate([np.searchsorted(strikes, own) + add * len(strikes) for add in (0, 1)])
        for side, own in (("old", old), ("new", new))
    }

    def put(values: npt.NDArray[np.generic], nothing: float, until: int, by: int) -> npt.NDArray[np.generic]:
        out = np.full((2 * len(strikes), values.shape[1]), nothing, values.dtype)
        if len(old):
            there = values[:, :until]
            out[rows["old"], :until] = np.where(there >= 0, there * by, there)
        if len(new):
            out[rows["new"], until:] = values[:, until:]
        return out

    grids = {
        name: put(np.asarray(getattr(cube, name)), nothing, before, ratio if name in ("bid", "ask") else 1)
        for name, nothing in NOTHING.items()
    }
    forward = np.array(cube.forward)
    forward[:before] *= ratio
    interest = put(np.asarray(cube.open_interest), -1, sessions, 1)
    return dataclasses.replace(cube, strikes=strikes, forward=forward, open_interest=interest, **grids)

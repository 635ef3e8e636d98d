"""A history and what was recorded after it as one timeline, without copying the history's quotes."""

from __future__ import annotations

import dataclasses
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt

from strell_core.market.daily import DailyHistory
from strell_core.market.timeline import NOTHING, ExpirationCube, Timeline


@dataclass(frozen=True)
class _Part:
    """Columns of a joined grid from ``start`` on; ``rows`` says which of its rows each row of the whole is, -1 none;
    ``None``: they are the same."""

    grid: Any
    start: int
    rows: npt.NDArray[np.int64] | None

    @property
    def end(self) -> int:
        return self.start + int(self.grid.shape[1])

    def take(self, rows: Any, columns: Any, nothing: int) -> Any:
        """Of the whole's ``rows`` and of own ``columns``."""
        if self.rows is None:
            return self.grid[rows, columns]
        mine = self.rows[rows]
        if np.ndim(mine) == 0:
            if mine >= 0:
                return self.grid[int(mine), columns]
            return nothing if isinstance(columns, int) else np.full(columns.stop - columns.start, nothing)
        # a row that it lacks takes any, and is overwritten
        found = self.grid[np.maximum(mine, 0), columns]
        found[mine < 0] = nothing
        return found


class JoinedGrid:
    """Grids ``(contracts, snapshots)`` behind one another, read as one with ``grid[rows, columns]``: rows a number,
    a slice or an array, columns a number or a slice without a step."""

    def __init__(self, parts: Sequence[_Part], shape: tuple[int, int], nothing: int, dtype: Any) -> None:
        self._parts = parts
        self._nothing = nothing
        self.shape = shape
        self.dtype = dtype

    def __getitem__(self, where: tuple[Any, Any]) -> Any:
        rows, columns = where
        if not isinstance(columns, slice):
            at = int(columns) if columns >= 0 else self.shape[1] + int(columns)
            if not 0 <= at < self.shape[1]:
                raise IndexError(f"column {columns} of {self.shape[1]}")
            for part in self._parts:
                if part.start <= at < part.end:
                    return part.take(rows, at - part.start, self._nothing)
            empty = np.full(self.shape[0], self._nothing, self.dtype)[rows]
            return empty
        begin, end, step = columns.indices(self.shape[1])
        if step != 1:
            raise IndexError("columns are read one by one")
        end = max(begin, end)
        for part in self._parts:
            if part.start <= begin and end <= part.end:
                return part.take(rows, slice(begin - part.start, end - part.start), self._nothing)
        count = np.empty(self.shape[0], np.bool_)[rows]
        out = np.full((*np.shape(count), end - begin), self._nothing, self.dtype)
        for part in self._parts:
            low, high = max(begin, part.start), min(end, part.end)
            if low < high:
                out[..., low - begin : high - begin] = part.take(
                    rows, slice(low - part.start, high - part.start), self._nothing
                )
        return out


def continued(past: Timeline, recent: Timeline) -> Timeline:
    """``recent`` as the sessions after ``past``, of the same underlying and with the terms and calendar of ``recent``.
    What was computed of single snapshots is shared with ``past``. Raises ``ValueError`` where they overlap."""
    if recent.dates[0] <= past.dates[-1]:
        raise ValueError(f"{recent.dates[0]} does not come after {past.dates[-1]}")
    offset, sessions = len(past.times), len(past.dates)
    later = {
        date: dataclasses.replace(cube, start=cube.start + offset, first_session=cube.first_session + sessions)
        for date, cube in recent.cubes.items()
    }
    cubes = {
        date: _joined(past.cubes[date], later[date])
        if date in past.cubes and date in later
        else past.cubes.get(date) or later[date]
        for date in sorted({*past.cubes, *later})
    }
    made = Timeline(
        recent.underlying, recent.calendar, (*past.dates, *recent.dates),
        np.concatenate([past.first[:-1], recent.first + offset]), np.concatenate([past.times, recent.times]),
        np.concatenate([past.spot, recent.spot]), np.concatenate([past.settlement, recent.settlement]),
        _daily(past.daily, recent.daily), cubes, f"{past.digest} and {recent.digest}", recent.unfinished,
    )  # fmt: skip
    made.of_snapshots = past.of_snapshots
    return made


def _daily(past: DailyHistory, recent: DailyHistory) -> DailyHistory:
    """Sessions of both; what ``recent`` knows of the time before it is that of ``past``."""
    new = slice(recent.earlier, None)
    return DailyHistory(
        (*past.dates, *recent.dates[new]), np.concatenate([past.close, recent.close[new]]),
        np.concatenate([past.atm_iv, recent.atm_iv[new]]), past.earlier, recent.splits,
        np.concatenate([_ranges(past), _ranges(recent)[:, new]], axis=1),
        np.concatenate([_traded(past), _traded(recent)[:, new]], axis=1),
    )  # fmt: skip


def _ranges(daily: DailyHistory) -> npt.NDArray[np.float64]:
    return np.array([daily.open, daily.high, daily.low])


def _traded(daily: DailyHistory) -> npt.NDArray[np.float64]:
    return np.array([daily.puts_traded, daily.calls_traded])


def _joined(past: ExpirationCube, later: ExpirationCube) -> ExpirationCube:
    """One expiration's quotes, a row a contract that either of them has."""
    strikes = np.union1d(past.strikes, later.strikes)
    shape = (2 * len(strikes), later.end - past.start)
    places = [(cube, cube.start - past.start, _rows(cube, strikes)) for cube in (past, later)]
    grids: dict[str, Any] = {
        name: JoinedGrid(
            [_Part(getattr(cube, name), start, rows) for cube, start, rows in places], shape, nothing,
            getattr(later, name).dtype,
        )
        for name, nothing in NOTHING.items()
    }  # fmt: skip
    forward = np.full(shape[1], np.nan)
    interest = np.zeros((shape[0], later.first_session + later.open_interest.shape[1] - past.first_session), np.int32)
    for cube, start, rows in places:
        forward[start : start + len(cube.forward)] = cube.forward
        session = cube.first_session - past.first_session
        own = cube.open_interest
        if rows is None:
            interest[:, session : session + own.shape[1]] = own
        else:
            interest[rows >= 0, session : session + own.shape[1]] = own[rows[rows >= 0]]
    return ExpirationCube(
        past.expiration, later.settlement_at, past.start, strikes, forward=forward, open_interest=interest,
        first_session=past.first_session, **grids,
    )  # fmt: skip


def _rows(cube: ExpirationCube, strikes: npt.NDArray[np.float64]) -> npt.NDArray[np.int64] | None:
    if len(cube.strikes) == len(strikes):
        return None
    at = np.full(len(strikes), -1, np.int64)
    at[np.searchsorted(strikes, cube.strikes)] = np.arange(len(cube.strikes))
    return np.concatenate([at, np.where(at >= 0, at + len(cube.strikes), -1)])

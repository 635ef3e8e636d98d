"""Measures: numbers declared once, by what they speak of, and asked for over any stretch of snapshots.

What a measure of a market gives at a snapshot never depends on what was recorded later, and is the same whether it is
asked for an instant, a block or a whole history (semantics rules 2 and 21). NaN is unvalued; ``None`` for a whole
stretch is absent: what it speaks of does not exist.
"""

from __future__ import annotations

import dataclasses
import datetime as dt
import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.market.daily import DailyHistory
from strell_core.market.market import Market, Observation
from strell_core.market.timeline import Timeline
from strell_core.market.view import ChainView
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Account, Frame, PickedLeg, PositionLeg, Stretch, Structure
from strell_core.measures.registry import Registry, load_folder

Series = npt.NDArray[np.float64]
Params = Mapping[str, Any]
UNDERLYING = "underlying"
"""The parameter that names another underlying of the strategy; every measure of a market has it."""


@njit(cache=True, nogil=True, error_model="numpy")
def to_places(value: float, places: int) -> float:
    """Rounded to decimal places, as numpy rounds."""
    factor = 10.0**places
    return np.rint(value * factor) / factor


@njit(cache=True, nogil=True, error_model="numpy")
def _rounded(values: Series, grid: float) -> Series:
    for i in range(len(values)):
        found = to_places(np.rint(values[i] / grid) * grid, 10)
        values[i] = found if np.isfinite(found) else np.nan
    return values


@dataclass(frozen=True)
class Measure:
    """A number. Its declaration's ``scope`` says what it speaks of."""

    declaration: Declaration

    def clock(self, params: Params) -> str:
        """When it takes a new value: ``session`` (from completed sessions), ``day`` (known when a session begins),
        ``snapshot``, ``constant``."""
        return self.declaration.clock

    def over(self, frame: Frame, params: Params) -> Series | None:
        """Values ``(n,)`` at the frame's snapshots; ``None``: absent."""
        raise NotImplementedError

    def by_session(self, market: Market, symbol: str, params: Params, units_of: dt.date | None = None) -> Series:
        """Of a market: its value as it stood when each session of an underlying was over, ``(sessions,)``; ``units_of``:
        see :class:`Frame`."""
        raise NotImplementedError

    def in_points(self, params: Params) -> bool:
        """Whether it is told in points of an underlying, of which a split makes others."""
        return "points" in (self.declaration.unit, params.get("unit"))

    def on_grid(self, values: Series) -> Series:
        """Rounded to the declared grid, so that a value does not depend on how much was computed with it."""
        grid = self.declaration.grid
        if not grid:
            return values
        # a copy is of one kind to what is compiled, whatever it is of
        rounded: Series = _rounded(np.array(values, np.float64), float(grid))
        return rounded

    def on_grid_exactly(self, values: Series) -> Series:
        """The same to the last bit of a number's nearest decimal: for what is looked up once and told in reasons."""
        grid = self.declaration.grid
        if not grid:
            return np.array(values, np.float64)
        return np.array(
            [round(round(value / grid) * grid, 10) if math.isfinite(value) else math.nan for value in values.tolist()],
            np.float64,
        )


OF = Param(UNDERLYING, UNDERLYING, "Underlying", None, optional=True)


class OfAnUnderlying(Measure):
    """A measure that any underlying of a strategy has: which one is a parameter of its own."""

    def over(self, frame: Frame, params: Params) -> Series:
        values = self.raw(frame, params)
        if frame.units_of is None or not self.in_points(params):
            return values
        clock = frame.market.on_clock(params.get(UNDERLYING) or frame.symbol)
        return values * (clock.units[clock.session_of[frame.begin : frame.end]] / clock.units_on(frame.units_of))

    def raw(self, frame: Frame, params: Params) -> Series:
        """Values ``(n,)`` at the frame's snapshots, each in the units of its own day."""
        raise NotImplementedError

    def by_session(self, market: Market, symbol: str, params: Params, units_of: dt.date | None = None) -> Series:
        timeline = market.timeline(params.get(UNDERLYING) or symbol)
        values = self.raw_by_session(timeline, params)
        if units_of is not None and self.in_points(params):
            values = values * self.units_by_session(timeline, params) / timeline.units_on(units_of)
        return by_dates(values, timeline, market.timeline(symbol))

    def raw_by_session(self, timeline: Timeline, params: Params) -> Series:
        """Its value as it stood when each session was over, ``(sessions,)``."""
        raise NotImplementedError

    def units_by_session(self, timeline: Timeline, params: Params) -> Series:
        """In whose units each of these is told."""
        return timeline.units

    def __post_init__(self) -> None:
        declaration = self.declaration
        if all(param.name != UNDERLYING for param in declaration.params):
            object.__setattr__(self, "declaration", dataclasses.replace(declaration, params=(*declaration.params, OF)))


@dataclass(frozen=True)
class MarketMeasure(OfAnUnderlying):
    """A number of a market.

    ``session``: ``series(daily history, params)`` gives one value a completed session as of its close, known from
    the next session on. ``snapshot``: ``series(timeline, params)`` gives one value a snapshot, known at it. ``day``:
    ``series(timeline, params)`` gives one value a session, known when it begins. A series is anchored at the first of
    its clock: a longer history never changes an earlier value.
    """

    series: Callable[[Any, Params], Series]

    def value(self, history: DailyHistory, params: Params) -> float | None:
        """Of a session's clock: the last value of ``history`` on the declared grid; ``None``: unvalued."""
        if len(history.dates) == 0:
            return None
        found = float(self.on_grid_exactly(self.series(history, params)[-1:])[0])
        return None if math.isnan(found) else found

    def known(self, timeline: Timeline, params: Params) -> Series:
        """One value on its clock: a session's as known when it begins (one more than there are sessions, those of
        ``session``), or a snapshot's. Computed once a timeline and parameters."""
        key = key_of(self, params)
        known: Series | None = timeline.computed.get(key)
        if known is None:
            known = (
                self._by_session(timeline, params)
                if self.clock(params) == "session"
                else self.on_grid_exactly(np.asarray(self.series(timeline, params), np.float64))
            )
            known.setflags(write=False)
            timeline.computed[key] = known
        return known

    def _by_session(self, timeline: Timeline, params: Params) -> Series:
        """Between two splits closes have the same units, so one series serves all sessions there."""
        daily, count = timeline.daily, len(timeline.dates)
        out = np.full(count + 1, np.nan)
        begin = 0
        for until in daily.unit_ends(count):
            history = daily.before(until)
            values = (
                self.on_grid_exactly(np.array(self.series(history, params), np.float64)) if len(history.dates) else None
            )
            for session in range(begin, until + 1):
                known = daily.earlier + session
                if known and values is not None:
                    out[session] = values[known - 1]
            begin = until + 1
        return out

    def raw(self, frame: Frame, params: Params) -> Series:
        symbol = params.get(UNDERLYING) or frame.symbol
        market, clock = frame.market, self.clock(params)
        timeline = market.timeline(symbol)
        values = self.known(timeline, params)
        if timeline is market.main:
            here = slice(frame.begin, frame.end)
            return values[here] if clock == "snapshot" else values[timeline.session_of[here]]
        if clock == "session":
            return values[market.completed(frame.begin, frame.end, symbol)]
        places = market.places(frame.begin, frame.end, symbol)
        at = np.maximum(places, 0)
        return np.where(places >= 0, values[at if clock == "snapshot" else timeline.session_of[at]], np.nan)

    def raw_by_session(self, timeline: Timeline, params: Params) -> Series:
        values = self.known(timeline, params)
        if self.clock(params) == "session":
            return values[1:]
        return values[timeline.first[1:] - 1] if self.clock(params) == "snapshot" else values

    def units_by_session(self, timeline: Timeline, params: Params) -> Series:
        # what is known of a completed session from the next one on is told in the units of that
        units = timeline.units
        return np.append(units[1:], units[-1:]) if self.clock(params) == "session" else units

    def at(self, observation: Observation, params: Params, symbol: str = "") -> float | None:
        """The value known at an instant; ``None``: unvalued, or the underlying is not observed then."""
        index = observation.index
        found = float(self.over(Frame(observation.market, index, index + 1, symbol), params)[0])
        return None if math.isnan(found) else found


@dataclass(frozen=True)
class ChainMeasure(OfAnUnderlying):
    """A number of the whole chain: ``value(view, params)`` at an instant, NaN unvalued. Looked up once a snapshot."""

    value: Callable[[ChainView, Params], float]

    def _at(self, timeline: Timeline, index: int, params: Params) -> float:
        known: dict[int, float] = timeline.of_snapshots.setdefault(key_of(self, params), {})
        if index not in known:
            known[index] = float(
                self.on_grid_exactly(np.array([self.value(timeline.view(index), params)], np.float64))[0]
            )
        return known[index]

    def raw(self, frame: Frame, params: Params) -> Series:
        symbol = params.get(UNDERLYING) or frame.symbol
        timeline = frame.market.timeline(symbol)
        places = frame.market.places(frame.begin, frame.end, symbol)
        return np.array([self._at(timeline, place, params) if place >= 0 else np.nan for place in places.tolist()])

    def raw_by_session(self, timeline: Timeline, params: Params) -> Series:
        return np.array([self._at(timeline, int(last) - 1, params) for last in timeline.first[1:]])


@dataclass(frozen=True)
class PositionMeasure(Measure):
    """A number of a position: ``series(stretch, params)``, ``(n,)``."""

    series: Callable[[Stretch, Params], Series]

    def over(self, frame: Frame, params: Params) -> Series | None:
        return None if frame.position is None else self.on_grid(self.series(frame.position, params))


@dataclass(frozen=True)
class Legs:
    """A leg over a frame's snapshots, picked or held: contract, signed contracts, bid and ask in parts ``(n,)``."""

    frame: Frame
    leg: PickedLeg | PositionLeg
    bid: npt.NDArray[np.int64]
    ask: npt.NDArray[np.int64]
    valid: npt.NDArray[np.bool_]

    @property
    def held(self) -> PositionLeg | None:
        return self.leg if isinstance(self.leg, PositionLeg) else None


@dataclass(frozen=True)
class LegMeasure(Measure):
    """A number of one leg, picked or held: ``series(leg, params)``, ``(n,)``; ``None``: absent (a price at entry of a
    leg that was not dealt yet)."""

    series: Callable[[Legs, Params], Series | None]

    def over(self, frame: Frame, params: Params) -> Series | None:
        found = leg_of(frame, str(params["leg"]))
        made = None if found is None else self.series(found, params)
        return None if made is None else self.on_grid(made)


@dataclass(frozen=True)
class StructureMeasure(Measure):
    """A number of legs picked together: ``value(structure, params)``, NaN unvalued."""

    value: Callable[[Structure, Params], float]

    def over(self, frame: Frame, params: Params) -> Series | None:
        if frame.structure is None:
            return None
        return self.on_grid(np.array([self.value(frame.structure, params)], np.float64))


@dataclass(frozen=True)
class AccountMeasure(Measure):
    """A number of the account that is traded in: ``value(account, params)``, NaN unvalued, ``None`` absent."""

    value: Callable[[Account, Params], float | None]

    def over(self, frame: Frame, params: Params) -> Series | None:
        if frame.account is None:
            return None
        found = self.value(frame.account, params)
        return None if found is None else self.on_grid(np.full(frame.end - frame.begin, found, np.float64))


def leg_of(frame: Frame, leg_id: str) -> Legs | None:
    """A leg of what is picked or held; ``None``: it is not there."""
    if frame.position is not None:
        held = frame.position.leg(leg_id)
        return None if held is None else Legs(frame, held, held.bid, held.ask, held.valid)
    if frame.structure is None:
        return None
    picked = next((leg for leg in frame.structure.legs if leg.leg_id == leg_id), None)
    if picked is None:
        return None
    timeline = frame.timeline
    bid, ask = timeline.quotes(picked.contract, frame.structure.view.index, frame.structure.view.index + 1)
    return Legs(frame, picked, bid, ask, (bid >= 0) & (ask > 0) & (bid <= ask))


def by_dates(values: Series, of: Timeline, wanted: Timeline) -> Series:
    """One value a session of an underlying, at the sessions of another; NaN on a day that it has none."""
    if of is wanted:
        return values
    by_date = dict(zip(of.dates, values.tolist(), strict=True))
    return np.array([by_date.get(date, math.nan) for date in wanted.dates])


def key_of(measure: Measure, params: Params) -> tuple[Any, ...]:
    """By which what a measure computed on a timeline is kept; which underlying it is of is the timeline's."""
    return (
        measure.declaration.id,
        tuple(sorted((name, repr(value)) for name, value in params.items() if name != UNDERLYING)),
    )


measures: Registry[Measure] = Registry()


def load() -> Registry[Measure]:
    """All measures, their files imported."""
    from strell_core.measures import account, chain, combined, daily, day, leg, position, snapshot, structure, values

    assert values
    for folder in (daily, snapshot, day, chain, account, structure, leg, position, combined):
        load_folder(folder)
    return measures

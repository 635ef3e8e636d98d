"""A timeline as flat arrays for compiled loops: a row an expiration, and the quotes of all of them behind one another."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
import numpy.typing as npt

from strell_core.market.instruments import STRIKE_SCALE
from strell_core.market.prices import PARTS, cent_of_part

if TYPE_CHECKING:
    from strell_core.market.timeline import Timeline

Ints = npt.NDArray[np.int64]
NONE = -1
"""A place or a value that is not there."""

EXPIRATION = np.dtype([
    ("day", "i8"), ("settlement_at", "i8"), ("settles_from", "i8"), ("official", "i8"), ("start", "i8"), ("end", "i8"),
    ("strikes", "i8"), ("strike", "i8"), ("cell", "i8"),
])  # fmt: skip
"""An expiration: its date as an ordinal, when it settles, the first snapshot from then on and the settlement value of its day in 0.01
points (``NONE``: not recorded); its snapshots ``[start, end)``; how many strikes it has and where they begin, and where its quotes
do: ``(2 × strikes, end − start)``, calls before puts."""


@dataclass(frozen=True)
class Flat:
    """Quotes of all expirations as they lie behind one another, and where each one's begin."""

    bid: npt.NDArray[np.int32]
    ask: npt.NDArray[np.int32]
    delta: npt.NDArray[np.int16]
    cells: Mapping[dt.date, int]


SESSION = np.dtype([("first", "i8"), ("multiplier", "i8")])
"""Of a session its first snapshot, and the multiplier of a trade opened in it. One more begins where all end."""
UNITS = np.dtype([
    ("days_from", "i8"), ("quantum", "f8"), ("cents", "i8"), ("of", "i8"), ("parts", "i8"), ("in_thousandths", "i8"),
])  # fmt: skip
"""The day at which ``on_or_before`` begins; the quantum in points; ``cents``, divided by ``of``, that a part of a contract is worth with a
multiplier of 1; ``parts``, divided by ``in_thousandths``, that a thousandth of a point is."""


class Tape(NamedTuple):
    """What compiled loops read of a timeline. Nothing of it is written to."""

    expirations: npt.NDArray[Any]
    """Nearest first, as :data:`EXPIRATION`."""
    bid: npt.NDArray[np.int32]
    ask: npt.NDArray[np.int32]
    delta: npt.NDArray[np.int16]
    strikes: Ints
    """Thousandths of a point."""
    spot: npt.NDArray[np.int32]
    ordinal: npt.NDArray[np.int32]
    session_of: npt.NDArray[np.int32]
    last_of_several: npt.NDArray[np.bool_]
    sessions: npt.NDArray[Any]
    """As :data:`SESSION`."""
    on_or_before: Ints
    """By day the ordinal of the calendar's last session until then; ``NONE`` before its first."""
    units: npt.NDArray[Any]
    """One row, as :data:`UNITS`."""


LONGEST = 100
"""Days before the first session that rules may count back to from an expiration."""


def tape_of(timeline: Timeline) -> Tape | None:
    """A timeline as flat arrays; ``None`` where its quotes do not lie behind one another."""
    flat = timeline.flat
    if flat is None:
        return None
    rows = np.zeros(len(timeline.cubes), EXPIRATION)
    strikes: list[Ints] = []
    for row, date in zip(rows, sorted(timeline.cubes), strict=True):
        cube = timeline.cubes[date]
        official = timeline.official(date)
        row["day"], row["settlement_at"] = date.toordinal(), cube.settlement_at
        row["settles_from"] = np.searchsorted(timeline.times, cube.settlement_at)
        row["official"] = NONE if official is None else official
        row["start"], row["end"], row["cell"] = cube.start, cube.end, flat.cells[date]
        row["strikes"], row["strike"] = len(cube.strikes), sum(len(one) for one in strikes)
        strikes.append(np.rint(cube.strikes * STRIKE_SCALE).astype(np.int64))
    last = max((*timeline.cubes, timeline.dates[-1]))
    days = np.arange(timeline.dates[0].toordinal() - LONGEST, last.toordinal() + 1)
    sessions = np.array([NONE, *(date.toordinal() for date in timeline.calendar.dates)], np.int64)
    several = np.zeros(len(timeline.dates) + 1, SESSION)
    several["first"] = timeline.first
    several["multiplier"][:-1] = [timeline.multiplier(date) for date in timeline.dates]
    quantum = timeline.underlying.quantum
    worth, part = cent_of_part(quantum, 1), Fraction(PARTS, STRIKE_SCALE) / Fraction(quantum)
    units = (days[0], float(quantum), worth.numerator, worth.denominator, part.numerator, part.denominator)
    return Tape(*map(_kept, (
        rows, flat.bid, flat.ask, flat.delta, np.concatenate([*strikes, np.empty(0, np.int64)]), timeline.spot, timeline.ordinal,
        timeline.session_of, timeline.last_of_several, several,
        sessions[np.searchsorted(sessions[1:], days, side="right")], np.array([units], UNITS),
    )))  # fmt: skip


def _nothing(dtype: Any) -> npt.NDArray[Any]:
    return _kept(np.zeros(0, dtype))


def _kept(array: npt.NDArray[Any]) -> npt.NDArray[Any]:
    """An array that is not written to: of one type for compiled code, wherever it comes from."""
    view = np.ascontiguousarray(array).view()
    view.setflags(write=False)
    return view


NO_TAPE = Tape(*map(_nothing, (
    EXPIRATION, np.int32, np.int32, np.int16, np.int64, np.int32, np.int32, np.int32, np.bool_, SESSION, np.int64, UNITS,
)))  # fmt: skip
"""Where there is none, for loops that then ask nothing of it."""

"""What is known of variants' decisions and trades, in arrays: what :mod:`strell_core.engine.walk` goes by.

Decisions, openings and ends are rows; numbers of no fixed count (amounts, values at the ends of sessions) stand behind each
other in one array of floats, and a row says where. Places below 0 are none, or not known yet.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

Rows = npt.NDArray[Any]
NONE = -1
STAYS = 2**62
"""The moment of what does not end."""

LOOK = np.dtype([
    ("index", "i8"), ("session", "i8"), ("entry", "i4"), ("own", "i4"), ("last", "?"),
])  # fmt: skip
"""A look of one of a plan's entries: its snapshot and session, the place of its entry and its own among that entry's looks,
and whether the snapshot is the last of several of its session."""
DECISION = np.dtype([("asked", "i4", 4), ("picked", "i4"), ("next", "i4")])
"""What an entry decides at a look: the counts on which that rests (:data:`COUNTS`; ``NONE``: not on this one), what it would
deal in, and the next decision known of the look."""
OPENING = np.dtype([
    ("filled", "?"), ("moment", "i8"), ("decided", "i8"), ("index", "i8"), ("cents", "i8"),
    ("amounts", "i8"), ("moves", "i4"), ("ends", "i4"), ("first_session", "i8"), ("unwatched", "i8"), ("closes", "i8"),
    ("legs", "i4"), ("values", "i8"), ("looks", "i4"), ("from_look", "i8"), ("to_look", "i8"), ("funds", "i8"),
    ("waits_at", "i8"), ("waits_for", "f8"),
])  # fmt: skip
"""What came of an order to open, see :class:`strell_core.engine.lives.Opening`. ``amounts``: place of the ``moves`` amounts that
it was booked with; ``ends``: its first end; ``values``: place of what each of its ``legs``, then all together, are worth and
what capital they need at its ``closes``; ``funds``: place of worth and capital, in pairs, at the looks
``[from_look, to_look)`` of the plan with the ``looks``; ``waits_for``: capital of the order while it is at work, at
snapshot ``waits_at``."""
END = np.dtype([
    ("left", "i8"), ("urgent", "?"), ("next", "i4"), ("ends", "?"), ("index", "i8"), ("moment", "i8"), ("settles", "?"),
    ("held", "i8"), ("watched", "i8"), ("cents", "i8"), ("amounts", "i8"), ("moves", "i4"),
])  # fmt: skip
"""How a trade ends that is ``left`` at a snapshot, see :class:`strell_core.engine.lives.End`; the next end known of it."""
COUNTS = ("open_trades", "of_entry", "entered_today", "all_entered_today")
"""What of an account is counted, as :class:`strell_core.measures.frames.Account` has it."""


class Grown:
    """An array that grows along its first axis; of ``rows`` the first ``count`` are used."""

    def __init__(self, dtype: Any) -> None:
        self.rows: Rows = np.zeros(256, dtype)
        self.count = 0

    def add(self, value: Any) -> int:
        """The place of a further row."""
        self._make_room(1)
        self.rows[self.count] = value
        self.count += 1
        return self.count - 1

    def extend(self, values: npt.ArrayLike) -> int:
        """The place of the first of further rows."""
        found = np.ravel(values)
        self._make_room(len(found))
        self.rows[self.count : self.count + len(found)] = found
        self.count += len(found)
        return self.count - len(found)

    def _make_room(self, more: int) -> None:
        if self.count + more > len(self.rows):
            rows = np.zeros(max(2 * len(self.rows), self.count + more), self.rows.dtype)
            rows[: self.count] = self.rows[: self.count]
            self.rows = rows


class Table:
    """Whole numbers by the place of a key and a row; ``NONE`` where none was put. Grows along both."""

    def __init__(self, dtype: Any) -> None:
        self.cells: Rows = np.full((4, 256), NONE, dtype)
        self._places: dict[Any, int] = {}

    def place(self, key: Any) -> int:
        """Where a key stands."""
        found = self._places.setdefault(key, len(self._places))
        self._make_room(found, 0)
        return found

    @property
    def keys(self) -> Sequence[Any]:
        """In the order of their places."""
        return list(self._places)

    def put(self, place: int, row: int, value: int) -> None:
        self._make_room(place, row)
        self.cells[place, row] = value

    def make_room(self, rows: int) -> None:
        """Room for so many rows."""
        self._make_room(0, rows - 1)

    def _make_room(self, place: int, row: int) -> None:
        places, rows = self.cells.shape
        if place >= places or row >= rows:
            cells = np.full((_doubled(places, place), _doubled(rows, row)), NONE, self.cells.dtype)
            cells[:places, :rows] = self.cells
            self.cells = cells


def _doubled(size: int, place: int) -> int:
    while place >= size:
        size *= 2
    return size


class Known:
    """All that variants of one market's rules have brought to light."""

    def __init__(self) -> None:
        self.decisions = Grown(DECISION)
        self.needed = Grown(np.float64)
        """Capital of what would be dealt in, money."""
        self.openings, self.ends = Grown(OPENING), Grown(END)
        self.floats = Grown(np.float64)
        self.opening_of = Table(np.int32)
        """By what a fill has to bring at least, and by what would be dealt in, the opening."""
        self.firsts = Table(np.int64)
        """By exit and opening, the first snapshot at which it is true."""

    @property
    def megabytes(self) -> float:
        held = (self.decisions, self.needed, self.openings, self.ends, self.floats)
        tables = (self.opening_of.cells.nbytes, self.firsts.cells.nbytes)
        return (sum(item.rows.nbytes for item in held) + sum(tables)) / 2**20

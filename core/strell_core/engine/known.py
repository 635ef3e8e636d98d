"""What is known of variants' decisions and trades, in arrays: what :mod:`strell_core.engine.walk` goes by, and adds to.

Picks, decisions, openings and ends are rows; numbers of no fixed count (amounts, values at the ends of sessions) stand behind
each other in one array of floats, and a row says where. Places below 0 are none, or not known yet.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, cast

import numpy as np
import numpy.typing as npt

from strell_core.market.tape import NONE

Rows = npt.NDArray[Any]
Row = Any
"""One of them."""
Ints = npt.NDArray[np.int64]
as_int: Callable[[Any], int] = cast(Any, np.int64)
"""A number as compiled loops count."""
UNKNOWN = -2
"""What is not known yet of a look, where none is known."""
DONE, DECIDE, OPEN, FIRSTS, ENDED, FUNDS, WAITS, LOOKED, ADJUSTED, ROOM = range(10)
"""Why a walk stops: at its end; or for what an entry decides, what comes of its order, when its exits are true, how its trade
ends, what a trade and what an order at work are worth and need, what is known by look, what adjustments make of a trade, and for
want of room."""
NOTHING = -2
"""What adjustments make of a trade of which they make nothing."""
STAYS = 2**62
"""The moment of what does not end."""
MOST_LEGS = 8
"""Legs that compiled loops deal in."""
AHEAD = 256
"""Looks ahead for which it is worked out at once what a trade is worth."""

LOOK = np.dtype([
    ("index", "i8"), ("session", "i8"), ("entry", "i4"), ("own", "i4"), ("last", "?"),
])  # fmt: skip
"""A look of one of a plan's entries: its snapshot and session, the place of its entry and its own among that entry's looks,
and whether the snapshot is the last of several of its session."""
DECISION = np.dtype([("asked", "i4", 4), ("picked", "i4"), ("next", "i4")])
"""What an entry decides at a look: the counts on which that rests (:data:`COUNTS`; ``NONE``: not on this one), what it would
deal in, and the next decision known of the look."""
PICK = np.dtype([
    ("index", "i8"), ("lots", "i8"), ("terms", "i4"), ("next", "i4"), ("legs", "i4"), ("expiration", "i4", MOST_LEGS),
    ("row", "i4", MOST_LEGS), ("contracts", "i8", MOST_LEGS), ("needed", "f8"),
])  # fmt: skip
"""What an entry would deal in at a snapshot: lots, the terms of its orders, and of each of its ``legs`` the expiration's place, its row
among that one's contracts, and contracts of all lots; the capital that takes, money. ``next``: the next known of the snapshot. Without
``legs`` compiled loops know nothing of it."""
TERMS = np.dtype([
    ("share", "i8"), ("doubt", "i8"), ("waits", "?"), ("a_contract", "i8"), ("an_order", "i8"), ("of", "i8"),
])  # fmt: skip
"""How orders are dealt and marks doubted: the share of the way from mid to the other side, from which width on a mark is doubtful,
whether a session's last is; commission of a contract and of an order, each divided by ``of`` cents."""
EXIT = np.dtype([("kind", "i8"), ("a", "i8"), ("b", "i8")])
"""An exit as :mod:`strell_core.strategy.compiled` has it; ``NONE``: only the engine's own room tells when it is true. A time of day
is its place among those that are known."""
OPENING = np.dtype([
    ("picked", "i4"), ("least", "i4"), ("filled", "?"), ("moment", "i8"), ("decided", "i8"), ("index", "i8"), ("cents", "i8"),
    ("amounts", "i8"), ("moves", "i4"), ("ends", "i4"), ("first_session", "i8"), ("unwatched", "i8"), ("closes", "i8"),
    ("legs", "i4"), ("values", "i8"), ("looks", "i4"), ("from_look", "i8"), ("to_look", "i8"), ("funds", "i8"),
    ("waits_at", "i8"), ("waits_for", "f8"), ("before", "i4"), ("root", "i4"), ("total", "i8"),
    ("worths", "i4"), ("premium", "i8"), ("base", "i8"), ("best", "i8"),
])  # fmt: skip
"""What came of an order to open what was ``picked``, see :class:`strell_core.engine.lives.Opening`. ``least``: place of what a fill had
to bring; ``amounts``: place of the ``moves`` amounts that
it was booked with; ``ends``: its first end; ``values``: place of what each of its ``legs``, then all together, are worth and
what capital they need at its ``closes``; ``funds``: place of worth and capital, in pairs, at the looks
``[from_look, to_look)`` of the plan with the ``looks``; ``waits_for``: capital of the order while it is at work, at
snapshot ``waits_at``. Every stage of a life that adjustments bring about has a row of its own, with what it holds as ``picked``: ``before`` is the stage
before, ``root`` the first, ``total`` the cents that all of them have moved, and ``worths`` the first of its worths that is known. In parts times
contracts: its ``premium``, what quotes do not change of its P/L (``base``), and the ``best`` so far."""
ASK = np.dtype([("at", "i8"), ("needed", "f8"), ("next", "i4")])
"""What adjustments ask of the account in a stage: the snapshot, the capital that its trade needs then, money; the next."""
WORTH = np.dtype([("at", "i8"), ("worth", "f8"), ("needed", "f8"), ("next", "i4")])
"""What a stage is worth and needs at a snapshot, money; the next that is known of it."""
END = np.dtype([
    ("left", "i8"), ("urgent", "?"), ("adjusts", "?"), ("next", "i4"), ("ends", "?"), ("index", "i8"), ("moment", "i8"), ("settles", "?"),
    ("held", "i8"), ("watched", "i8"), ("cents", "i8"), ("amounts", "i8"), ("moves", "i4"),
])  # fmt: skip
"""How a trade ends that is ``left`` at a snapshot, see :class:`strell_core.engine.lives.End`, whether because an adjustment could
not be made (``adjusts``); the next end known of it."""
COUNTS = ("open_trades", "of_entry", "entered_today", "all_entered_today")
"""What of an account is counted, as :class:`strell_core.measures.frames.Account` has it."""


class Grown:
    """An array that grows along its first axis; of ``rows`` the first ``count`` are used."""

    def __init__(self, dtype: Any, used: Ints | None = None) -> None:
        """``used``: one number, in which it is told how many rows are, for loops that add some."""
        self.rows: Rows = np.zeros(256, dtype)
        self._used = np.zeros(1, np.int64) if used is None else used

    @property
    def count(self) -> int:
        return int(self._used[0])

    def add(self, value: Any) -> int:
        """The place of a further row."""
        place = self.count
        self.make_room(1)
        self.rows[place] = value
        self._used[0] = place + 1
        return place

    def extend(self, values: npt.ArrayLike) -> int:
        """The place of the first of further rows."""
        found, place = np.ravel(values), self.count
        self.make_room(len(found))
        self.rows[place : place + len(found)] = found
        self._used[0] = place + len(found)
        return place

    def make_room(self, more: int) -> None:
        """Room for so many more."""
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


PICKS, DECISIONS, OPENINGS, ENDS, FLOATS = range(5)
"""Places of how many rows are used."""


class Known:
    """All that variants of one market's rules have brought to light."""

    def __init__(self, snapshots: int = 0) -> None:
        """``snapshots``: how many the market has."""
        self.used = np.zeros(5, np.int64)
        self.picks, self.decisions = self._grown(PICK, PICKS), self._grown(DECISION, DECISIONS)
        self.openings, self.ends = self._grown(OPENING, OPENINGS), self._grown(END, ENDS)
        self.floats = self._grown(np.float64, FLOATS)
        self.picks_at = np.full(snapshots, NONE, np.int32)
        """By snapshot, its first pick."""
        self.terms, self.exits = Grown(TERMS), Grown(EXIT)
        self.by_look = Grown(np.int32)
        """Of looks behind one another, what is known of them: truths, places of expirations, ``UNKNOWN``."""
        self.reached: Rows = np.zeros((1, snapshots), np.bool_)
        """By time of day, whether it is reached at each snapshot."""
        self.opening_of = Table(np.int32)
        """By what a fill has to bring at least, and by what would be dealt in, the opening."""
        self.firsts = Table(np.int64)
        """By exit and opening, the first snapshot at which it is true; by adjustments, at which they close it."""
        self.stages = Table(np.int32)
        """By adjustments and opening, what they make of it; ``NOTHING``."""
        self.asks, self.worths, self.asked_of = Grown(ASK), Grown(WORTH), Table(np.int32)
        """What they ask of the account, and by adjustments and opening the first of it."""

    def _grown(self, dtype: Any, place: int) -> Grown:
        return Grown(dtype, self.used[place : place + 1])

    def make_room(self, floats: int) -> None:
        """Room for whatever becomes known next, ``floats`` numbers with it."""
        for grown in (self.picks, self.decisions, self.openings, self.ends):
            grown.make_room(1)
        self.floats.make_room(floats)
        self.opening_of.make_room(self.picks.count + 1)
        self.firsts.make_room(self.openings.count + 1)

    @property
    def megabytes(self) -> float:
        held = (self.picks, self.decisions, self.openings, self.ends, self.floats)
        tables = (self.opening_of.cells.nbytes, self.firsts.cells.nbytes, self.stages.cells.nbytes)
        return (sum(item.rows.nbytes for item in held) + sum(tables)) / 2**20

"""Whether an account had what adjustments asked of it, compiled: equity and needed capital as
:func:`strell_core.engine.capital.funds` adds them up, at every snapshot at which one was decided."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.engine.capital import CENT
from strell_core.engine.known import STAYS, Rows, as_int
from strell_core.engine.walk import before
from strell_core.market.tape import NONE

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
COVERED, REFUSED, UNKNOWN = range(3)
"""What is found: it had it all; it had not, or an order to open was at work, of which is not told here; or for want of what a stage is
worth and needs at a snapshot."""


@njit(cache=True, nogil=True, error_model="numpy")
def covered(
    lived: Ints, adjusts: Ints, opened: Ints, start: int, looks_are: int, looks: Ints, openings: Rows, ends: Rows, floats: Floats,
    asked_of: npt.NDArray[np.int32], asks: Rows, worths: Rows,
) -> tuple[int, int, int]:  # fmt: skip
    """Of trades ``(n, 3)``, last stage, end and entry, and orders to open ``(m,)``: what is found, and of which stage at which
    snapshot. ``adjusts``: by entry, the place of its adjustments; ``looks``: snapshots; ``start``: cents at first."""
    n = len(lived)
    order, roots = np.empty(n, np.int64), np.empty(n, np.int64)
    for place in range(n):
        roots[place] = openings[lived[place, 0]].root
        at = place
        while at > 0 and before(openings[roots[place]], openings[roots[order[at - 1]]]):
            order[at] = order[at - 1]
            at -= 1
        order[at] = place
    for place in range(n):
        own, until = adjusts[lived[place, 2]], ends[lived[place, 1]].left
        stage = lived[place, 0] if own != NONE else as_int(NONE)
        while stage != NONE:
            ask = as_int(asked_of[own, stage]) if stage < asked_of.shape[1] else as_int(NONE)
            while ask != NONE:
                if asks[ask].at < until:
                    found = _covers(
                        asks[ask].at, asks[ask].needed, stage, order, lived, roots, opened, start, looks_are, looks, openings,
                        ends, floats, worths,
                    )  # fmt: skip
                    if found[0] != COVERED:
                        return found
                ask = as_int(asks[ask].next)
            stage, until = as_int(openings[stage].before), as_int(STAYS)
    return COVERED, NONE, NONE


@njit(cache=True, nogil=True, error_model="numpy")
def _covers(
    at: int, needs: float, asking: int, order: Ints, lived: Ints, roots: Ints, opened: Ints, start: int, looks_are: int, looks: Ints,
    openings: Rows, ends: Rows, floats: Floats, worths: Rows,
) -> tuple[int, int, int]:  # fmt: skip
    """One of them, of the stage that is ``asking``."""
    now = 2 * at
    for place in range(len(opened)):
        if openings[opened[place]].decided < at and openings[opened[place]].moment > now:
            return REFUSED, NONE, NONE
    cents = as_int(start)
    for place in range(len(order)):
        end = ends[lived[order[place], 1]]
        if end.moment <= now:
            cents += openings[lived[order[place], 0]].total + end.cents
        elif openings[roots[order[place]]].moment <= now:
            cents += openings[_then(openings, lived[order[place], 0], now)].total
    equity, needed = cents / 100, 0.0
    for place in range(len(order)):
        if ends[lived[order[place], 1]].moment > now and openings[roots[order[place]]].moment <= now:
            stage = _then(openings, lived[order[place], 0], now)
            known, worth, takes = _worth(stage, at, looks_are, looks, openings, floats, worths)
            if not known:
                return UNKNOWN, stage, at
            equity += worth
            needed += takes
    known, worth, freed = _worth(asking, at, looks_are, looks, openings, floats, worths)
    if not known:
        return UNKNOWN, asking, at
    return (REFUSED if needs > equity - needed + freed + CENT else COVERED), NONE, NONE


@njit(cache=True, nogil=True, error_model="numpy")
def _then(openings: Rows, stage: int, now: int) -> int:
    """The stage of a life at a moment, of what comes to be its last."""
    while openings[stage].moment > now:
        stage = as_int(openings[stage].before)
    return stage


@njit(cache=True, nogil=True, error_model="numpy")
def _worth(
    stage: int, at: int, looks_are: int, looks: Ints, openings: Rows, floats: Floats, worths: Rows
) -> tuple[bool, float, float]:  # fmt: skip
    """Whether it is known of a stage what it is worth and needs at a snapshot, and that."""
    row = openings[stage]
    if row.looks == looks_are:
        k = np.searchsorted(looks[row.from_look : row.to_look], at) + row.from_look
        if k < row.to_look and looks[k] == at:
            place = row.funds + 2 * (k - row.from_look)
            return True, floats[place], floats[place + 1]
    known = as_int(row.worths)
    while known != NONE:
        if worths[known].at == at:
            return True, worths[known].worth, worths[known].needed
        known = as_int(worths[known].next)
    return False, 0.0, 0.0

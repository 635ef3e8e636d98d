"""Conditions over several snapshots: held in a row, crossed, lasting from one until another; of values with a recorded history,
and of others, going on from what was kept (:mod:`strell_core.measures.memory`)."""

from __future__ import annotations

import numpy as np

from strell_core.measures import compare
from strell_core.measures.frames import FALSE, TRUE, UNVALUED, Truths
from strell_core.measures.measure import Series
from strell_core.measures.memory import ConditionState

UP = "crosses above"


def in_a_row(truths: Truths, looks: int, before: ConditionState) -> tuple[Truths, Truths]:
    """Whether it was true at the last ``looks`` snapshots, this one included: false where it was false at one of them,
    else unvalued where it was that. Truths ``(n,)``; and beside them those of the ``looks - 1`` snapshots before and these,
    as far as they are known."""
    past = np.full(looks - 1, UNVALUED, np.int8)
    if before.since_false is not None and before.since_false < len(past):
        past[len(past) - 1 - before.since_false] = FALSE
    if before.true_for:
        past[-min(before.true_for, len(past)) :] = TRUE
    every = np.concatenate([past, truths])
    windows = np.lib.stride_tricks.sliding_window_view(every, looks)
    broken, whole = (windows == FALSE).any(axis=1), (windows == TRUE).all(axis=1)
    return np.where(broken, FALSE, np.where(whole, TRUE, UNVALUED)).astype(np.int8), every


def state_of_row(every: Truths, looks: int) -> ConditionState:
    """What is kept at the end of truths ``(n,)``, of the last ``looks`` of them."""
    back = every[::-1][:looks]
    untrue, false = np.flatnonzero(back != TRUE), np.flatnonzero(back == FALSE)
    return ConditionState(int(untrue[0]) if len(untrue) else len(back), int(false[0]) if len(false) else None)


def changes(away: Series, comparison: str) -> Truths:
    """Whether one value crossed another, by what the first is away from it ``(n,)``: at each snapshot against the last one
    before at which both were known. Unvalued while there is none, and where either is not known."""
    away = np.round(away, compare.PLACES)
    out = np.full(len(away), UNVALUED, np.int8)
    places = np.flatnonzero(~np.isnan(away))
    if len(places):
        known = away[places]
        up = (known[1:] > 0) & (known[:-1] <= 0)
        down = (known[1:] < 0) & (known[:-1] >= 0)
        out[places[1:]] = np.where(up if comparison == UP else down, TRUE, FALSE)
    return out


def crossed(away: Series, comparison: str, before: ConditionState) -> Truths:
    """:func:`changes`, going on from what was kept."""
    first = np.nan if before.side is None else float(before.side)
    return changes(np.concatenate([[first], away]), comparison)[1:]


def state_of_side(away: Series, before: ConditionState) -> ConditionState:
    """What is kept at the end of differences ``(n,)``."""
    known = away[~np.isnan(away)]
    return ConditionState(side=int(np.sign(np.round(known[-1], compare.PLACES)))) if len(known) else before


def lasting(starts: Truths, stops: Truths, holds: bool) -> Truths:
    """True from where it starts until it stops, and not while both do; ``holds``: it did before. What is not valued changes
    nothing."""
    turns = np.where(stops == TRUE, -1, np.where(starts == TRUE, 1, 0))
    last = np.maximum.accumulate(np.where(turns != 0, np.arange(len(turns)), -1))
    return np.where(np.where(last >= 0, turns[np.maximum(last, 0)] == 1, holds), TRUE, FALSE).astype(np.int8)

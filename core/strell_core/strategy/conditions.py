"""Conditions: a value compared with another, in the words of a sentence.

The same condition serves entries, checks on what was picked, and exits; what differs is what its values may speak of.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from strell_core.measures import values
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import FALSE, TRUE, UNVALUED, Frame, Params, Truths, Values
from strell_core.measures.measure import Series

COMPARISONS = {
    "above": "above", "below": "below", "at least": "at least", "at most": "at most", "equal": "equal to",
    "crosses above": "crossing above", "crosses below": "crossing below",
}  # fmt: skip
CROSSINGS = ("crosses above", "crosses below")
MARKET = ("market", "clock", "event")
"""What a value may speak of wherever there is a market; only of these it is known whether one crossed another."""
PLACES = 9
"""Decimal places at which two values are the same: coarser than their arithmetic, finer than any measure's grid."""


def params(scopes: tuple[str, ...], left: Any, comparison: str, right: Any) -> tuple[Param, ...]:
    """The parameters of a condition whose values may speak of ``scopes``, with what they begin as."""
    return (
        Param("left", "value", "What", left, scopes=scopes),
        Param("is", "choice", "Is", comparison, choices=COMPARISONS),
        Param("right", "value", "Than", right, scopes=scopes),
    )


def declared(acts: str, **more: Any) -> Declaration:
    """The declaration of a sentence that is a condition; ``acts``: what it does, in the words of a reason."""
    return Declaration(
        tells=("value", "than"), when_true="{value}, {is} {than}", when_false=f"{{value}}, {acts} {{is}} {{than}}",
        when_unvalued="a value is not there: {value} against {than}", **more,
    )  # fmt: skip


def problem(condition: Mapping[str, Any]) -> str | None:
    """What the two values and their comparison have wrong together."""
    if condition["is"] in CROSSINGS:
        parts = [*values.parts_of(condition["left"]), *values.parts_of(condition["right"])]
        others = [p for p in parts if values.measure_of(p).declaration.scope not in (*MARKET, values.COMBINED)]
        if others:
            title = values.measure_of(others[0]).declaration.title
            return f"whether it crosses is only known of a market's values, not of '{title}'; use above or below"
    return None


def truths(condition: Params, frame: Frame) -> Truths:
    """Truths ``(n,)`` of a condition at a frame's snapshots. What does not exist makes it false (semantics rule 4)."""
    if condition["is"] in CROSSINGS:
        return _crossed(condition, frame)
    left, right = values.over(condition["left"], frame), values.over(condition["right"], frame)
    if left is None or right is None:
        return np.full(frame.end - frame.begin, FALSE, np.int8)
    return _compared(condition["is"], left, right)


def _compared(comparison: str, left: Series, right: Series) -> Truths:
    away = np.round(left - right, PLACES)
    held = {
        "above": away > 0, "below": away < 0, "at least": away >= 0, "at most": away <= 0, "equal": away == 0,
    }[comparison]  # fmt: skip
    return np.where(np.isnan(away), UNVALUED, np.where(held, TRUE, FALSE)).astype(np.int8)


def _crossed(condition: Params, frame: Frame) -> Truths:
    """Was at or below and is above, or the other way round, between the last two valued instants of the values' own
    clock; true until the next value. Looked up in the whole history, in which no value depends on a later one."""
    timeline, market = frame.market.main, frame.market
    left, right, comparison = condition["left"], condition["right"], condition["is"]
    named = (*values.data_of(left, market), *values.data_of(right, market))
    key = ("crossed", comparison, repr(left), repr(right), *named)
    known: Truths | None = timeline.computed.get(key)
    if known is None:
        ticks = values.finest(iter((values.clock_of(left), values.clock_of(right))))
        if ticks == "snapshot":
            whole = Frame(market, 0, len(timeline.times), frame.symbol)
            a, b = values.over(left, whole), values.over(right, whole)
            assert a is not None and b is not None
            known = _changes(a - b, comparison)
        else:
            # a session's value is the same at all its snapshots
            first = [Frame(market, int(at), int(at) + 1, frame.symbol) for at in timeline.first[:-1]]
            found = [_first_value(left, item) - _first_value(right, item) for item in first]
            known = _changes(np.array(found, np.float64), comparison)[timeline.session_of]
        timeline.computed[key] = known
    return known[frame.begin : frame.end]


def _first_value(value: Params, frame: Frame) -> float:
    found = values.over(value, frame)
    return float("nan") if found is None else float(found[0])


def _changes(away: Series, comparison: str) -> Truths:
    away = np.round(away, PLACES)
    valued = ~np.isnan(away)
    out = np.full(len(away), UNVALUED, np.int8)
    places = np.flatnonzero(valued)
    if len(places):
        known = away[places]
        up = (known[1:] > 0) & (known[:-1] <= 0)
        down = (known[1:] < 0) & (known[:-1] >= 0)
        out[places[1:]] = np.where(up if comparison == "crosses above" else down, TRUE, FALSE)
    return out


def told(condition: Params, frame: Frame, place: int = 0) -> Values:
    """The numbers that a condition saw at a snapshot of the frame; nothing where a value was not there."""
    found = {}
    for name in ("left", "right"):
        value = values.over(condition[name], frame)
        at = None if value is None or np.isnan(value[place]) else float(value[place])
        found[name] = None if at is None else round(at, 4)
    return {"value": found["left"], "than": found["right"], "is": COMPARISONS[condition["is"]]}

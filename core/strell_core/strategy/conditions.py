"""Conditions: a value compared with another, in the words of a sentence.

The same condition serves entries, checks on what was picked, and exits; what differs is what its values may speak of.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np

from strell_core.measures import compare, values
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import FALSE, TRUE, UNVALUED, Frame, Params, Values
from strell_core.measures.params import Editor, IntegerKind, ParamKind, param_kinds
from strell_core.strategy.condition_truths import CROSSINGS, alone, other_than_a_market, to_leave, truths

COMPARISONS = {**compare.COMPARISONS, "crosses above": "crossing above", "crosses below": "crossing below"}
MOST = 6
"""Further conditions in a sentence."""


def params(scopes: tuple[str, ...], left: Any, comparison: str, right: Any) -> tuple[Param, ...]:
    """The parameters of a condition whose values may speak of ``scopes``, with what they begin as; and what may be
    added to it: how long it has to hold, further conditions, and until when it counts once it held."""
    begins = {"left": left, "is": comparison, "right": right}
    return (
        *_compared_values(scopes, left, comparison, right),
        Param("join", "choice", "Joined by", "and", choices={"and": "and", "or": "or"}, optional=True),
        Param("also", "conditions", "A further condition", None, optional=True, begins=[begins], scopes=scopes),
        Param(
            "until", "condition", "From then on, until…", None, optional=True, begins={**begins, "is": _opposite(comparison)}, scopes=scopes,
            leads=", from then on until ",
        ),
    )  # fmt: skip


def _compared_values(scopes: tuple[str, ...], left: Any, comparison: str, right: Any) -> tuple[Param, ...]:
    return (
        Param("left", "value", "What", left, scopes=scopes),
        Param("is", "choice", "Is", comparison, choices=COMPARISONS),
        Param("right", "value", "Than", right, scopes=scopes),
        Param("looks", "snapshots", "For several snapshots in a row", None, 2, 200, optional=True, begins=3),
    )


def _opposite(comparison: str) -> str:
    pairs = {"above": "below", "below": "above", "at least": "below", "at most": "above"}
    return pairs.get(comparison, "below")


@lru_cache(maxsize=64)
def further(scopes: tuple[str, ...]) -> Declaration:
    """A condition that stands within another's sentence."""
    return Declaration(
        id="further", section="condition", title="A further condition", sentence="{left} is {is} {right}{looks}",
        params=_compared_values(scopes, 0, "above", 0), explains="A value against another.", example="the price is above 100",
    )  # fmt: skip


class SnapshotsKind(IntegerKind):
    """For how many snapshots in a row."""

    def text(self, param: Param, value: Any) -> str:
        return f"for {value} snapshots in a row"


class ConditionKind(ParamKind):
    """A condition within a sentence."""

    editor: Editor = "within"
    nested = True

    def problems(self, param: Param, value: Any) -> Iterator[tuple[str, str]]:
        if not isinstance(value, dict):
            yield "", f"{param.called}: a condition is a mapping with left, is and right"
            return
        yield from further(param.scopes).problems(value)

    def normal(self, param: Param, value: Any) -> Any:
        if not isinstance(value, dict):
            return value
        declaration = further(param.scopes)
        return declaration.normal({**declaration.defaults(), **value})

    def written(self, param: Param, value: Any) -> Any:
        return {
            p.name: p.of_kind.written(p, value[p.name])
            for p in further(param.scopes).params
            if value.get(p.name) is not None
        }

    def told(self, param: Param, value: Any) -> Any:
        return further(param.scopes).told(value)

    def schema(self, param: Param) -> dict[str, Any]:
        properties = {p.name: p.schema() for p in further(param.scopes).params}
        return {"type": "object", "properties": properties, "additionalProperties": False}

    def within(self, param: Param, value: Any) -> Iterator[tuple[str, Any, Mapping[str, Any]]]:
        yield "", further(param.scopes), value


class ConditionsKind(ConditionKind):
    """Several of them."""

    joined = True
    """By a word that the sentence says; otherwise all of them have to hold."""

    def problems(self, param: Param, value: Any) -> Iterator[tuple[str, str]]:
        if not isinstance(value, list) or not 0 < len(value) <= MOST:
            yield "", f"{param.called}: a list of at least one condition, at most {MOST}"
            return
        for place, item in enumerate(value):
            yield from ((f"{place}/{path}".rstrip("/"), message) for path, message in super().problems(param, item))

    def normal(self, param: Param, value: Any) -> Any:
        if not isinstance(value, list):
            return value
        return [super(ConditionsKind, self).normal(param, item) for item in value]

    def written(self, param: Param, value: Any) -> Any:
        return [super(ConditionsKind, self).written(param, item) for item in value]

    def told(self, param: Param, value: Any) -> Any:
        return [super(ConditionsKind, self).told(param, item) for item in value]

    def schema(self, param: Param) -> dict[str, Any]:
        return {"type": "array", "items": super().schema(param), "minItems": 1, "maxItems": MOST}

    def within(self, param: Param, value: Any) -> Iterator[tuple[str, Any, Mapping[str, Any]]]:
        yield from ((str(place), further(param.scopes), item) for place, item in enumerate(value))


class AllConditionsKind(ConditionsKind):
    """Several, all of which have to hold."""

    joined = False


param_kinds |= {
    "snapshots": SnapshotsKind(),
    "condition": ConditionKind(),
    "conditions": ConditionsKind(),
    "all_conditions": AllConditionsKind(),
}


def declared(acts: str, **more: Any) -> Declaration:
    """The declaration of a sentence that is a condition; ``acts``: what it does, in the words of a reason."""
    return Declaration(
        tells=("value", "than", "which"), when_true="{value}, {is} {than}{which}",
        when_false=f"{{value}}, {acts} {{is}} {{than}}{{which}}",
        when_unvalued="a value is not there: {value} against {than}{which}", **more,
    )  # fmt: skip


def problems(condition: Mapping[str, Any], scopes: tuple[str, ...]) -> Iterator[tuple[str, str]]:
    """``(path, message)`` of what a sentence's conditions have wrong together. ``scopes``: of what its values may speak; of a
    structure that was only picked nothing is known from before."""
    every = [("", condition), *((f"also/{n}/", item) for n, item in enumerate(condition.get("also") or ()))]
    until, lived = condition.get("until"), "structure" not in scopes
    if until:
        every.append(("until/", until))
    for path, item in every:
        yield from _of_its_past(path, item, lived, bool(until))
    if condition.get("provided"):
        yield from _of_its_past("provided/", condition["provided"], False, False)
    elif condition.get("provided_also"):
        yield "provided_also", "say first what is provided: the sentence's own 'provided that'"
    for number, item in enumerate(condition.get("provided_also") or ()):
        yield from _of_its_past(f"provided_also/{number}/", item, False, False)


def _of_its_past(path: str, item: Mapping[str, Any], lived: bool, lasts: bool) -> Iterator[tuple[str, str]]:
    crosses, looks = item["is"] in CROSSINGS, item.get("looks")
    if looks and crosses:
        yield f"{path}looks", "a crossing is over with the next value; it does not hold for several snapshots"
    if (crosses or looks or lasts) and not lived:
        other = other_than_a_market(item)
        if other is not None:
            why = "whether it crosses" if crosses else "whether it held before" if looks else "since when it holds"
            yield (
                f"{path}is",
                f"'{other}' is asked of contracts that are not held yet, so {why} is not known; use above or below alone",
            )


def told_to_leave(condition: Params, frame: Frame, place: int = 0) -> Values:
    """:func:`told` of :func:`~strell_core.strategy.condition_truths.to_leave`."""
    early = int(truths(condition, frame)[place]) != TRUE and int(to_leave(condition, frame)[place]) == TRUE
    return told(condition, replace(frame, closing=early), place)


def told(condition: Params, frame: Frame, place: int = 0) -> Values:
    """The numbers that decided a condition at a snapshot of the frame; nothing where a value was not there. Where there
    are several comparisons ``which`` says whose they are."""
    item, which = condition, ""
    if condition.get("also"):
        number, item = _deciding(condition, frame, place)
        which = f", condition {number} of {1 + len(condition['also'])}"
    if condition.get("until"):
        which += ", or it held before"
    found = {}
    for name in ("left", "right"):
        value = values.over(item[name], frame)
        at = None if value is None or np.isnan(value[place]) else float(value[place])
        found[name] = None if at is None else round(at, 4)
    said = {"value": found["left"], "than": found["right"], "is": COMPARISONS[item["is"]]}
    return {**said, "which": which} if which else said


def _deciding(condition: Params, frame: Frame, place: int) -> tuple[int, Params]:
    """The first comparison that settles what several give together, else the first."""
    settles = (TRUE,) if condition.get("join") == "or" else (FALSE, UNVALUED)
    for number, item in enumerate([condition, *condition["also"]], 1):
        if int(alone(item, frame)[place]) in settles:
            return number, item
    return 1, condition

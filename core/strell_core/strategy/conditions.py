"""Conditions: a value compared with another, in the words of a sentence.

The same condition serves entries, checks on what was picked, and exits; what differs is what its values may speak of.
"""

from __future__ import annotations

import datetime as dt
import itertools
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from functools import lru_cache
from typing import Any

import numpy as np

from strell_core.measures import compare, values
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import FALSE, TRUE, UNVALUED, Frame, Params, Truths, Values
from strell_core.measures.measure import Series
from strell_core.measures.params import Editor, IntegerKind, ParamKind, param_kinds
from strell_core.measures.snapshot.clock import Clock

COMPARISONS = {**compare.COMPARISONS, "crosses above": "crossing above", "crosses below": "crossing below"}
CROSSINGS = ("crosses above", "crosses below")
MARKET = ("market", "clock", "event", "series")
"""What a value may speak of wherever there is a market; only of these it is known whether one crossed another."""
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


param_kinds |= {"snapshots": SnapshotsKind(), "condition": ConditionKind(), "conditions": ConditionsKind()}


def declared(acts: str, **more: Any) -> Declaration:
    """The declaration of a sentence that is a condition; ``acts``: what it does, in the words of a reason."""
    return Declaration(
        tells=("value", "than", "which"), when_true="{value}, {is} {than}{which}",
        when_false=f"{{value}}, {acts} {{is}} {{than}}{{which}}",
        when_unvalued="a value is not there: {value} against {than}{which}", **more,
    )  # fmt: skip


def problems(condition: Mapping[str, Any]) -> Iterator[tuple[str, str]]:
    """``(path, message)`` of what a sentence's conditions have wrong together."""
    every = [("", condition), *((f"also/{n}/", item) for n, item in enumerate(condition.get("also") or ()))]
    until = condition.get("until")
    if until:
        every.append(("until/", until))
    for path, item in every:
        crosses, looks = item["is"] in CROSSINGS, item.get("looks")
        if looks and crosses:
            yield f"{path}looks", "a crossing is over with the next value; it does not hold for several snapshots"
        why = "whether it crosses" if crosses else "whether it held before" if looks else "since when it holds"
        if crosses or looks or until:
            other = _of_more_than_a_market(item)
            if other is not None:
                yield (
                    f"{path}is",
                    f"{why} is only known of a market's values, not of '{other}'; use above or below alone",
                )


def _of_more_than_a_market(condition: Mapping[str, Any]) -> str | None:
    """The title of a value of a condition that speaks of more than a market."""
    for part in (*values.parts_of(condition["left"]), *values.parts_of(condition["right"])):
        declaration = values.measure_of(part).declaration
        if declaration.scope not in (*MARKET, values.COMBINED):
            return declaration.title
    return None


def truths(condition: Params, frame: Frame, crossed: bool = False) -> Truths:
    """Truths ``(n,)`` of a sentence's conditions at a frame's snapshots: joined by *and* it is true where all are and
    false where any is, by *or* the other way round. What does not exist makes its condition false (semantics rule 4).
    ``crossed``: the crossing that the first one waits for has been."""
    if condition.get("until"):
        return _lasting(condition, frame)
    found = np.full(frame.end - frame.begin, TRUE, np.int8) if crossed else _alone(condition, frame)
    decides = TRUE if condition.get("join") == "or" else FALSE
    for item in condition.get("also") or ():
        other = _alone(item, frame)
        settled = (found == decides) | (other == decides)
        unknown = (found == UNVALUED) | (other == UNVALUED)
        found = np.where(settled, decides, np.where(unknown, UNVALUED, FALSE if decides == TRUE else TRUE)).astype(
            np.int8
        )
    return found


def asks_the_clock(condition: Params) -> bool:
    """Whether a sentence's conditions ask what changes with every minute and by itself."""
    every = [condition, *(condition.get("also") or ())]
    parts = (part for item in every for side in ("left", "right") for part in values.parts_of(item[side]))
    return not condition.get("until") and any(isinstance(values.measure_of(part), Clock) for part in parts)


def to_leave(condition: Params, frame: Frame) -> Truths:
    """:func:`truths` for an exit: what the clock makes true with a session's last snapshot is true on the one before,
    everything else as it is there (semantics rule 1)."""
    found = truths(condition, frame)
    if asks_the_clock(condition) and frame.market.main.to_last[frame.begin : frame.end].any():
        found = np.where(truths(condition, replace(frame, closing=True)) == TRUE, TRUE, found).astype(np.int8)
    return found


def told_to_leave(condition: Params, frame: Frame, place: int = 0) -> Values:
    """:func:`told` of :func:`to_leave`."""
    early = int(truths(condition, frame)[place]) != TRUE and int(to_leave(condition, frame)[place]) == TRUE
    return told(condition, replace(frame, closing=early), place)


def _alone(condition: Params, frame: Frame) -> Truths:
    """Of one comparison, held for as many snapshots as it says."""
    looks = condition.get("looks")
    if not looks:
        return _now(condition, frame)
    begin = max(0, frame.begin - looks + 1)
    held = _now(condition, Frame(frame.market, begin, frame.end, frame.symbol))
    # before the first snapshot nothing is known
    held = np.concatenate([np.full(looks - 1 - (frame.begin - begin), UNVALUED, np.int8), held])
    windows = np.lib.stride_tricks.sliding_window_view(held, looks)
    broken, whole = (windows == FALSE).any(axis=1), (windows == TRUE).all(axis=1)
    return np.where(broken, FALSE, np.where(whole, TRUE, UNVALUED)).astype(np.int8)


def _now(condition: Params, frame: Frame) -> Truths:
    if condition["is"] in CROSSINGS:
        return _crossed(condition, frame)
    left, right = values.over(condition["left"], frame), values.over(condition["right"], frame)
    if left is None or right is None:
        return np.full(frame.end - frame.begin, FALSE, np.int8)
    return compare.compared(condition["is"], left, right)


def _lasting(condition: Params, frame: Frame) -> Truths:
    """True from when the conditions hold until the last one does, and not while both do; false to begin with. What is
    not valued changes nothing."""
    begins, ends = {**condition, "until": None}, condition["until"]

    def made(places: list[Frame]) -> Truths:
        starts = np.concatenate([truths(begins, where) for where in places])
        stops = np.concatenate([_alone(ends, where) for where in places])
        changes = np.where(stops == TRUE, -1, np.where(starts == TRUE, 1, 0))
        last = np.maximum.accumulate(np.where(changes != 0, np.arange(len(changes)), -1))
        return np.where((last >= 0) & (changes[np.maximum(last, 0)] == 1), TRUE, FALSE).astype(np.int8)

    return _looked_up("lasting", condition, frame, made)


def _crossed(condition: Params, frame: Frame) -> Truths:
    """Was at or below and is above, or the other way round, between the last two valued instants of the values' own
    clock; true until the next value."""
    left, comparison, right = condition["left"], condition["is"], condition["right"]

    def away(where: Frame) -> Series:
        return _valued(left, where) - _valued(right, where)

    def made(places: list[Frame]) -> Truths:
        found = np.concatenate([away(where) for where in places])
        out = _changes(found, comparison)
        for place, begin, day in _splits(places):
            # what was before a split is told in the units of what comes after it
            before, after = np.flatnonzero(~np.isnan(found[:place])), np.flatnonzero(~np.isnan(found[place:]))
            if len(before) and len(after):
                last = int(before[-1])
                there = begin + last if len(places) == 1 else places[last].begin
                then = away(Frame(frame.market, there, there + 1, frame.symbol, units_of=day))
                pair = np.array([then[0], found[place + after[0]]])
                out[place + after[0]] = _changes(pair, comparison)[1]
        return out

    return _looked_up("crossed", {"left": left, "is": comparison, "right": right}, frame, made)


def _splits(places: list[Frame]) -> Iterator[tuple[int, int, dt.date]]:
    """Where in all the places together a split begins to hold, the snapshot at which they begin, and its day."""
    market = places[0].market
    for (_, _), (here, day) in itertools.pairwise(Frame(market, places[0].begin, places[-1].end).by_units()):
        begin = places[0].begin
        at = here.start + begin
        place = (
            here.start if len(places) == 1 else next((n for n, frame in enumerate(places) if frame.begin >= at), None)
        )
        if place:
            yield place, begin, day


def _valued(value: Params, frame: Frame) -> Series:
    found = values.over(value, frame)
    return np.full(frame.end - frame.begin, np.nan) if found is None else found


def _looked_up(what: str, condition: Params, frame: Frame, made: Callable[[list[Frame]], Truths]) -> Truths:
    """Truths at a frame's snapshots of what is made once of the whole history, in which no value depends on a later
    one: of every snapshot, or of the first of each session where nothing in it changes within one."""
    timeline, market = frame.market.main, frame.market
    until = condition.get("until")
    every = [condition, *(condition.get("also") or ()), *([until] if until else [])]
    compared = [item[side] for item in every for side in ("left", "right")]
    others = sorted({digest for value in compared for digest in values.data_of(value, market)})
    of = market.timeline(frame.symbol)
    if of is not timeline:
        # what names no underlying is of the one that is traded
        others = [of.underlying.symbol, of.digest, *others]
    said = {name: condition.get(name) for name in ("left", "is", "right", "looks", "join", "also", "until")}
    key = (what, repr(said), *others)
    known: Truths | None = timeline.computed.get(key)
    if known is None:
        ticks = values.finest(iter([values.clock_of(value) for value in compared]))
        if ticks == "snapshot" or any(item.get("looks") for item in every):
            known = made([Frame(market, 0, len(timeline.times), frame.symbol)])
        else:
            first = [Frame(market, int(at), int(at) + 1, frame.symbol) for at in timeline.first[:-1]]
            known = made(first)[timeline.session_of]
        timeline.computed[key] = known
    return known[frame.begin : frame.end]


def _changes(away: Series, comparison: str) -> Truths:
    away = np.round(away, compare.PLACES)
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
        if int(_alone(item, frame)[place]) in settles:
            return number, item
    return 1, condition

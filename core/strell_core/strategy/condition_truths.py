"""When conditions are true: at a snapshot, over a stretch of them, for several in a row, from one that holds until another.

Of values of a market every snapshot is recorded, so that the past can be asked. Of those of a position, its legs and an account
it is not: what a condition on them needs of the past is kept from snapshot to snapshot (:mod:`strell_core.measures.memory`),
by whoever lives through them, and comes with the frame.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import itertools
import json
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from typing import Any

import numpy as np

from strell_core.market.kept import Kept as BoundedCache
from strell_core.measures import compare, over_snapshots, values
from strell_core.measures.frames import FALSE, TRUE, UNVALUED, Frame, Params, Truths
from strell_core.measures.measure import Series
from strell_core.measures.memory import NO_PAST, ConditionMemory, ConditionState
from strell_core.measures.snapshot.clock import Clock

CROSSINGS = ("crosses above", "crosses below")
MARKET = ("market", "clock", "event", "series")
"""What a value may speak of wherever there is a market; of these every snapshot is recorded."""


def truths(condition: Params, frame: Frame, crossed: bool = False) -> Truths:
    """Truths ``(n,)`` of a sentence's conditions at a frame's snapshots: joined by *and* it is true where all are and
    false where any is, by *or* the other way round. What does not exist makes its condition false (semantics rule 4).
    ``crossed``: the crossing that the first one waits for has been."""
    if condition.get("until"):
        return _lasting(condition, frame)
    found = np.full(frame.end - frame.begin, TRUE, np.int8) if crossed else alone(condition, frame)
    decides = TRUE if condition.get("join") == "or" else FALSE
    for item in condition.get("also") or ():
        other = alone(item, frame)
        settled = (found == decides) | (other == decides)
        unknown = (found == UNVALUED) | (other == UNVALUED)
        found = np.where(settled, decides, np.where(unknown, UNVALUED, FALSE if decides == TRUE else TRUE)).astype(
            np.int8
        )
    return found


def asks_the_clock(condition: Params) -> bool:
    """Whether a sentence's conditions ask what changes with every minute and by itself."""
    parts = (part for item in _joined(condition) for value in _sides(item) for part in values.parts_of(value))
    return not condition.get("until") and any(isinstance(values.measure_of(part), Clock) for part in parts)


def to_leave(condition: Params, frame: Frame) -> Truths:
    """:func:`truths` for an exit: what the clock makes true with a session's last snapshot is true on the one before,
    everything else as it is there (semantics rule 1)."""
    found = truths(condition, frame)
    if asks_the_clock(condition) and frame.market.main.to_last[frame.begin : frame.end].any():
        found = np.where(truths(condition, replace(frame, closing=True)) == TRUE, TRUE, found).astype(np.int8)
    return found


def alone(condition: Params, frame: Frame) -> Truths:
    """Of one comparison, held for as many snapshots as it says."""
    looks = condition.get("looks")
    if not looks:
        return _now(condition, frame)
    if not of_a_market(condition):
        return over_snapshots.in_a_row(_now(condition, frame), looks, _state_before(condition, frame))[0]
    begin = max(0, frame.begin - looks + 1)
    # before the first snapshot nothing is known
    held = _now(condition, Frame(frame.market, begin, frame.end, frame.symbol))
    return over_snapshots.in_a_row(held, looks, NO_PAST)[0][frame.begin - begin :]


def of_a_market(condition: Mapping[str, Any]) -> bool:
    """Whether a comparison is of values of a market alone."""
    return other_than_a_market(condition) is None


def other_than_a_market(condition: Mapping[str, Any]) -> str | None:
    """The title of a value of a comparison that speaks of more than a market."""
    for value in _sides(condition):
        for declaration in values.declared_in(value):
            if declaration.scope not in (*MARKET, values.COMBINED):
                return declaration.title
    return None


def to_remember(condition: Params) -> list[Params]:
    """Of a sentence's conditions, those of which something has to be kept: comparisons that hold for several snapshots or
    cross, and the whole where it lasts."""
    until = condition.get("until")
    every = [*_joined(condition), *([until] if until else [])]
    found = [item for item in every if (item.get("looks") or item["is"] in CROSSINGS) and not of_a_market(item)]
    lasts = until and not all(of_a_market(item) for item in every)
    return [*found, condition] if lasts else found


def remember(asked: tuple[Params, ...], frame: Frame) -> tuple[ConditionMemory, ...]:
    """What is kept of conditions (each of :func:`to_remember`) at the end of a frame, going on from what came with it."""
    market = frame.market.main
    end = int(market.times[frame.end - 1])
    out: dict[str, ConditionMemory] = {}
    for condition in asked:
        name = name_of(condition)
        if name in out:
            continue
        upto = _upto(condition, frame)
        places = frame.end - frame.begin
        before = upto(places - 1) if places > 1 else _state_before(condition, frame)
        out[name] = ConditionMemory(name, end, upto(places), before)
    return tuple(out.values())


def name_of(condition: Params) -> str:
    """By what a condition is known: the same for all that ask the same."""
    said = repr([condition.get(name) for name in ("left", "is", "right", "looks", "join", "also", "until")])
    if said not in _NAMES:
        # what is left at its default is no part of it, so that a new parameter forgets nothing
        told = json.dumps(_told(condition), sort_keys=True)
        _NAMES[said] = hashlib.blake2s(told.encode(), digest_size=8).hexdigest()
    return str(_NAMES[said])


_NAMES = BoundedCache()
"""By what conditions say: making a name takes longer than looking it up."""


def _told(condition: Params) -> dict[str, Any]:
    said = {name: condition[name] for name in ("is", "looks", "join") if condition.get(name)}
    inner = {"also": [_told(item) for item in condition.get("also") or ()]}
    if condition.get("until"):
        inner["until"] = [_told(condition["until"])]
    return {**said, **inner, "left": values.told(condition["left"]), "right": values.told(condition["right"])}


def _state_before(condition: Params, frame: Frame) -> ConditionState:
    """What is kept of a condition as of the snapshot before a frame."""
    name = name_of(condition)
    found = next((item for item in frame.memory if item.condition == name), None)
    return NO_PAST if found is None else found.as_before(int(frame.market.main.times[frame.begin]))


def _upto(condition: Params, frame: Frame) -> Callable[[int], ConditionState]:
    """What is kept of a condition after so many of a frame's snapshots."""
    before, looks = _state_before(condition, frame), int(condition.get("looks") or 0)
    if condition.get("until"):
        lasts = _lasting(condition, frame)
        return lambda places: ConditionState(holds=bool(lasts[places - 1] == TRUE))
    if condition["is"] in CROSSINGS:
        away = _away(condition, frame)
        if away is None:
            return lambda places: NO_PAST
        return lambda places: over_snapshots.state_of_side(away[:places], before)
    every = over_snapshots.in_a_row(_now(condition, frame), looks, before)[1]
    return lambda places: over_snapshots.state_of_row(every[: looks - 1 + places], looks)


def _joined(condition: Params) -> list[Params]:
    return [condition, *(condition.get("also") or ())]


def _sides(condition: Params) -> Iterator[Mapping[str, Any]]:
    yield condition["left"]
    yield condition["right"]


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
    if not all(of_a_market(item) for item in (*_joined(begins), ends)):
        return over_snapshots.lasting(truths(begins, frame), alone(ends, frame), _state_before(condition, frame).holds)

    def made(places: list[Frame]) -> Truths:
        starts = np.concatenate([truths(begins, where) for where in places])
        stops = np.concatenate([alone(ends, where) for where in places])
        return over_snapshots.lasting(starts, stops, False)

    return _looked_up("lasting", condition, frame, made)


def _crossed(condition: Params, frame: Frame) -> Truths:
    """Was at or below and is above, or the other way round, between the last two valued instants of the values' own
    clock; true until the next value."""
    comparison = condition["is"]
    if not of_a_market(condition):
        away = _away(condition, frame)
        if away is None:
            return np.full(frame.end - frame.begin, FALSE, np.int8)
        return over_snapshots.crossed(away, comparison, _state_before(condition, frame))

    def between(where: Frame) -> Series:
        found = _away(condition, where)
        return np.full(where.end - where.begin, np.nan) if found is None else found

    def made(places: list[Frame]) -> Truths:
        found = np.concatenate([between(where) for where in places])
        out = over_snapshots.changes(found, comparison)
        for place, begin, day in _splits(places):
            # what was before a split is told in the units of what comes after it
            before, after = np.flatnonzero(~np.isnan(found[:place])), np.flatnonzero(~np.isnan(found[place:]))
            if len(before) and len(after):
                last = int(before[-1])
                there = begin + last if len(places) == 1 else places[last].begin
                then = between(Frame(frame.market, there, there + 1, frame.symbol, units_of=day))
                pair = np.array([then[0], found[place + after[0]]])
                out[place + after[0]] = over_snapshots.changes(pair, comparison)[1]
        return out

    return _looked_up("crossed", {name: condition[name] for name in ("left", "is", "right")}, frame, made)


def _away(condition: Params, frame: Frame) -> Series | None:
    """The left value less the right one ``(n,)``; ``None``: one of them does not exist."""
    left, right = values.over(condition["left"], frame), values.over(condition["right"], frame)
    return None if left is None or right is None else left - right


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


def _looked_up(what: str, condition: Params, frame: Frame, made: Callable[[list[Frame]], Truths]) -> Truths:
    """Truths at a frame's snapshots of what is made once of the whole history, in which no value depends on a later
    one: of every snapshot, or of the first of each session where nothing in it changes within one."""
    timeline, market = frame.market.main, frame.market
    until = condition.get("until")
    every = [*_joined(condition), *([until] if until else [])]
    compared = [value for item in every for value in _sides(item)]
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

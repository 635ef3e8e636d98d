"""The grammar of values: a measure with its parameters, some of which are values themselves.

A value is a mapping with ``measure`` and the measure's parameters; a plain number stands for the measure ``number``.
Sums, multiples, statistics and *as it was at entry* are measures with values in them, so that one grammar says all.
"""

from __future__ import annotations

import datetime as dt
import itertools
from collections.abc import Iterator, Mapping
from typing import Any

from strell_core.market.market import Market
from strell_core.measures.declaration import Declaration, known_words
from strell_core.measures.frames import Frame
from strell_core.measures.measure import UNDERLYING, Measure, Series, measures
from strell_core.measures.params import Editor, Param, ParamKind, param_kinds

NUMBER = "number"
DEEPEST = 4
"""Values within values."""
COMBINED = "combined"
"""The scope of measures that are made of others: they stand where their parts may."""


class ValueKind(ParamKind):
    """A value that may speak of what the parameter's scopes name."""

    editor: Editor = "value"
    nested = True

    def problem(self, param: Param, value: Any) -> str | None:
        found = next(problems(value, param.scopes), None)
        if found is None:
            return None
        return f"{param.label}: {found[1]}" if found[0] in ("", "measure") else f"{param.label}, {found[0]}: {found[1]}"

    def problems(self, param: Param, value: Any) -> Iterator[tuple[str, str]]:
        yield from problems(value, param.scopes)

    def normal(self, param: Param, value: Any) -> Any:
        return normal(value)

    def written(self, param: Param, value: Any) -> Any:
        return written(value)

    def told(self, param: Param, value: Any) -> Any:
        return told(value)

    def schema(self, param: Param) -> dict[str, Any]:
        return {"$ref": f"#/$defs/{family(param.scopes)}"}

    def within(self, param: Param, value: Any) -> Iterator[tuple[str, Any, Mapping[str, Any]]]:
        yield "", measure_of(value).declaration, value


param_kinds["value"] = ValueKind()


def family(scopes: tuple[str, ...]) -> str:
    """What measures of some scopes are called together."""
    return "value of " + ", ".join(scopes)


def allowed(scopes: tuple[str, ...]) -> list[Measure]:
    """Measures that may stand where a value of some scopes is wanted, by title: which module was imported first is no order."""
    found = [m for m in measures.all() if m.declaration.scope in (*scopes, COMBINED)]
    return sorted(found, key=lambda measure: measure.declaration.title)


def measure_of(value: Mapping[str, Any]) -> Measure:
    return measures[value["measure"]]


def normal(value: Any) -> Any:
    """With every parameter, defaults filled in; what is no value is left as it is."""
    if isinstance(value, int | float) and not isinstance(value, bool):
        return {"measure": NUMBER, "value": value}
    if not isinstance(value, dict) or not isinstance(value.get("measure"), str) or value["measure"] not in measures:
        return value
    declaration = measures[value["measure"]].declaration
    filled = {**declaration.defaults(), **{key: item for key, item in value.items() if key != "measure"}}
    return {"measure": value["measure"], **declaration.normal(filled)}


def written(value: Mapping[str, Any]) -> Any:
    """As a person writes it: numbers plain, parameters in their declared order."""
    if value["measure"] == NUMBER:
        return value["value"]
    declaration = measure_of(value).declaration
    return {
        "measure": value["measure"],
        **{
            param.name: param.of_kind.written(param, value[param.name])
            for param in declaration.params
            if value.get(param.name) is not None
        },
    }


def told(value: Mapping[str, Any]) -> Any:
    """Without what is left at its default, so that a new parameter changes no identity."""
    return {"measure": value["measure"], **measure_of(value).declaration.told(value)}


def problems(value: Any, scopes: tuple[str, ...], depth: int = 1) -> Iterator[tuple[str, str]]:
    """``(path within the value, message)`` for all that is wrong with a normalised value."""
    if not isinstance(value, dict):
        yield "", f"'{str(value)[:40]}' is no value; write a number, or a mapping with 'measure'"
        return
    name = value.get("measure")
    if not isinstance(name, str) or name not in measures:
        yield (
            "measure",
            f"'{str(name)[:40]}' is not known; {known_words(name, [m.declaration.id for m in allowed(scopes)])}",
        )
        return
    declaration = measures[name].declaration
    if declaration.scope not in (*scopes, COMBINED):
        there = ", ".join(m.declaration.id for m in allowed(scopes))
        yield "measure", f"'{name}' speaks of a {declaration.scope}, which is not known here; there is {there}"
        return
    if depth > DEEPEST:
        yield "", f"values stand at most {DEEPEST} deep within one another"
        return
    yield from declaration.problems({k: v for k, v in value.items() if k != "measure"}, nested=False)
    for param in declaration.params:
        if param.kind == "value" and param.name in value:
            inside = param.scopes or scopes
            for path, message in problems(value[param.name], inside, depth + 1):
                yield f"{param.name}/{path}" if path else param.name, message


def parts_of(value: Mapping[str, Any]) -> Iterator[Mapping[str, Any]]:
    """A value and all values within it."""
    yield value
    for param in measure_of(value).declaration.params:
        if param.kind == "value":
            yield from parts_of(value[param.name])


def declared_in(value: Mapping[str, Any]) -> Iterator[Declaration]:
    """Of a value and all values within it, what they are declared as."""
    yield from (measure_of(part).declaration for part in parts_of(value))


def over(value: Mapping[str, Any], frame: Frame) -> Series | None:
    """Values ``(n,)`` at a frame's snapshots; ``None``: absent."""
    return measure_of(value).over(frame, value)


def by_session(value: Mapping[str, Any], market: Market, symbol: str, units_of: dt.date | None = None) -> Series:
    """Of a value of a market: as it stood when each session was over, ``(sessions,)``; in the units of a day, or of its
    own."""
    return measure_of(value).by_session(market, symbol, value, units_of)


def unit_sessions(value: Mapping[str, Any], market: Market, symbol: str) -> list[tuple[int, int]]:
    """Sessions ``[a, b)`` of an underlying's timeline between two splits of what a value reads, one after the last
    included."""
    timeline = market.timeline(symbol)
    named = {str(part.get(UNDERLYING) or symbol) for part in parts_of(value)}
    days = {date for name in named for date, _ in market.timeline(name).underlying.splits}
    begins = [
        number
        for number, (before, date) in enumerate(itertools.pairwise(timeline.dates), 1)
        if any(before < day <= date for day in days)
    ]
    return list(itertools.pairwise([0, *begins, len(timeline.dates) + 1]))


def clock_of(value: Mapping[str, Any]) -> str:
    """When a value changes: the finest clock of its parts."""
    return measure_of(value).clock(value)


def finest(clocks: Iterator[str]) -> str:
    """Of several clocks the one that ticks most often."""
    order = ("constant", "session", "day", "snapshot")
    return max(clocks, key=order.index, default="constant")


def data_of(value: Mapping[str, Any], market: Market) -> tuple[str, ...]:
    """Identities of other underlyings' histories and of series that a value reads: what is computed of it holds for these."""
    parts = list(parts_of(value))
    named = {str(part[UNDERLYING]) for part in parts if part.get(UNDERLYING)}
    series = {str(part["series"]) for part in parts if part.get("series") in market.series}
    return (
        *(market.timeline(symbol).digest for symbol in sorted(named)),
        *(market.series[name].digest for name in sorted(series)),
    )

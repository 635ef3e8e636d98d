"""What a strategy asks that is not known from today's session alone, with the closes of those before."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from strell_core.measures import values
from strell_core.measures.measure import UNDERLYING
from strell_core.strategy import catalogue
from strell_core.strategy.conditions import CROSSINGS
from strell_core.strategy.parts import parts, switched_on


def beyond_today(document: Mapping[str, Any]) -> list[tuple[str, str]]:
    """``(sentence id, what)`` of a normalised document that a desk, which keeps today's snapshots and what the sessions
    before told of their closes, would decide otherwise than a backtest."""
    out = []
    for _, part, _, sentences in parts(document):
        for _, sentence in switched_on(sentences):
            for what in _asked(catalogue.sentences(part)[sentence["rule"]], sentence):
                out.append((str(sentence["id"]), what))
    return out


def _asked(declaration: Any, holder: Mapping[str, Any]) -> Iterator[str]:
    if holder.get("is") in CROSSINGS:
        yield "a crossing"
    for param in declaration.params:
        value = holder.get(param.name)
        if param.kind != "value" or value is None:
            continue
        for part in values.parts_of(value):
            measure = values.measure_of(part).declaration
            if "paper" not in measure.stages:
                yield measure.title
            elif part.get("bars", "session") != "session":
                yield f"{measure.title} of bars"
            elif part.get(UNDERLYING):
                yield f"{measure.title} of {part[UNDERLYING]}"

"""All declarations, their files imported."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from functools import cache, lru_cache
from typing import Any

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.measure import measures
from strell_core.measures.registry import Registry, load_folder
from strell_core.strategy import (
    adjust,
    enter,
    expiry_picks,
    kinds,
    leave,
    limits,
    orders,
    size,
    strike_picks,
    structure_conditions,
)

LEG = Declaration(
    id="leg", section="legs", title="Leg", sentence="{side} {ratio} {right} {strike}, in {expiry}.",
    params=(
        Param("side", "choice", "Side", "sell", choices={"sell": "Sell", "buy": "Buy"}),
        Param("ratio", "integer", "Ratio", 1, 1, 20),
        Param("right", "choice", "Right", "put", choices={"call": "call", "put": "put"}),
    ),
    explains="One option of the structure, chosen by rule at the decision time; its quantity is lots × ratio.",
    example="Sell 1 put nearest to delta 0.20 (± 50 %), in the expiration nearest 10 days (5–18).",
    words=("option", "call", "put"), mirror={"right": {"call": "put", "put": "call"}},
)  # fmt: skip

OPTIONAL_LEG = dataclasses.replace(
    LEG, id="optional_leg", title="Leg that may be left out", sentence="{side} {ratio} {right} {strike}, in {expiry}; without it where nothing fits.",
    explains="As a leg; where no strike or expiration fits, the entry goes on without it, and without what goes by it.",
    example="Sell 1 put nearest to delta 0.20 (± 50 %), in the expiration nearest 10 days (5–18); without it where nothing fits.",
    words=("option", "optional", "leave out", "range"),
)  # fmt: skip
LATER_LEG = dataclasses.replace(
    LEG, id="later_leg", title="Leg that is opened later", sentence="Later: {side} {ratio} {right} {strike}, in {expiry}.",
    explains="A leg that the entry leaves out and an adjustment opens, by these picks at that time: see *Open a leg*. Other "
    "sentences may speak of it; while it is not there they are not true.",
    example="Later: Sell 1 put nearest to delta 0.20 (± 50 %), in the expiration nearest 10 days (5–18).",
    words=("option", "call", "put", "wheel", "cycle", "leg in", "hedge"),
)  # fmt: skip
OPTION_LEGS = (LEG.id, OPTIONAL_LEG.id, LATER_LEG.id)
"""Sentences that are legs with a strike and an expiration."""

UNITS = Declaration(
    id="units", section="legs", title="The underlying itself", sentence="{side} the underlying itself, {ratio|contract|contracts} of it.",
    params=(
        Param("side", "choice", "Side", "buy", choices={"sell": "Sell", "buy": "Buy"}),
        Param("ratio", "integer", "Ratio", 1, 1, 20),
    ),
    explains="A contract of the underlying is as many units as one option delivers. It is dealt together with the "
    "options, at its price and half of its spread; it pays its dividends, or costs them when it is sold. Premiums and "
    "checks count options only. An index cannot be dealt in.",
    example="Buy the underlying itself, 1 contract of it.",
    words=("stock", "shares", "covered call", "protective put", "collar", "hedge"),
)  # fmt: skip

KEPT_UNITS = Declaration(
    id="kept_units", section="legs", title="Units that are delivered", sentence="Keep the underlying itself where it is delivered.",
    params=(),
    explains="Units that an assignment or an exercise delivers stay, as this leg, until a rule closes them or they are "
    "delivered in turn. Without it they are dealt at the market at the next session's first snapshot.",
    example="Keep the underlying itself where it is delivered.",
    words=("stock", "shares", "wheel", "assignment", "exercise", "assigned"), once=True,
)  # fmt: skip
LEGS = (LEG, OPTIONAL_LEG, LATER_LEG, UNITS, KEPT_UNITS)
_LEGS_BY_ID = {declaration.id: declaration for declaration in LEGS}

PARTS = ("when", "conditions", "legs", "checks", "size", "leave", "adjust", "limits", "orders")
"""Lists of sentences that a document has."""
ENTRY_PARTS = ("when", "conditions", "legs", "checks", "size", "leave", "adjust")
"""Of every entry."""
COMMON_PARTS = ("leave", "adjust", "limits", "orders")
"""Of the whole strategy."""
SECTIONS: dict[str, tuple[str, tuple[str, ...]]] = {
    "enter": ("Enter", ("when", "conditions")),
    "legs": ("Legs", ("legs", "checks")),
    "size": ("Size", ("size",)),
    "leave": ("Leave", ("leave",)),
    "adjust": ("Adjust", ("adjust",)),
    "limits": ("Limits", ("limits",)),
    "orders": ("Orders and costs", ("orders",)),
}
"""Sections of the sheet: their title, and the lists that stand in them."""
SECTION_OF = {part: section for section, (_, parts) in SECTIONS.items() for part in parts}


@lru_cache(maxsize=1)
def load() -> None:
    """Import every declaring file once."""
    for package in (enter, expiry_picks, strike_picks, structure_conditions, size, leave, adjust, limits, orders):
        load_folder(package)


def sentences(part: str) -> Mapping[str, Declaration]:
    """Declarations that may stand in a list of a document, by id."""
    load()
    return _LEGS_BY_ID if part == "legs" else _registries()[part].declarations


@cache
def _registries() -> dict[str, Registry[Any]]:
    """By list of a document, what may stand in it."""
    return {
        "when": kinds.schedules, "conditions": kinds.enter_conditions, "checks": kinds.structure_conditions,
        "size": kinds.size_rules, "leave": kinds.exits, "adjust": kinds.adjustments, "limits": kinds.limit_rules,
        "orders": kinds.order_rules,
    }  # fmt: skip


def value_scopes() -> list[tuple[str, ...]]:
    """Every set of scopes that a value of a sentence, or a value within one, may speak of."""
    found: dict[tuple[str, ...], None] = {}
    declared = [d for part in PARTS for d in sentences(part).values()]
    for declaration in (*declared, *(measure.declaration for measure in measures.all())):
        found |= {param.scopes: None for param in declaration.params if param.kind == "value" and param.scopes}
    return list(found)


def picks(name: str) -> Mapping[str, Declaration]:
    """Declarations of ``expiry`` or ``strike`` picks, by id."""
    load()
    return kinds.expiry_picks.declarations if name == "expiry" else kinds.strike_picks.declarations


PICKS = ("strike", "expiry")
CHOSEN_BY = dict.fromkeys(PICKS, "pick")
"""The key that says which of a family stands somewhere; of values it is ``measure``."""

"""Sentences that may be added to a document: each as it would stand there, and as it would read.

What a person is shown is made of the very item that is inserted, so that the two cannot differ.
"""

from __future__ import annotations

import copy
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from strell_core.measures import values
from strell_core.measures.declaration import Declaration
from strell_core.strategy import catalogue
from strell_core.strategy.adjusting import OPENS_A_LEG
from strell_core.strategy.document import DocumentError, normalise
from strell_core.strategy.parts import switched_on
from strell_core.strategy.sentences import sentence_words, sheet

Item = dict[str, Any]
GENERAL = "condition"
"""The sentence of a list that is offered once more for every measure it may begin with."""
USUAL: dict[str, tuple[str, Any]] = {
    "min": ("at most", 30), "days": ("at most", 7), "sessions": ("at most", 1), "money": ("at least", 1000), "contracts": ("above", 0),
    "points": ("below", {"measure": "price"}),
}  # fmt: skip
"""By a measure's unit, what it is compared with to begin with where its declaration names nothing."""


@dataclass(frozen=True)
class Addition:
    """A sentence that may be added. ``path``: the document's list it goes to; ``entry``: whose that is, where there are
    several; ``bar``: why it cannot be added now, nothing where it can."""

    path: str
    part: str
    section: str
    entry: str
    rule: str
    measure: str
    item: Item
    text: str
    bar: str = ""


def additions(document: Mapping[str, Any], series: str = "") -> list[Addition]:
    """Every sentence that may be added to a normalised document, in the sheet's order; ``series``: the first of one's
    own, nothing where there is none."""
    written, out = sheet(document), list[Addition]()
    sound = not _problem(document)
    for block in written.blocks:
        for part, path in block.lists.items():
            there, general = _list(document, path), list[Addition]()
            for declaration in catalogue.sentences(part).values():
                taken = declaration.once and any(item["rule"] == declaration.id for item in there)
                begun: list[Measured] = [("", declaration.begins)]
                if declaration.id == GENERAL:
                    begun += _beginnings(declaration)
                for measure, begins in begun:
                    item = addition(document, path, part, declaration, begins, series)
                    bar = "It is there already." if taken else _missing(item, declaration)
                    # on which measure a condition is, is no matter to the document as a whole
                    bar = bar or (_problem(_with(document, path, item)) if sound and not measure else "")
                    text = sentence_words(written, part, declaration, item)
                    (general if measure else out).append(
                        Addition(path, part, block.section, block.entry, declaration.id, measure, item, text, bar)
                    )
            # ready-made sentences come before what is said of single values
            out += general
    return out


Measured = tuple[str, Mapping[str, Any]]
"""A measure, nothing for the sentence as it is, with the values that it begins with."""


def addition(
    document: Mapping[str, Any],
    path: str,
    part: str,
    declaration: Declaration,
    begins: Mapping[str, Any],
    series: str = "",
) -> Item:
    """A sentence as it is added to a list of a document: its declared values, what it names taken from the document."""
    item: Item = {"rule": declaration.id, **declaration.defaults(), **begins}
    if part == "legs" and declaration.id in catalogue.OPTION_LEGS:
        expiry = "same_expiration" if _list(document, path) else "nearest_days"
        for name, pick in (("strike", "nearest_delta"), ("expiry", expiry)):
            item[name] = {"pick": pick, **catalogue.picks(name)[pick].defaults()}
    legs = _legs(document, path)
    meant = held = [name for name, _ in legs]
    if declaration.id == OPENS_A_LEG:
        # what opens a leg begins with one that is opened later, once the underlying is held where it is kept
        held, meant = _first(legs, catalogue.KEPT_UNITS.id), _first(legs, catalogue.LATER_LEG.id)
    place = 0
    for param in declaration.params:
        if param.kind == "leg":
            # the second leg that is named is the second there is
            item[param.name] = next(iter(meant[place:] or meant), "")
            place += 1
        elif param.kind == "entry":
            item[param.name] = _entry_beside(document, path)
        elif param.name in item:
            item[param.name] = _named(item[param.name], held, series)
    return {**item, **declaration.normal({key: value for key, value in item.items() if key in _names(declaration)})}


def _problem(document: Mapping[str, Any]) -> str:
    """Why a document is none, its first problem as a sentence; nothing: it is one."""
    try:
        normalise(document)
    except DocumentError as error:
        message = error.problems[0].message
        return f"{message[:1].upper()}{message[1:]}."
    return ""


def _with(document: Mapping[str, Any], path: str, item: Item) -> dict[str, Any]:
    """The document with a sentence at the end of a list."""
    out = copy.deepcopy(dict(document))
    *way, name = path.split("/")
    holder: Any = out
    for bit in way:
        holder = holder[int(bit)] if isinstance(holder, list) else holder[bit]
    holder[name] = [*holder.get(name, []), item]
    return out


def _names(declaration: Declaration) -> set[str]:
    return {param.name for param in declaration.params}


def _beginnings(declaration: Declaration) -> Iterator[Measured]:
    """Measures that a general sentence may begin with, each with what it is compared with."""
    scopes = declaration.param("left").scopes
    for measure in values.allowed(scopes):
        told = measure.declaration
        if told.id == values.NUMBER:
            continue
        comparison, right = told.usual or USUAL.get(told.unit, ("above", 0))
        left = values.normal({"measure": told.id, **told.begins})
        yield told.id, {"left": left, "is": comparison, "right": values.normal(right)}


def _list(document: Mapping[str, Any], path: str) -> list[dict[str, Any]]:
    at: Any = document
    for bit in path.split("/"):
        at = at[int(bit)] if isinstance(at, list) else at.get(bit, [])
    found: list[dict[str, Any]] = list(at)
    return found


def _entries(document: Mapping[str, Any], path: str) -> list[Mapping[str, Any]]:
    """Those whose legs a sentence of a list may name: its own entry's, or all."""
    bits = path.split("/")
    return [document["entries"][int(bits[1])]] if bits[0] == "entries" else list(document["entries"])


def _legs(document: Mapping[str, Any], path: str) -> list[tuple[str, str]]:
    """Legs that a sentence of a list may name, each with its kind."""
    return [(leg["id"], leg["rule"]) for entry in _entries(document, path) for _, leg in switched_on(entry["legs"])]


def _first(legs: Sequence[tuple[str, str]], rule: str) -> list[str]:
    """Legs, those of a kind first."""
    return [name for name, kind in sorted(legs, key=lambda leg: leg[1] != rule)]


def _entry_beside(document: Mapping[str, Any], path: str) -> str:
    """Another entry than that which says it, where there is one."""
    own = (
        {entry["id"] for entry in _entries(document, path)}
        if path.startswith("entries/")
        else {document["entries"][0]["id"]}
    )
    names = [entry["id"] for entry in document["entries"]]
    return next((name for name in names if name not in own), names[0])


def _named(value: Any, legs: Sequence[str], series: str) -> Any:
    """A value in which every leg that is not named yet is the first one, and every series the one there is."""
    if isinstance(value, list):
        return [_named(item, legs, series) for item in value]
    if not isinstance(value, Mapping):
        return value
    fill = {"leg": next(iter(legs), ""), "series": series}
    return {key: fill[key] if key in fill and item == "" else _named(item, legs, series) for key, item in value.items()}


def _missing(item: Item, declaration: Declaration) -> str:
    """What has to be there first."""

    def names(value: Any, kind: str) -> bool:
        if isinstance(value, Mapping):
            return any((key == kind and inner == "") or names(inner, kind) for key, inner in value.items())
        return isinstance(value, list) and any(names(inner, kind) for inner in value)

    own = {param.name for param in declaration.params if param.kind == "leg"}
    if names(item, "leg") or any(item[name] == "" for name in own):
        return "It names a leg: add one first."
    return "It reads a series of your own: load one under Data first." if names(item, "series") else ""

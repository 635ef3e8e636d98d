"""The lists of sentences that a document has, and what can be wrong with one."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

from strell_core.strategy import catalogue

LIMITS = {"sentences": 80, "legs": 8, "entries": 60, "underlyings": 8, "name": 80, "note": 500, "unknown": 60}


@dataclass(frozen=True)
class Problem:
    """One thing wrong with a document. ``path`` leads to it, as in ``leave/0/percent``."""

    path: str
    message: str


class Part(NamedTuple):
    """A list of sentences in a document. ``path`` leads to it, as in ``entries/0/legs``; ``entry``: whose it is,
    nothing: the whole strategy's."""

    path: str
    part: str
    entry: str
    sentences: list[dict[str, Any]]


def parts(document: Mapping[str, Any]) -> Iterator[Part]:
    """Every list of a normalised document, in the sheet's order."""
    common = [Part(name, name, "", document[name]) for name in catalogue.COMMON_PARTS]
    for section in catalogue.SECTIONS:
        if len(document["entries"]) > 1 and section == "enter":
            for number, entry in enumerate(document["entries"]):
                for name in catalogue.ENTRY_PARTS:
                    yield Part(f"entries/{number}/{name}", name, entry["id"], entry[name])
        elif len(document["entries"]) == 1:
            entry = document["entries"][0]
            for name in catalogue.ENTRY_PARTS:
                if catalogue.SECTION_OF[name] == section:
                    yield Part(f"entries/0/{name}", name, entry["id"], entry[name])
        yield from (item for item in common if catalogue.SECTION_OF[item.part] == section)


def switched_on(sentences: list[dict[str, Any]]) -> list[tuple[int, dict[str, Any]]]:
    """Sentences that are switched on, with their places."""
    return [(number, sentence) for number, sentence in enumerate(sentences) if not sentence.get("off")]

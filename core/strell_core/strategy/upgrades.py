"""Documents of earlier formats as what they mean in the present one.

A format is never changed: what reads it is a step from it to the next, kept here, and samples of every format are
kept with the tests.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

FORMAT = 2
ENTRY = "entry"
"""What the only entry of a document of format 1 is called."""
Places = dict[str, str]
"""Where a sentence stands now, and where it stood in what was given."""


def upgraded(raw: Mapping[str, Any]) -> tuple[dict[str, Any], Places]:
    """A document of any known format, complete or not, in the present format; and where its sentences stood.

    What does not look like its format is passed on as it is, for the checks to complain about.
    """
    document: dict[str, Any] = dict(raw)
    places: Places = {}
    old = "entries" not in document and ("enter" in document or "underlying" in document)
    if document.get("strell", 1 if old else FORMAT) == 1:
        document, places = _to_2(document)
    return document, places


def _to_2(raw: dict[str, Any]) -> tuple[dict[str, Any], Places]:
    """One underlying, one entry; what was mixed in *enter* and *legs* stands in lists of its own."""
    places: Places = {}

    def part(name: str, wanted: Callable[[Any], bool], to: str) -> Any:
        given = raw.get(name)
        if not isinstance(given, list):
            places[f"entries/0/{to}"] = name
            return given
        out: list[Any] = []
        for place, item in enumerate(given):
            if wanted(item):
                places[f"entries/0/{to}/{len(out)}"] = f"{name}/{place}"
                out.append(item)
        return out

    def rule(item: Any) -> Any:
        return item.get("rule") if isinstance(item, dict) else None

    entry = {
        "id": ENTRY, "when": part("enter", lambda item: rule(item) == "decision_times", "when"),
        "conditions": part("enter", lambda item: rule(item) != "decision_times", "conditions"),
        "legs": part("legs", lambda item: rule(item) == "leg", "legs"),
        "checks": part("legs", lambda item: rule(item) != "leg", "checks"), "size": part("size", lambda item: True, "size"),
    }  # fmt: skip
    places |= {"entries/0/when": "enter", "entries/0/legs": "legs", "entries/0/size": "size"}
    moved = {"strell", "underlying", "enter", "legs", "size"}
    out = {key: value for key, value in raw.items() if key not in moved}
    underlying = raw.get("underlying")
    places["underlyings"] = "underlying"
    return {
        "strell": FORMAT, **out, "underlyings": [underlying] if underlying is not None else [],
        "entries": [{key: value for key, value in entry.items() if value is not None}],
    }, places  # fmt: skip

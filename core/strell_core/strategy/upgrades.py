"""Documents of earlier formats as what they mean in the present one.

A format is never changed: what reads it is a step from it to the next, kept here, and samples of every format are
kept with the tests.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

FORMAT = 3
DELTA_WITHIN = 0.15
"""How far the delta of a picked strike could be away in formats 1 and 2 where a file did not say it."""
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
    version = document.get("strell", 1 if old else FORMAT)
    if version == 1:
        document, places = _to_2(document)
    if version < FORMAT:
        document = _to_3(document)
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
        "strell": 2, **out, "underlyings": [underlying] if underlying is not None else [],
        "entries": [{key: value for key, value in entry.items() if value is not None}],
    }, places  # fmt: skip


def _to_3(raw: dict[str, Any]) -> dict[str, Any]:
    """How far a picked delta may be away is a share of what is wanted where nothing is said; it was the same for any."""

    def leg(item: Any) -> Any:
        strike = item.get("strike") if isinstance(item, dict) else None
        if not isinstance(strike, dict) or strike.get("pick") != "nearest_delta" or "within" in strike:
            return item
        return {**item, "strike": {**strike, "within": DELTA_WITHIN}}

    def entry(item: Any) -> Any:
        if not isinstance(item, dict) or not isinstance(item.get("legs"), list):
            return item
        return {**item, "legs": [leg(one) for one in item["legs"]]}

    entries = raw.get("entries")
    made = {"entries": [entry(item) for item in entries]} if isinstance(entries, list) else {}
    return {**raw, **made, "strell": 3}

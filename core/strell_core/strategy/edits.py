"""Documents put in order, mirrored, and told apart by what they decide."""

from __future__ import annotations

import copy
import hashlib
import json
from collections.abc import Collection, Mapping
from itertools import count, islice
from typing import Any

from strell_core.measures.declaration import Declaration
from strell_core.strategy import catalogue
from strell_core.strategy.parts import parts, switched_on
from strell_core.strategy.whole import legs_named


def rules_digest(document: Mapping[str, Any]) -> str:
    """Identity of what a normalised document decides. Its name, notes, the id of an entry that stands alone,
    sentences switched off and values left at their default do not count: a new default or sentence outdates nothing."""

    def plain(part: str, sentence: Mapping[str, Any]) -> dict[str, Any]:
        declaration = catalogue.sentences(part)[sentence["rule"]]
        out = {key: sentence[key] for key in ("id", "rule")} | declaration.told(sentence)
        for name in catalogue.PICKS:
            if name in sentence:
                pick = sentence[name]
                out[name] = {"pick": pick["pick"], **catalogue.picks(name)[pick["pick"]].told(pick)}
        return out

    rules: dict[str, Any] = {"underlyings": document["underlyings"], "entries": []}
    for entry in document["entries"]:
        named = ("id", "underlying") if len(document["entries"]) > 1 else ("underlying",)
        facts = {key: entry[key] for key in named if key in entry}
        rules["entries"].append(
            facts
            | {
                part: kept
                for part in catalogue.ENTRY_PARTS
                if (kept := [plain(part, s) for _, s in switched_on(entry[part])])
            }
        )
    rules |= {
        part: kept
        for part in catalogue.COMMON_PARTS
        if (kept := [plain(part, s) for _, s in switched_on(document[part])])
    }
    return hashlib.sha256(json.dumps(rules, sort_keys=True).encode()).hexdigest()


def in_order(document: Mapping[str, Any]) -> dict[str, Any]:
    """A normalised document with its keys as a person would write them, empty lists left out; the content is the
    same."""

    def lists(holder: Mapping[str, Any], names: tuple[str, ...]) -> dict[str, Any]:
        return {
            name: [_in_order(item, catalogue.sentences(name)[item["rule"]]) for item in holder[name]]
            for name in names
            if holder[name]
        }

    entries = [
        {
            **{key: entry[key] for key in ("id", "underlying") if key in entry},
            **lists(entry, catalogue.ENTRY_PARTS),
        }
        for entry in document["entries"]
    ]
    head = {key: document[key] for key in ("strell", "name", "underlyings")}
    return {**head, "entries": entries, **lists(document, catalogue.COMMON_PARTS)}


def _in_order(item: Mapping[str, Any], declaration: Declaration) -> dict[str, Any]:
    picks = {
        name: _named(item[name], ("pick",), catalogue.picks(name)[item[name]["pick"]])
        for name in catalogue.PICKS
        if name in item
    }
    return {**_named(item, ("rule",), declaration), **picks, **{k: item[k] for k in ("off", "note", "id") if k in item}}


def _named(item: Mapping[str, Any], first: tuple[str, ...], declaration: Declaration) -> dict[str, Any]:
    values = {
        param.name: param.of_kind.written(param, item[param.name]) for param in declaration.params if param.name in item
    }
    return {**{key: item[key] for key in first if key in item}, **values}


def mirrored(document: Mapping[str, Any], only: str | None = None) -> dict[str, Any]:
    """The document with calls and puts, above and below exchanged, as declarations say; all of it, or
    the sentence whose id is ``only``."""
    out = copy.deepcopy(dict(document))
    for _, part, _, sentences in parts(out):
        known = catalogue.sentences(part)
        for sentence in sentences:
            if only in (None, sentence["id"]):
                _mirror(sentence, known[sentence["rule"]])
    return out


def with_entry_like(document: Mapping[str, Any], entry_id: str, mirror: bool = False) -> dict[str, Any]:
    """The document with one more entry behind ``entry_id``, which does as it does, ``mirror``: with calls and puts, above and
    below exchanged. Its legs have names of their own, and what the strategy's exits and adjustments say of the other's legs
    the new entry's own say of them. Not normalised yet; raises ``KeyError`` where there is no such entry."""
    out = copy.deepcopy(dict(document))
    place = next((n for n, entry in enumerate(out["entries"]) if entry["id"] == entry_id), None)
    if place is None:
        raise KeyError(entry_id)
    made = copy.deepcopy(out["entries"][place])
    made["id"] = _free(f"{entry_id}, mirrored" if mirror else entry_id, {entry["id"] for entry in out["entries"]})
    taken = {sentence["id"] for part in parts(out) for sentence in part.sentences}
    legs = {}
    for leg in made["legs"]:
        legs[leg["id"]] = _free(leg["id"], taken)
        taken.add(legs[leg["id"]])
    for part in ("leave", "adjust"):
        named = [item for item in out[part] if any(leg in legs for _, leg in legs_named(part, item))]
        made[part] += copy.deepcopy(named)
    for part in catalogue.ENTRY_PARTS:
        for sentence in made[part]:
            for path, leg in legs_named(part, sentence):
                _put(sentence, path, legs.get(leg, leg))
            sentence["id"] = legs.get(sentence["id"]) if part == "legs" else None
            if mirror:
                _mirror(sentence, catalogue.sentences(part)[sentence["rule"]])
    out["entries"].insert(place + 1, made)
    return out


def _free(name: str, taken: Collection[str]) -> str:
    """A name like this one that is not taken, with a number behind it where it is; an id's 40 characters at most."""
    numbered = (f"{name[:36].rstrip()} {number}" for number in count(2))
    return next(found for found in (name[:40], *islice(numbered, len(taken) + 1)) if found not in taken)


def _put(holder: Any, path: str, value: Any) -> None:
    *way, last = path.split("/")
    for bit in way:
        holder = holder[int(bit) if isinstance(holder, list) else bit]
    holder[int(last) if isinstance(holder, list) else last] = value


def _mirror(sentence: dict[str, Any], declaration: Declaration) -> None:
    for name, swap in declaration.mirror.items():
        sentence[name] = swap.get(sentence[name], sentence[name])
    for one, other in declaration.mirror_swaps:
        sentence[one], sentence[other] = sentence[other], sentence[one]

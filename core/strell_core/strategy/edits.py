"""Documents put in order, mirrored, and told apart by what they decide."""

from __future__ import annotations

import copy
import hashlib
import json
from collections.abc import Mapping
from typing import Any

from strell_core.measures.declaration import Declaration
from strell_core.strategy import catalogue
from strell_core.strategy.parts import parts, switched_on


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


def _mirror(sentence: dict[str, Any], declaration: Declaration) -> None:
    for name, swap in declaration.mirror.items():
        sentence[name] = swap.get(sentence[name], sentence[name])
    for one, other in declaration.mirror_swaps:
        sentence[one], sentence[other] = sentence[other], sentence[one]

"""The strategy document: parsing, validation, the typed form, and small edits.

A document is plain data (what a YAML or JSON file holds). Every sentence is a mapping with its
``rule``, its values, and optionally ``id``, ``off`` and ``note``; a leg has nested ``expiry`` and
``strike`` picks, each a mapping with ``pick`` and its values.
"""

from __future__ import annotations

import copy
import unicodedata
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from strell_core.measures.declaration import Declaration
from strell_core.strategy import catalogue

FORMAT = 1
RULE_KEYS = {"id", "rule", "off", "note"}
LIMITS = {"sentences": 80, "legs": 8, "name": 80, "note": 500}


@dataclass(frozen=True)
class Problem:
    """One thing wrong with a document. ``path`` leads to it, as in ``leave/0/percent``."""

    path: str
    message: str


class DocumentError(ValueError):
    """A document that cannot be used, with every problem found."""

    def __init__(self, problems: list[Problem]) -> None:
        super().__init__("; ".join(f"{p.path}: {p.message}" if p.path else p.message for p in problems))
        self.problems = problems


@dataclass(frozen=True)
class Rule:
    """One sentence that is switched on. ``params`` has every value, defaults filled in."""

    id: str
    kind: str
    params: Mapping[str, Any]


@dataclass(frozen=True)
class LegRule:
    id: str
    right: str
    contracts: int
    """Signed contracts a lot: short legs negative."""
    expiry: Rule
    strike: Rule


@dataclass(frozen=True)
class Strategy:
    """A valid strategy, typed; sentences that are off are left out."""

    name: str
    underlying: str
    enter: tuple[Rule, ...]
    legs: tuple[LegRule, ...]
    conditions: tuple[Rule, ...]
    size: Rule
    leave: tuple[Rule, ...]
    orders: Mapping[str, Mapping[str, Any]]
    """Values of every order rule, defaults where the document has no such sentence."""

    @property
    def decision_times(self) -> Rule:
        return next(rule for rule in self.enter if rule.kind == "decision_times")


def normalise(raw: Any) -> dict[str, Any]:
    """A complete copy of a document: ids given, defaults filled in. Raises :class:`DocumentError`."""
    problems: list[Problem] = []
    if not isinstance(raw, dict):
        raise DocumentError([Problem("", "a strategy file holds a mapping with strell, name, underlying and sections")])
    known = {"strell", "name", "underlying", "note", *catalogue.SECTIONS}
    problems += [
        Problem(str(key), f"'{key}' is not a part of a strategy; it has {', '.join(sorted(known))}")
        for key in raw
        if key not in known
    ]
    if raw.get("strell", FORMAT) != FORMAT:
        problems.append(Problem("strell", f"this file says version {raw.get('strell')}; known is {FORMAT}"))
    for key in ("name", "underlying"):
        if not isinstance(raw.get(key), str) or not raw[key].strip():
            problems.append(Problem(key, f"{key} is missing"))
        elif len(raw[key]) > LIMITS["name"]:
            problems.append(Problem(key, f"{key} is longer than {LIMITS['name']} characters"))
        elif _unshowable(raw[key]):
            problems.append(Problem(key, f"{key} holds a character that cannot be shown"))
    document: dict[str, Any] = {"strell": FORMAT, "name": raw.get("name"), "underlying": raw.get("underlying")}
    taken: set[str] = set()
    for section in catalogue.SECTIONS:
        document[section] = _section(section, raw.get(section), taken, problems)
    _give_ids(document, taken)
    if not problems:
        problems += _whole(document)
    if problems:
        raise DocumentError(problems)
    return document


def _section(section: str, raw: Any, taken: set[str], problems: list[Problem]) -> list[dict[str, Any]]:
    if raw is None:
        return []
    if not isinstance(raw, list):
        problems.append(Problem(section, f"{section} is a list of sentences"))
        return []
    if len(raw) > LIMITS["sentences"]:
        problems.append(Problem(section, f"at most {LIMITS['sentences']} sentences in a section"))
        return []
    known = catalogue.sentences(section)
    out = []
    for number, item in enumerate(raw):
        path = f"{section}/{number}"
        if not isinstance(item, dict):
            problems.append(Problem(path, "a sentence is a mapping with 'rule' and its values"))
            continue
        if item.get("rule") not in known:
            problems.append(
                Problem(f"{path}/rule", f"'{item.get('rule')}' is not known in {section}; there is {', '.join(known)}")
            )
            continue
        out.append(_sentence(path, item, known[item["rule"]], taken, problems))
    return out


def _sentence(
    path: str, item: dict[str, Any], declaration: Declaration, taken: set[str], problems: list[Problem]
) -> dict[str, Any]:
    is_leg = declaration.id == "leg"
    extra = set(catalogue.PICKS) if is_leg else set()
    values = {key: value for key, value in item.items() if key not in RULE_KEYS | extra}
    filled = {**declaration.defaults(), **values}
    problems += [Problem(f"{path}/{name}", message) for name, message in declaration.problems(filled)]
    sentence: dict[str, Any] = {"id": item.get("id"), "rule": declaration.id, **filled}
    for name in catalogue.PICKS if is_leg else ():
        sentence[name] = _pick(f"{path}/{name}", item.get(name), catalogue.picks(name), problems)
    key = item.get("id")
    if key is not None:
        if not isinstance(key, str) or not key or len(key) > 40:
            problems.append(Problem(f"{path}/id", "an id is a short text"))
        elif key in taken:
            problems.append(Problem(f"{path}/id", f"two sentences have the id '{key}'"))
        else:
            taken.add(key)
    if item.get("off") not in (None, True, False):
        problems.append(Problem(f"{path}/off", "off must be true or false"))
    elif item.get("off"):
        sentence["off"] = True
    note = item.get("note")
    if note is not None and (not isinstance(note, str) or len(note) > LIMITS["note"]):
        problems.append(Problem(f"{path}/note", f"a note is a text of at most {LIMITS['note']} characters"))
    elif note and _unshowable(note.replace("\n", "")):
        problems.append(Problem(f"{path}/note", "a note holds a character that cannot be shown"))
    elif note:
        sentence["note"] = note
    return sentence


def _pick(path: str, raw: Any, known: dict[str, Declaration], problems: list[Problem]) -> dict[str, Any]:
    if not isinstance(raw, dict) or raw.get("pick") not in known:
        given = raw.get("pick") if isinstance(raw, dict) else raw
        problems.append(Problem(f"{path}/pick", f"'{given}' is not known; there is {', '.join(known)}"))
        return {}
    declaration = known[raw["pick"]]
    filled = {**declaration.defaults(), **{key: value for key, value in raw.items() if key != "pick"}}
    problems += [Problem(f"{path}/{name}", message) for name, message in declaration.problems(filled)]
    return {"pick": declaration.id, **filled}


def _unshowable(text: str) -> bool:
    """Whether a text holds control characters, line separators or halves of characters."""
    return any(unicodedata.category(character) in ("Cc", "Cs", "Zl", "Zp") for character in text)


def _give_ids(document: dict[str, Any], taken: set[Any]) -> None:
    number = 1
    for section in catalogue.SECTIONS:
        for sentence in document[section]:
            if sentence["id"] is None:
                while f"s{number}" in taken:
                    number += 1
                sentence["id"] = f"s{number}"
                taken.add(f"s{number}")


def _whole(document: dict[str, Any]) -> list[Problem]:
    """Problems that only the whole document can have."""
    problems = []
    for section in catalogue.SECTIONS:
        known = catalogue.sentences(section)
        seen: set[str] = set()
        for number, sentence in enumerate(document[section]):
            if known[sentence["rule"]].once and sentence["rule"] in seen and not sentence.get("off"):
                problems.append(
                    Problem(
                        f"{section}/{number}", f"'{known[sentence['rule']].title}' can stand only once; switch one off"
                    )
                )
            if not sentence.get("off"):
                seen.add(sentence["rule"])
    if not any(s["rule"] == "decision_times" and not s.get("off") for s in document["enter"]):
        problems.append(Problem("enter", "say when to decide: add a 'Decision times' sentence"))
    legs = [(n, s) for n, s in enumerate(document["legs"]) if s["rule"] == "leg" and not s.get("off")]
    if not legs:
        problems.append(Problem("legs", "a strategy needs at least one leg"))
    if len(legs) > LIMITS["legs"]:
        problems.append(Problem("legs", f"at most {LIMITS['legs']} legs"))
    for rank, (number, leg) in enumerate(legs):
        pick = leg["expiry"]
        if rank == 0 and pick["pick"] != "nearest_days":
            problems.append(Problem(f"legs/{number}/expiry/pick", "the first leg chooses its expiration by days"))
        if pick["pick"] == "nearest_days" and pick["from"] > pick["to"]:
            problems.append(
                Problem(
                    f"legs/{number}/expiry/from",
                    f"the range of days ends before it starts: {pick['from']}–{pick['to']}",
                )
            )
    if not any(not s.get("off") for s in document["size"]):
        problems.append(Problem("size", "say how many lots: add a 'Lots' sentence"))
    return problems


def parse(raw: Any) -> Strategy:
    """A typed strategy from a document; raises :class:`DocumentError` with all problems."""
    document = normalise(raw)

    def rules(section: str) -> list[dict[str, Any]]:
        return [sentence for sentence in document[section] if not sentence.get("off")]

    legs = tuple(
        LegRule(
            item["id"], item["right"], item["ratio"] * (-1 if item["side"] == "sell" else 1),
            _as_rule(item["id"], item["expiry"]), _as_rule(item["id"], item["strike"]),
        )
        for item in rules("legs")
        if item["rule"] == "leg"
    )  # fmt: skip
    given = {item["rule"]: item for item in rules("orders")}
    orders = {}
    for kind, declaration in catalogue.sentences("orders").items():
        orders[kind] = {param.name: given.get(kind, {}).get(param.name, param.default) for param in declaration.params}
    return Strategy(
        document["name"], document["underlying"], tuple(_rule(item) for item in rules("enter")), legs,
        tuple(_rule(item) for item in rules("legs") if item["rule"] != "leg"), _rule(rules("size")[0]),
        tuple(_rule(item) for item in rules("leave")), orders,
    )  # fmt: skip


def _rule(item: dict[str, Any]) -> Rule:
    return Rule(item["id"], item["rule"], {key: value for key, value in item.items() if key not in RULE_KEYS})


def _as_rule(leg_id: str, pick: dict[str, Any]) -> Rule:
    return Rule(leg_id, pick["pick"], {key: value for key, value in pick.items() if key != "pick"})


def in_order(document: Mapping[str, Any]) -> dict[str, Any]:
    """A normalised document with its keys as a person would write them; the content is the same."""
    head = {key: document[key] for key in ("strell", "name", "underlying")}
    sections = {}
    for section in catalogue.SECTIONS:
        known = catalogue.sentences(section)
        sections[section] = [_in_order(item, known[item["rule"]]) for item in document[section]]
    return {**head, **sections}


def _in_order(item: Mapping[str, Any], declaration: Declaration) -> dict[str, Any]:
    picks = {
        name: _named(item[name], ("pick",), catalogue.picks(name)[item[name]["pick"]])
        for name in catalogue.PICKS
        if name in item
    }
    return {**_named(item, ("rule",), declaration), **picks, **{k: item[k] for k in ("off", "note", "id") if k in item}}


def _named(item: Mapping[str, Any], first: tuple[str, ...], declaration: Declaration) -> dict[str, Any]:
    return {key: item[key] for key in (*first, *(param.name for param in declaration.params)) if key in item}


def mirrored(document: Mapping[str, Any], only: str | None = None) -> dict[str, Any]:
    """The document with calls and puts, above and below exchanged, as declarations say; all of it, or
    the sentence whose id is ``only``."""
    out = copy.deepcopy(dict(document))
    for section in catalogue.SECTIONS:
        known = catalogue.sentences(section)
        for sentence in out[section]:
            if only in (None, sentence["id"]):
                _mirror(sentence, known[sentence["rule"]])
    return out


def _mirror(sentence: dict[str, Any], declaration: Declaration) -> None:
    for name, swap in declaration.mirror.items():
        sentence[name] = swap.get(sentence[name], sentence[name])
    for one, other in declaration.mirror_swaps:
        sentence[one], sentence[other] = sentence[other], sentence[one]

"""The strategy document: parsing, validation, the typed form, and small edits.

A document is plain data (what a YAML or JSON file holds). It has entries, each with its lists of sentences (when,
conditions, legs, checks, size, and exits and adjustments of its own), and lists for the whole strategy (leave,
adjust, limits, orders). Every sentence is a mapping with its ``rule``, its values, and optionally ``id``, ``off`` and
``note``; a leg has nested ``expiry`` and ``strike`` picks, each a mapping with ``pick`` and its values.
"""

from __future__ import annotations

import unicodedata
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, TypeVar

from strell_core.market.instruments import UNIT
from strell_core.measures.declaration import Declaration, known_words
from strell_core.strategy import catalogue, kinds
from strell_core.strategy.parts import LIMITS, Problem, parts, switched_on
from strell_core.strategy.upgrades import FORMAT, upgraded
from strell_core.strategy.whole import whole

T = TypeVar("T")
RULE_KEYS = {"id", "rule", "off", "note"}


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

    @cached_property
    def says(self) -> str:
        """The same for all that say the same, whatever they are called."""
        return f"{self.kind} {sorted(self.params.items())}"


@dataclass(frozen=True)
class LegRule:
    id: str
    right: str
    contracts: int
    """Signed contracts a lot: short legs negative."""
    expiry: Rule | None
    """With ``strike``: how its contract is picked; nothing where the underlying itself is the leg."""
    strike: Rule | None
    optional: bool = False
    """The entry goes on without it where nothing fits."""

    @cached_property
    def says(self) -> str:
        """The same for all legs of one name that say the same."""
        picks = [rule.says for rule in (self.expiry, self.strike) if rule is not None]
        return f"{self.id} {self.right} {self.contracts} {self.optional} {picks}"


@dataclass(frozen=True)
class Entry:
    """One way into a trade: when it is looked at, what must hold, what is picked, how much."""

    id: str
    underlying: str
    schedules: tuple[Rule, ...]
    conditions: tuple[Rule, ...]
    legs: tuple[LegRule, ...]
    checks: tuple[Rule, ...]
    """On the legs picked."""
    size: Rule
    leave: tuple[Rule, ...] = ()
    """Exits of its trades beside the strategy's."""
    adjust: tuple[Rule, ...] = ()
    later: tuple[LegRule, ...] = ()
    """Legs that adjustments open."""
    keeps: str = ""
    """As which leg units that are delivered stay; nothing: they do not."""

    @cached_property
    def schedule(self) -> Rule:
        """The sentence that entries are said to be due by."""
        return next(rule for rule in self.schedules if kinds.schedules[rule.kind].of(rule.params).decides)


@dataclass(frozen=True)
class Strategy:
    """A valid strategy, typed; sentences that are off are left out."""

    name: str
    underlyings: tuple[str, ...]
    """The first is the one whose snapshots are the clock."""
    entries: tuple[Entry, ...]
    """At least one, in the sheet's order."""
    leave: tuple[Rule, ...]
    orders: Mapping[str, Mapping[str, Any]]
    """Values of every order rule, defaults where the document has no such sentence."""
    adjust: tuple[Rule, ...] = ()
    limits: Mapping[str, Rule] = field(default_factory=dict)
    """Limit rules that stand once, by kind, defaults where the document has no such sentence; these have no id."""
    guards: tuple[Rule, ...] = ()
    """Limits on conditions, in the sheet's order."""
    working: Mapping[str, Rule] = field(default_factory=dict)
    """Sentences on how limit orders are worked, by kind; without any all legs are dealt at once, on the first quotes."""

    @property
    def underlying(self) -> str:
        """The one whose snapshots are the clock."""
        return self.underlyings[0]

    @property
    def traded(self) -> tuple[str, ...]:
        """Underlyings that an entry trades, in the document's order."""
        wanted = {entry.underlying for entry in self.entries}
        return tuple(symbol for symbol in self.underlyings if symbol in wanted)


def clock_of(document: Mapping[str, Any]) -> str:
    """Symbol of the underlying whose snapshots are a normalised document's clock."""
    return str(document["underlyings"][0])


def normalise(raw: Any) -> dict[str, Any]:
    """A complete copy of a document, of any format: ids given, defaults filled in, in the present format. Raises
    :class:`DocumentError` with paths that lead into what was given."""
    if not isinstance(raw, dict):
        raise DocumentError([Problem("", "a strategy file holds a mapping with strell, name, underlyings and entries")])
    version = raw.get("strell", FORMAT)
    if type(version) is not int or not 1 <= version <= FORMAT:
        raise DocumentError(
            [Problem("strell", f"this file says version {str(version)[:20]}; known are the numbers 1 to {FORMAT}")]
        )
    given, places = upgraded(raw)
    problems: list[Problem] = []
    document = _checked(given, problems)
    if problems:
        raise DocumentError([Problem(_stood(problem.path, places), problem.message) for problem in problems])
    return document


def written(raw: Any) -> dict[str, Any]:
    """A document as a person writes it: normalised, and without wishes that nothing can meet. What is stored already is
    read by :func:`normalise` alone and goes on meaning what it meant. Raises :class:`DocumentError`."""
    document = normalise(raw)
    _raise(_unmet(document))
    return document


def revised(document: dict[str, Any]) -> dict[str, Any]:
    """A normalised document in which values were put in others' place that their sentences allow: as :func:`written`,
    without asking again what each says by itself."""
    _raise([*whole(document), *_unmet(document)])
    return document


def _unmet(document: Mapping[str, Any]) -> list[Problem]:
    """Wishes that nothing can meet."""
    return [
        Problem(
            f"entries/{place}/legs/{number}/expiry/days",
            f"{pick['days']} days lie outside of {pick['from']}–{pick['to']}, within which an expiration is looked for",
        )
        for place, entry in enumerate(document["entries"])
        for number, leg in switched_on(entry["legs"])
        if (pick := leg.get("expiry", {})).get("pick") == "nearest_days"
        and not pick["from"] <= pick["days"] <= pick["to"]
    ]


def _raise(problems: list[Problem]) -> None:
    if problems:
        raise DocumentError(problems)


def _stood(path: str, places: Mapping[str, str]) -> str:
    """A path as it was in what was given, before it was upgraded."""
    bits = path.split("/")
    for length in range(len(bits), 0, -1):
        before = places.get("/".join(bits[:length]))
        if before is not None:
            return "/".join([before, *bits[length:]])
    return path


def _checked(raw: dict[str, Any], problems: list[Problem]) -> dict[str, Any]:
    known = {"strell", "name", "underlyings", "note", "entries", *catalogue.COMMON_PARTS}
    _unknown("", raw, known, "a strategy", problems)
    _text("name", raw.get("name"), problems)
    symbols = raw.get("underlyings")
    if not isinstance(symbols, list) or not symbols:
        problems.append(Problem("underlyings", "underlying is missing"))
    elif len(symbols) > LIMITS["underlyings"]:
        problems.append(Problem("underlyings", f"at most {LIMITS['underlyings']} underlyings"))
    else:
        for number, symbol in enumerate(symbols):
            _text(f"underlyings/{number}" if len(symbols) > 1 else "underlyings", symbol, problems, "underlying")
            if symbol in symbols[:number]:
                problems.append(Problem(f"underlyings/{number}", f"{symbol} is there twice"))
    document: dict[str, Any] = {"strell": FORMAT, "name": raw.get("name"), "underlyings": symbols}
    taken: set[str] = set()
    document["entries"] = _entries(raw.get("entries"), symbols, taken, problems)
    for part in catalogue.COMMON_PARTS:
        document[part] = _list(part, part, raw.get(part), taken, problems)
    if not problems:
        _give_ids(document, taken)
        problems += whole(document)
    return document


def _unknown(path: str, raw: Mapping[str, Any], known: set[str], what: str, problems: list[Problem]) -> None:
    problems += [
        Problem(
            f"{path}{str(key)[:60]}", f"'{str(key)[:60]}' is not a part of {what}; it has {', '.join(sorted(known))}"
        )
        for key in list(raw)[: LIMITS["unknown"]]
        if key not in known
    ]


def _text(path: str, value: Any, problems: list[Problem], called: str = "") -> None:
    called = called or path
    if not isinstance(value, str) or not value.strip():
        problems.append(Problem(path, f"{called} is missing"))
    elif len(value) > LIMITS["name"]:
        problems.append(Problem(path, f"{called} is longer than {LIMITS['name']} characters"))
    elif _unshowable(value):
        problems.append(Problem(path, f"{called} holds a character that cannot be shown"))


def _entries(raw: Any, symbols: Any, taken: set[str], problems: list[Problem]) -> list[dict[str, Any]]:
    if not isinstance(raw, list) or not raw:
        problems.append(Problem("entries", "a strategy has at least one entry"))
        return []
    if len(raw) > LIMITS["entries"]:
        problems.append(Problem("entries", f"at most {LIMITS['entries']} entries"))
        return []
    out, named = [], set()
    for number, item in enumerate(raw):
        path = f"entries/{number}"
        if not isinstance(item, dict):
            problems.append(Problem(path, f"an entry is a mapping with {', '.join(catalogue.ENTRY_PARTS)}"))
            continue
        _unknown(f"{path}/", item, {"id", "underlying", *catalogue.ENTRY_PARTS}, "an entry", problems)
        key = item.get("id", "entry" if len(raw) == 1 else f"entry {number + 1}")
        if not isinstance(key, str) or not key or len(key) > 40 or _unshowable(key):
            problems.append(Problem(f"{path}/id", "an entry's id is a short text"))
        elif key in named:
            problems.append(Problem(f"{path}/id", f"two entries have the id '{key}'"))
        else:
            named.add(key)
        entry: dict[str, Any] = {"id": key}
        if item.get("underlying") is not None:
            if not isinstance(symbols, list) or item["underlying"] not in symbols:
                known = ", ".join(str(symbol)[:40] for symbol in symbols) if isinstance(symbols, list) else "none"
                problems.append(
                    Problem(f"{path}/underlying", f"an entry trades an underlying of the strategy; it has {known}")
                )
            entry["underlying"] = item["underlying"]
        for part in catalogue.ENTRY_PARTS:
            entry[part] = _list(f"{path}/{part}", part, item.get(part), taken, problems)
        out.append(entry)
    return out


def _list(path: str, part: str, raw: Any, taken: set[str], problems: list[Problem]) -> list[dict[str, Any]]:
    if raw is None:
        return []
    if not isinstance(raw, list):
        problems.append(Problem(path, f"{part} is a list of sentences"))
        return []
    if len(raw) > LIMITS["sentences"]:
        problems.append(Problem(path, f"at most {LIMITS['sentences']} sentences in a section"))
        return []
    known = catalogue.sentences(part)
    out = []
    for number, item in enumerate(raw):
        place = f"{path}/{number}"
        if not isinstance(item, dict):
            problems.append(Problem(place, "a sentence is a mapping with 'rule' and its values"))
            continue
        if not isinstance(item.get("rule"), str) or item["rule"] not in known:
            there = known_words(item.get("rule"), known)
            problems.append(Problem(f"{place}/rule", f"'{str(item.get('rule'))[:60]}' is not known in {part}; {there}"))
            continue
        out.append(_sentence(place, item, known[item["rule"]], taken, problems))
    return out


def _sentence(
    path: str, item: dict[str, Any], declaration: Declaration, taken: set[str], problems: list[Problem]
) -> dict[str, Any]:
    is_leg = declaration.id in catalogue.OPTION_LEGS
    extra = set(catalogue.PICKS) if is_leg else set()
    values = {key: value for key, value in item.items() if key not in RULE_KEYS | extra}
    filled = declaration.normal({**declaration.defaults(), **values})
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


def _pick(path: str, raw: Any, known: Mapping[str, Declaration], problems: list[Problem]) -> dict[str, Any]:
    given = raw.get("pick") if isinstance(raw, dict) else raw
    if not isinstance(raw, dict) or not isinstance(given, str) or given not in known:
        problems.append(Problem(f"{path}/pick", f"'{str(given)[:60]}' is not known; {known_words(given, known)}"))
        return {}
    declaration = known[raw["pick"]]
    filled = declaration.normal(
        {**declaration.defaults(), **{key: value for key, value in raw.items() if key != "pick"}}
    )
    problems += [Problem(f"{path}/{name}", message) for name, message in declaration.problems(filled)]
    return {"pick": declaration.id, **filled}


def _unshowable(text: str) -> bool:
    """Whether a text holds control characters, line separators or halves of characters."""
    return any(unicodedata.category(character) in ("Cc", "Cs", "Zl", "Zp") for character in text)


def _give_ids(document: dict[str, Any], taken: set[Any]) -> None:
    number = 1
    for part in parts(document):
        for sentence in part.sentences:
            if sentence["id"] is None:
                while f"s{number}" in taken:
                    number += 1
                sentence["id"] = f"s{number}"
                taken.add(f"s{number}")


def parse(raw: Any) -> Strategy:
    """A typed strategy from a document of any format; raises :class:`DocumentError` with all problems."""
    return typed(normalise(raw))


Made = dict[int, tuple[Any, Any]]
"""By the identity of a part of a document, that part and what was made of it."""


def typed(document: dict[str, Any], known: Made | None = None) -> Strategy:
    """A typed strategy from a normalised document. ``known``: what was made of parts of others, which nobody changes any more;
    what this one shares with them is not made again."""
    made: Made = {} if known is None else known

    def once(part: Any, make: Callable[[], T]) -> T:
        if id(part) not in made:
            made[id(part)] = part, make()
        found: T = made[id(part)][1]
        return found

    def rules(sentences: list[dict[str, Any]]) -> tuple[Rule, ...]:
        return tuple(once(item, lambda item=item: _rule(item)) for _, item in switched_on(sentences))  # type: ignore[misc]

    def entry(item: dict[str, Any]) -> Entry:
        on = [leg for _, leg in switched_on(item["legs"])]
        kept, later = catalogue.KEPT_UNITS.id, catalogue.LATER_LEG.id
        legs = {leg["id"]: once(leg, lambda leg=leg: _of_leg(leg)) for leg in on if leg["rule"] != kept}  # type: ignore[misc]
        return Entry(
            item["id"], item.get("underlying", document["underlyings"][0]), rules(item["when"]),
            rules(item["conditions"]), tuple(legs[leg["id"]] for leg in on if leg["rule"] not in (kept, later)),
            rules(item["checks"]), rules(item["size"])[0], rules(item["leave"]), rules(item["adjust"]),
            tuple(legs[leg["id"]] for leg in on if leg["rule"] == later),
            next((leg["id"] for leg in on if leg["rule"] == kept), ""),
        )  # fmt: skip

    def settings(part: str) -> dict[str, Rule]:
        return once(document[part], lambda: _settings(part, document[part]))

    orders = {kind: rule.params for kind, rule in settings("orders").items() if kinds.order_rules[kind].default}
    working = {rule.kind: rule for rule in rules(document["orders"]) if not kinds.order_rules[rule.kind].default}
    return Strategy(
        document["name"], tuple(document["underlyings"]), tuple(entry(item) for item in document["entries"]),
        rules(document["leave"]), orders, rules(document["adjust"]), settings("limits"),
        tuple(rule for rule in rules(document["limits"]) if not catalogue.sentences("limits")[rule.kind].once), working,
    )  # fmt: skip


def _of_leg(leg: dict[str, Any]) -> LegRule:
    def picked(name: str) -> Rule | None:
        return _as_rule(leg["id"], leg[name]) if name in leg else None

    return LegRule(
        leg["id"], leg.get("right", UNIT), leg["ratio"] * (-1 if leg["side"] == "sell" else 1), picked("expiry"),
        picked("strike"), leg["rule"] == catalogue.OPTIONAL_LEG.id,
    )  # fmt: skip


def _settings(part: str, sentences: list[dict[str, Any]]) -> dict[str, Rule]:
    """Rules that stand once, by kind, defaults where there is no such sentence."""
    given = {item["rule"]: item for _, item in switched_on(sentences)}
    return {
        kind: _rule(given.get(kind, {"id": "", "rule": kind, **declaration.defaults()}))
        for kind, declaration in catalogue.sentences(part).items()
        if declaration.once
    }


def _rule(item: dict[str, Any]) -> Rule:
    return Rule(item["id"], item["rule"], {key: value for key, value in item.items() if key not in RULE_KEYS})


def _as_rule(leg_id: str, pick: dict[str, Any]) -> Rule:
    return Rule(leg_id, pick["pick"], {key: value for key, value in pick.items() if key != "pick"})

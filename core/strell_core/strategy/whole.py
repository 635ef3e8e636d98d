"""What only the whole document can have wrong: sentences that do not go together, names of what is not there."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from strell_core.measures.declaration import Declaration
from strell_core.measures.params import NAMES
from strell_core.measures.values import declared_in
from strell_core.strategy import catalogue, conditions, kinds
from strell_core.strategy.parts import LIMITS, Problem, parts, switched_on


def whole(document: dict[str, Any]) -> list[Problem]:
    """Problems that only the whole document can have."""
    problems = []
    for path, part, _, sentences in parts(document):
        known = catalogue.sentences(part)
        seen: set[str] = set()
        for number, sentence in switched_on(sentences):
            if known[sentence["rule"]].once and sentence["rule"] in seen:
                title = known[sentence["rule"]].title
                problems.append(Problem(f"{path}/{number}", f"'{title}' can stand only once; switch one off"))
            seen.add(sentence["rule"])
    problems += _references(document)
    for place, entry in enumerate(document["entries"]):
        path = f"entries/{place}"
        # that picks are kept says nothing of when they are made
        if not any(kinds.schedules[item["rule"]].of(item).decides for _, item in switched_on(entry["when"])):
            problems.append(Problem(f"{path}/when", "say when to decide: add a 'Decision times' sentence"))
        both = switched_on(entry["legs"])
        legs = [(number, leg) for number, leg in both if leg["rule"] in catalogue.OPTION_LEGS]
        now = [leg for leg in legs if leg[1]["rule"] != catalogue.LATER_LEG.id]
        if not now:
            problems.append(Problem(f"{path}/legs", "a strategy needs at least one leg that is an option"))
        if len(both) > LIMITS["legs"]:
            problems.append(Problem(f"{path}/legs", f"at most {LIMITS['legs']} legs"))
        if len(both) - len(legs) > 1:
            problems.append(Problem(f"{path}/legs", "the underlying itself can be one leg; switch the others off"))
        for rank, (number, leg) in enumerate(legs):
            pick = leg["expiry"]
            if now and now[0][0] == number and not kinds.expiry_picks[pick["pick"]].stands_alone:
                problems.append(
                    Problem(
                        f"{path}/legs/{number}/expiry/pick", "the first leg cannot choose its expiration by another leg"
                    )
                )
            before = {leg["id"] for _, leg in legs[:rank]}
            problems += [
                Problem(f"{path}/legs/{number}/{name}/{at}", "it can only go by a leg that stands before it")
                for name in catalogue.PICKS
                for at, kind, of in names_in(catalogue.picks(name)[leg[name]["pick"]], leg[name])
                if kind == "leg" and of not in before
            ]
            problems += [
                Problem(
                    f"{path}/legs/{number}/strike/{param.name}",
                    f"'{title}' is only known in an open trade: of a leg that is opened later",
                )
                for param in catalogue.picks("strike")[leg["strike"]["pick"]].params
                if param.kind == "value" and leg["rule"] != catalogue.LATER_LEG.id
                for title in [d.title for d in declared_in(leg["strike"][param.name]) if d.scope == "position"]
            ]
            if pick["pick"] == "nearest_days" and pick["from"] > pick["to"]:
                problems.append(
                    Problem(
                        f"{path}/legs/{number}/expiry/from",
                        f"the range of days ends before it starts: {pick['from']}–{pick['to']}",
                    )
                )
        sizes = switched_on(entry["size"])
        if not sizes:
            problems.append(Problem(f"{path}/size", "say how many lots: add a 'Lots' sentence"))
        if len(sizes) > 1:
            problems.append(Problem(f"{path}/size/{sizes[1][0]}", "two sentences say how many lots; switch one off"))
    return problems


def named_in(document: Mapping[str, Any], wanted: str) -> list[tuple[str, str]]:
    """``(path, name)`` of everything of a kind (leg, entry, underlying, series) that a document's sentences name."""
    return [
        (f"{path}/{number}/{at}", name)
        for path, part, _, sentences in parts(document)
        for number, sentence in switched_on(sentences)
        for at, kind, name in names_in(catalogue.sentences(part)[sentence["rule"]], sentence)
        if kind == wanted
    ]


def legs_named(part: str, sentence: Mapping[str, Any]) -> list[tuple[str, str]]:
    """``(path, leg)`` within a sentence of everything that names a leg, a pick that goes by one among them."""
    declaration = catalogue.sentences(part)[sentence["rule"]]
    found = [(path, name) for path, kind, name in names_in(declaration, sentence) if kind == "leg"]
    for name in catalogue.PICKS if declaration.id in catalogue.OPTION_LEGS else ():
        pick = sentence[name]
        inside = names_in(catalogue.picks(name)[pick["pick"]], pick)
        found += [(f"{name}/{path}", leg) for path, kind, leg in inside if kind == "leg"]
    return found


def _references(document: dict[str, Any]) -> list[Problem]:
    """What names a leg or an underlying that is not there, and comparisons that cannot be made."""
    out: list[Problem] = []
    legs = {entry["id"]: {leg["id"] for _, leg in switched_on(entry["legs"])} for entry in document["entries"]}
    every = {leg for found in legs.values() for leg in found}
    for path, part, owner, sentences in parts(document):
        there = legs[owner] if owner else every
        for number, sentence in switched_on(sentences):
            declaration = catalogue.sentences(part)[sentence["rule"]]
            place = f"{path}/{number}"
            for at, kind, name in names_in(declaration, sentence):
                if kind == "leg" and name not in there:
                    out.append(Problem(f"{place}/{at}", f"there is no leg '{name}' any more; choose another one"))
                if kind == "entry" and name not in legs:
                    known = ", ".join(f"“{entry}”" for entry in legs)
                    out.append(Problem(f"{place}/{at}", f"there is no entry “{name}”; the strategy has {known}"))
                if kind == "underlying" and name not in document["underlyings"]:
                    known = ", ".join(document["underlyings"])
                    out.append(Problem(f"{place}/{at}", f"'{name}' is no underlying of the strategy; it has {known}"))
            if {"left", "is", "right"} <= set(sentence):
                scopes = next(param.scopes for param in declaration.params if param.name == "left")
                out += [Problem(f"{place}/{at}", wrong) for at, wrong in conditions.problems(sentence, scopes)]
    return out


def names_in(declaration: Declaration, holder: Mapping[str, Any]) -> Iterator[tuple[str, str, str]]:
    """``(path, kind, name)`` of everything that a sentence or value names in the document."""
    for param in declaration.naming:
        value = holder.get(param.name)
        if value is None:
            continue
        if param.kind in NAMES:
            yield param.name, param.kind, str(value)
        for at, inner, values in param.of_kind.within(param, value):
            for path, kind, name in names_in(inner, values):
                yield "/".join(part for part in (param.name, at, path) if part), kind, name
    for pick in catalogue.PICKS if declaration.id in catalogue.OPTION_LEGS else ():
        # which leg a pick may go by is asked where legs are in their order
        found = names_in(catalogue.picks(pick)[holder[pick]["pick"]], holder[pick])
        yield from ((f"{pick}/{path}", kind, name) for path, kind, name in found if kind != "leg")

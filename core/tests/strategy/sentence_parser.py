"""A document from its sentences alone: every declaration's template read backwards, with all that may stand in it."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from strell_core.measures import values
from strell_core.measures.declaration import Declaration
from strell_core.measures.measure import UNDERLYING
from strell_core.measures.params import WEEKDAY_NAMES, Param
from strell_core.strategy import catalogue
from strell_core.strategy.conditions import further
from strell_core.strategy.sentences import Sheet

_BRACES = re.compile(r"\{(\w+)(?:\|([^|}]*)\|([^}]*))?\}")
_DAY = "|".join(WEEKDAY_NAMES.values())
_DAYS = re.compile(rf"(?:{_DAY})(?:, (?:{_DAY}))*(?: and (?:{_DAY}))?")
_NUMBER = re.compile(r"\u2212?\d+(?:\.\d+)?")
_WHOLE = re.compile(r"\u2212?\d+(?!\.?\d)")
_AMOUNT = re.compile("\u2212?[\\d\u00a0]+(?:\\.\\d+)?(?:e[+\u2212]?\\d+)?")
_SYMBOL = re.compile(r" of ([A-Z0-9.^_-]+)")
Found = tuple[Any, int]


@dataclass
class Reader:
    """Reads one text. ``legs``: ids by the number of their sentence."""

    text: str
    legs: dict[int, str]
    memo: dict[Any, list[Found]] = field(default_factory=dict)

    def whole(self, declaration: Declaration, key: str) -> Iterator[dict[str, Any]]:
        for made, at in self.declared(declaration, 0, (), 1):
            if at == len(self.text):
                yield {key: declaration.id, **made}

    def declared(
        self, declaration: Declaration, at: int, scopes: tuple[str, ...], depth: int
    ) -> Iterator[tuple[dict[str, Any], int]]:
        pieces, last = [], 0
        for match in _BRACES.finditer(declaration.sentence):
            pieces += [declaration.sentence[last : match.start()], match.groups()]
            last = match.end()
        pieces.append(declaration.sentence[last:])
        yield from self.pieces(declaration, pieces, at, scopes, depth)

    def pieces(
        self, declaration: Declaration, pieces: list[Any], at: int, scopes: tuple[str, ...], depth: int
    ) -> Iterator[tuple[dict[str, Any], int]]:  # fmt: skip
        if not pieces:
            yield {}, at
            return
        first, rest = pieces[0], pieces[1:]
        if isinstance(first, str):
            if self.text.startswith(first, at):
                yield from self.pieces(declaration, rest, at + len(first), scopes, depth)
            return
        name, one, many = first
        for made, after in self.place(declaration, name, at, scopes, depth):
            for word in [""] if one is None else [f" {one}", f" {many}"]:
                if not self.text.startswith(word, after):
                    continue
                for others, end in self.pieces(declaration, rest, after + len(word), scopes, depth):
                    if others.get(name, made.get(name)) == made.get(name):  # a value may be said twice
                        yield {**made, **others}, end

    def place(
        self, declaration: Declaration, name: str, at: int, scopes: tuple[str, ...], depth: int
    ) -> Iterator[tuple[dict[str, Any], int]]:
        """What may stand in a template's brace: one value of the mapping, or several for what was added."""
        if declaration.id in catalogue.OPTION_LEGS and name in catalogue.PICKS:
            for pick in catalogue.picks(name).values():
                for made, end in self.declared(pick, at, (), depth):
                    yield {name: {"pick": pick.id, **made}}, end
            return
        param = declaration.param(name)
        if param.optional and param.begins is not None:
            yield {}, at
            yield from self.added(param, at)
            return
        for value, end in self.value(param, at, scopes, depth):
            yield {name: value}, end

    def added(self, param: Param, at: int) -> Iterator[tuple[dict[str, Any], int]]:
        if param.kind == "snapshots":
            match = re.compile(r" for (\d+) snapshots in a row").match(self.text, at)
            if match:
                yield {param.name: int(match[1])}, match.end()
        elif param.kind == "condition":
            if self.text.startswith(param.leads, at):
                for made, end in self.declared(further(param.scopes), at + len(param.leads), param.scopes, 1):
                    yield {param.name: made}, end
        elif param.kind == "daily":
            match = re.compile(r", looked at every day at (\d\d:\d\d)").match(self.text, at)
            if match:
                yield {param.name: match[1]}, match.end()
        elif param.kind == "choice":
            for key, words in param.choices.items():
                said = (param.leads or " ") + words
                if self.text.startswith(said, at):
                    yield {param.name: key}, at + len(said)
        else:
            for join in ("and", "or"):
                for items, end in self.several(param, join, at):
                    yield {param.name: items, "join": join}, end

    def several(self, param: Param, join: str, at: int) -> Iterator[tuple[list[Any], int]]:
        if not self.text.startswith(f" {join} ", at):
            return
        for made, end in self.declared(further(param.scopes), at + len(join) + 2, param.scopes, 1):
            yield [made], end
            for more, last in self.several(param, join, end):
                yield [made, *more], last

    def value(self, param: Param, at: int, scopes: tuple[str, ...], depth: int) -> Iterator[Found]:
        if param.kind == "value":
            yield from self.measured(param.scopes or scopes, at, depth)
        elif param.by_sign is not None:
            yield from self.said(param, at)
        elif param.kind in ("integer", "number"):
            match = (_NUMBER if param.kind == "number" else _WHOLE).match(self.text, at)
            unit = f" {param.unit}" if param.unit else ""
            if match and self.text.startswith(unit, match.end()):
                told = match[0].replace("\u2212", "-")
                yield float(told) if param.kind == "number" else int(told), match.end() + len(unit)
        elif param.kind == "tolerance":
            match = re.compile(r"\d+ %").match(self.text, at)
            if match:
                yield match[0], match.end()
            elif number := _NUMBER.match(self.text, at):
                yield float(number[0]), number.end()
        elif param.kind == "amount":
            match = _AMOUNT.match(self.text, at)
            if match:
                yield float(match[0].replace("\u00a0", "").replace("\u2212", "-")), match.end()
        elif param.kind == "choice":
            for key, words in param.choices.items():
                if self.text.startswith(words, at):
                    yield key, at + len(words)
        elif param.kind == "weekdays":
            match = _DAYS.match(self.text, at)
            if match:
                yield [key for key, day in WEEKDAY_NAMES.items() if day in match[0]], match.end()
        elif param.kind == "time":
            yield self.text[at : at + 5], at + 5
        elif param.kind == "leg":
            match = re.compile(r"leg (\d+)").match(self.text, at)
            if match and int(match[1]) in self.legs:
                yield self.legs[int(match[1])], match.end()
        else:
            assert param.kind in ("words", "series", "entry"), param.kind
            match = re.compile("“([^”]+)”").match(self.text, at)
            if match:
                yield match[1], match.end()

    def said(self, param: Param, at: int) -> Iterator[Found]:
        """A number whose words depend on its sign."""
        for sign, words in zip((1, 0, -1), param.by_sign or (), strict=True):
            unit = f" {re.escape(param.unit)}" if param.unit else ""
            size = rf"(?P<n>[\d\u00a0]+(?:\.\d+)?){unit}"
            made = re.escape(words).replace(r"\{n\}", size)
            counted = re.compile(r"\\\{n\\\|(.*?)\\\|(.*?)\\\}").search(made)
            if counted:
                made = made.replace(counted[0], f"{size} (?:{counted[2]}|{counted[1]})")
            match = re.compile(made).match(self.text, at)
            if match and sign:
                number = sign * float(match["n"].replace("\u00a0", ""))
                yield int(number) if param.kind == "integer" else number, match.end()
            elif match:
                yield 0 if param.kind == "integer" else 0.0, match.end()

    def measured(self, scopes: tuple[str, ...], at: int, depth: int) -> list[Found]:
        key = scopes, at, depth
        if key not in self.memo:
            self.memo[key] = list(self._measured(scopes, at, depth)) if depth <= values.DEEPEST else []
        return self.memo[key]

    def _measured(self, scopes: tuple[str, ...], at: int, depth: int) -> Iterator[Found]:
        for measure in values.allowed(scopes):
            declaration = measure.declaration
            for made, end in self.declared(declaration, at, scopes, depth + 1):
                yield {"measure": declaration.id, **made}, end
                named = _SYMBOL.match(self.text, end)
                if named and any(param.name == UNDERLYING for param in declaration.params):
                    yield {"measure": declaration.id, **made, UNDERLYING: named[1]}, named.end()


@dataclass(frozen=True)
class Read:
    """Every document part that a sheet's sentences can mean."""

    sheet: Sheet

    @cached_property
    def legs(self) -> dict[int, str]:
        return {item.number: item.id for item in self.sheet.sentences if item.part == "legs"}

    def of(self, part: str, text: str) -> list[dict[str, Any]]:
        """All that a sentence of a part can mean."""
        reader, out = Reader(text, self.legs), []
        for declaration in catalogue.sentences(part).values():
            for made in reader.whole(declaration, "rule"):
                if made not in out:
                    out.append(made)
        return out

"""Sentences of a strategy: text with values that lead back to their place in the document."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from strell_core.measures.declaration import Declaration
from strell_core.measures.measure import UNDERLYING
from strell_core.measures.params import Param
from strell_core.measures.values import family as value_family
from strell_core.measures.values import measure_of
from strell_core.strategy import catalogue
from strell_core.strategy.parts import parts
from strell_core.strategy.remarks import remarks

_BRACES = re.compile(r"\{(\w+)(?:\|([^|}]*)\|([^}]*))?\}")


@dataclass(frozen=True)
class Token:
    """A piece of a sentence. ``path`` is empty for plain text, else where the value stands."""

    text: str
    path: str = ""
    family: str = ""
    """What may stand in its place: strikes, expirations, values of something; nothing: it is the sentence's own."""
    of: str = ""
    """Of the family, which it is a value of."""
    piece: str = ""
    """Where something stands that was added to the sentence and can be left out again, this with it."""


@dataclass(frozen=True)
class Sentence:
    id: str
    number: int
    section: str
    """Of the sheet."""
    part: str
    """The document's list it stands in, and where that is."""
    path: str
    entry: str
    """Whose sentence it is; empty: the whole strategy's."""
    rule: str
    index: int
    """Place within its list."""
    tokens: tuple[Token, ...]
    off: bool = False
    note: str = ""
    remark: str = ""
    """What stands in the way of it, see :func:`strell_core.strategy.remarks.remarks`."""

    @property
    def text(self) -> str:
        return "".join(token.text for token in self.tokens)


@dataclass(frozen=True)
class Block:
    """A section of the sheet, of an entry where there are several: its title, and the lists sentences are added to,
    each by the name of its part."""

    section: str
    title: str
    entry: str
    lists: dict[str, str]
    underlying: str = ""
    """Which its entry trades, where a strategy has several; nothing in a section that is no entry's."""


@dataclass(frozen=True)
class Sheet:
    sentences: tuple[Sentence, ...] = field(default_factory=tuple)
    blocks: tuple[Block, ...] = field(default_factory=tuple)

    def numbered(self, sentence_id: str) -> int | None:
        return next((s.number for s in self.sentences if s.id == sentence_id), None)

    def sentence(self, sentence_id: str) -> Sentence | None:
        return next((s for s in self.sentences if s.id == sentence_id), None)


def value_words(written: Sheet, value: Mapping[str, Any]) -> str:
    """A value as a sheet's sentences write it."""
    legs = {sentence.id: sentence.number for sentence in written.sentences if sentence.part == "legs"}
    # of a family, so that it says which underlying it is of where it names one
    tokens = _Writer(legs).tokens(measure_of(value).declaration, value, "", "value")
    return "".join(token.text for token in tokens)


def sentence_words(written: Sheet, part: str, declaration: Declaration, item: Mapping[str, Any]) -> str:
    """A sentence as it would read at the end of one of a sheet's lists."""
    legs = {sentence.id: sentence.number for sentence in written.sentences if sentence.part == "legs"}
    return "".join(token.text for token in _Writer(legs).tokens(declaration, item, part))


def sheet(document: Mapping[str, Any]) -> Sheet:
    """Every sentence of a normalised document, numbered through, and the blocks they stand in."""
    several = len(document["entries"]) > 1
    first, *others = document["underlyings"]
    trades = {entry["id"]: entry.get("underlying", first) for entry in document["entries"]}
    sentences: list[Sentence] = []
    legs: dict[str, int] = {}
    blocks: dict[tuple[str, str], Block] = {}
    for path, part, entry, items in parts(document):
        known = catalogue.sentences(part)
        section = catalogue.SECTION_OF[part]
        owner = entry if several else ""
        if known:
            title = catalogue.SECTIONS[section][0]
            symbol = trades.get(entry, "") if others and section == "enter" else ""
            named = f"{title}: {owner}" if owner else title
            block = blocks.setdefault(
                (owner, section), Block(section, f"{named}, on {symbol}" if symbol else named, owner, {}, symbol)
            )
            # an only entry's own exits stand with the strategy's; new ones are the strategy's
            block.lists[part] = path
        for index, item in enumerate(items):
            if part == "legs":
                legs[item["id"]] = len(sentences) + 1
            tokens = _Writer(legs).tokens(known[item["rule"]], item, f"{path}/{index}")
            sentences.append(
                Sentence(
                    item["id"], len(sentences) + 1, section, part, path, owner, item["rule"], index, tuple(tokens),
                    bool(item.get("off")), item.get("note", ""),
                )
            )  # fmt: skip
    found = remarks(document, {sentence.id: sentence.number for sentence in sentences})
    told = tuple(replace(item, remark=found[item.id]) if item.id in found else item for item in sentences)
    return Sheet(told, tuple(blocks.values()))


@dataclass(frozen=True)
class _Writer:
    """Writes sentences of one document. ``legs``: numbers of its legs' sentences."""

    legs: Mapping[str, int]

    def tokens(
        self, declaration: Declaration, values: Mapping[str, Any], path: str, family: str = "",
        scopes: tuple[str, ...] = (),
    ) -> list[Token]:  # fmt: skip
        of = declaration.id if family else ""
        out: list[Token] = []
        at = 0
        template = declaration.sentence
        for match in _BRACES.finditer(template):
            if match.start() > at:
                out.append(Token(template[at : match.start()]))
            at = match.end()
            name, one, many = match.groups()
            if declaration.id in catalogue.OPTION_LEGS and name in catalogue.PICKS:
                pick = values[name]
                out += self.tokens(catalogue.picks(name)[pick["pick"]], pick, f"{path}/{name}", name)
                continue
            param, value = declaration.param(name), values.get(name)
            if param.kind == "value" and value is not None:
                inside = param.scopes or scopes
                within = measure_of(value).declaration
                out += self.tokens(within, value, f"{path}/{name}", value_family(inside), inside)
                continue
            if param.optional and param.begins is not None:
                if value is not None:
                    out += self._added(param, values, f"{path}/{name}")
                continue
            text = self._reference(value) if param.kind == "leg" else param.text(value)
            if one is not None:
                text = f"{text} {one if value == 1 else many}"
            if text:
                out.append(Token(text, f"{path}/{name}", family, of))
        if at < len(template):
            out.append(Token(template[at:]))
        if family and values.get(UNDERLYING):
            out += [Token(" of "), Token(str(values[UNDERLYING]), f"{path}/{UNDERLYING}", family, of)]
        if family and not any(token.path for token in out):
            # what has no values of its own can still be changed for something else
            out = [
                Token(token.text, f"{path}/{catalogue.CHOSEN_BY.get(family, 'measure')}", family, of) for token in out
            ]
        return out

    def _added(self, param: Param, values: Mapping[str, Any], path: str) -> list[Token]:
        """What was added to a sentence: for how long, further conditions, until when."""
        value, out = values[param.name], []
        if not param.of_kind.nested:
            return [Token(param.leads or " "), Token(param.text(value), path, piece=path)]
        for at, declaration, inner in param.of_kind.within(param, value):
            place = f"{path}/{at}" if at else path
            if at and getattr(param.of_kind, "joined", False):
                word = values.get("join") or "and"
                out += [Token(" "), Token(word, f"{path.rpartition('/')[0]}/join"), Token(" ")]
            elif at:
                out.append(Token(" and "))
            else:
                out.append(Token(param.leads))
            out += [
                replace(token, piece=token.piece or place) if token.path else token
                for token in self.tokens(declaration, inner, place)
            ]
        return out

    def _reference(self, leg: Any) -> str:
        number = self.legs.get(str(leg))
        return "a leg that is gone" if number is None else f"leg {number}"

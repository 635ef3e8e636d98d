"""Sentences of a strategy: text with values that lead back to their place in the document."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

from strell_core.measures.declaration import Declaration
from strell_core.strategy import catalogue

_BRACES = re.compile(r"\{(\w+)(?:\|([^|}]*)\|([^}]*))?\}")


@dataclass(frozen=True)
class Token:
    """A piece of a sentence. ``path`` is empty for plain text, else where the value stands."""

    text: str
    path: str = ""


@dataclass(frozen=True)
class Sentence:
    id: str
    number: int
    section: str
    rule: str
    index: int
    """Place within its section."""
    tokens: tuple[Token, ...]
    off: bool = False
    note: str = ""

    @property
    def text(self) -> str:
        return "".join(token.text for token in self.tokens)


@dataclass(frozen=True)
class Sheet:
    sentences: tuple[Sentence, ...] = field(default_factory=tuple)

    def numbered(self, sentence_id: str) -> int | None:
        return next((s.number for s in self.sentences if s.id == sentence_id), None)


def sheet(document: Mapping[str, Any]) -> Sheet:
    """Every sentence of a normalised document, numbered through."""
    out = []
    number = 0
    for section in catalogue.SECTIONS:
        known = catalogue.sentences(section)
        for index, item in enumerate(document[section]):
            number += 1
            tokens = _tokens(known[item["rule"]], item, f"{section}/{index}")
            out.append(
                Sentence(
                    item["id"],
                    number,
                    section,
                    item["rule"],
                    index,
                    tuple(tokens),
                    bool(item.get("off")),
                    item.get("note", ""),
                )
            )
    return Sheet(tuple(out))


def _tokens(declaration: Declaration, values: Mapping[str, Any], path: str) -> list[Token]:
    out: list[Token] = []
    at = 0
    template = declaration.sentence
    for match in _BRACES.finditer(template):
        if match.start() > at:
            out.append(Token(template[at : match.start()]))
        at = match.end()
        name, one, many = match.groups()
        if declaration.id == "leg" and name in catalogue.PICKS:
            pick = values[name]
            out += _tokens(catalogue.picks(name)[pick["pick"]], pick, f"{path}/{name}")
            continue
        value = values.get(name)
        text = declaration.param(name).text(value)
        if one is not None:
            text = f"{text} {one if value == 1 else many}"
        out.append(Token(text, f"{path}/{name}"))
    if at < len(template):
        out.append(Token(template[at:]))
    if not any(token.path for token in out) and "/expiry" in path:
        # a pick without values can still be changed for another one
        out = [Token(token.text, f"{path}/pick") for token in out]
    return out

"""JSON Schema of strategy files, made from the declarations."""

from __future__ import annotations

from typing import Any

from strell_core.measures.declaration import Declaration
from strell_core.measures.values import allowed, family
from strell_core.strategy import catalogue
from strell_core.strategy.parts import LIMITS
from strell_core.strategy.upgrades import FORMAT


def _sentence(declaration: Declaration, key: str, extra: dict[str, Any]) -> dict[str, Any]:
    return {
        "type": "object", "title": declaration.title, "description": declaration.explains,
        "examples": [declaration.example], "required": [key],
        "properties": {
            key: {"const": declaration.id}, **{param.name: param.schema() for param in declaration.params}, **extra,
        },
        "additionalProperties": False,
    }  # fmt: skip


def _values(scopes: tuple[str, ...]) -> dict[str, Any]:
    """A value that may speak of some scopes: a number, or a mapping of one of its measures."""
    made = []
    for measure in allowed(scopes):
        declaration = measure.declaration
        properties = {
            param.name: param.schema()
            if param.kind != "value" or param.scopes
            else {"$ref": f"#/$defs/{family(scopes)}"}
            for param in declaration.params
        }
        made.append(
            {
                "type": "object", "title": declaration.title, "description": declaration.explains, "required": ["measure"],
                "properties": {"measure": {"const": declaration.id}, **properties}, "additionalProperties": False,
            }
        )  # fmt: skip
    return {"anyOf": [{"type": "number"}, *made]}


def json_schema() -> dict[str, Any]:
    """The published schema (draft 2020-12) of a strategy file."""
    common = {
        "id": {"type": "string", "maxLength": 40}, "off": {"type": "boolean"},
        "note": {"type": "string", "maxLength": LIMITS["note"]},
    }  # fmt: skip
    nested = {
        name: {"oneOf": [_sentence(declaration, "pick", {}) for declaration in catalogue.picks(name).values()]}
        for name in catalogue.PICKS
    }
    lists = {}
    for part in catalogue.PARTS:
        kinds = [
            _sentence(declaration, "rule", {**common, **(nested if declaration.id in catalogue.OPTION_LEGS else {})})
            for declaration in catalogue.sentences(part).values()
        ]
        items: dict[str, Any] = {"oneOf": kinds} if kinds else {"not": {}}
        lists[part] = {"type": "array", "items": items, "maxItems": LIMITS["sentences"]}
    entry = {
        "type": "object", "required": ["when", "legs", "size"], "additionalProperties": False,
        "properties": {
            "id": {"type": "string", "maxLength": 40}, "underlying": {"type": "string"},
            **{part: lists[part] for part in catalogue.ENTRY_PARTS},
        },
    }  # fmt: skip
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Strell strategy", "type": "object",
        "required": ["strell", "name", "underlyings", "entries"],
        "properties": {
            "strell": {"const": FORMAT}, "name": {"type": "string", "maxLength": LIMITS["name"]},
            "underlyings": {
                "type": "array", "items": {"type": "string"}, "minItems": 1, "maxItems": LIMITS["underlyings"],
            },
            "entries": {"type": "array", "items": entry, "minItems": 1, "maxItems": LIMITS["entries"]},
            **{part: lists[part] for part in catalogue.COMMON_PARTS},
        },
        "additionalProperties": False,
        "$defs": {family(scopes): _values(scopes) for scopes in catalogue.value_scopes()},
    }  # fmt: skip

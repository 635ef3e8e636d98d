"""JSON Schema of strategy files, made from the declarations."""

from __future__ import annotations

from typing import Any

from strell_core.measures.declaration import WEEKDAYS, Declaration, Param
from strell_core.strategy import catalogue
from strell_core.strategy.document import FORMAT, LIMITS


def _value(param: Param) -> dict[str, Any]:
    out: dict[str, Any] = {"title": param.label, "default": param.default}
    if param.kind == "choice":
        out["enum"] = list(param.choices)
    elif param.kind == "weekdays":
        out |= {"type": "array", "items": {"enum": list(WEEKDAYS)}, "minItems": 1, "uniqueItems": True}
    elif param.kind == "time":
        out |= {"type": "string", "pattern": r"^([01]\d|2[0-3]):[0-5]\d$"}
    elif param.kind == "flag":
        out["type"] = "boolean"
    else:
        out |= {"type": "integer" if param.kind == "integer" else "number"}
        if param.minimum is not None:
            out["minimum"] = param.minimum
        if param.maximum is not None:
            out["maximum"] = param.maximum
    return out


def _sentence(declaration: Declaration, key: str, extra: dict[str, Any]) -> dict[str, Any]:
    return {
        "type": "object", "title": declaration.title, "description": declaration.explains,
        "examples": [declaration.example], "required": [key],
        "properties": {
            key: {"const": declaration.id}, **{param.name: _value(param) for param in declaration.params}, **extra,
        },
        "additionalProperties": False,
    }  # fmt: skip


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
    sections = {}
    for section in catalogue.SECTIONS:
        kinds = [
            _sentence(declaration, "rule", {**common, **(nested if declaration.id == "leg" else {})})
            for declaration in catalogue.sentences(section).values()
        ]
        sections[section] = {"type": "array", "items": {"oneOf": kinds}, "maxItems": LIMITS["sentences"]}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Strell strategy", "type": "object",
        "required": ["name", "underlying", "enter", "legs", "size"],
        "properties": {
            "strell": {"const": FORMAT}, "name": {"type": "string", "maxLength": LIMITS["name"]},
            "underlying": {"type": "string"}, **sections,
        },
        "additionalProperties": False,
    }  # fmt: skip

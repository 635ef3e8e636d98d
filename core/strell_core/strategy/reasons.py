"""Reason texts from declarations: what a sentence said, in words with its numbers."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from strell_core.measures.declaration import Declaration
from strell_core.measures.frames import FALSE, TRUE

MONEY_VALUES = {"pnl", "loss", "premium", "best"}
"""Values of exits that are parts of a quantum times contracts and read as money."""


def reason_text(declaration: Declaration, truth: int, values: Mapping[str, Any], as_money: Callable[[int], str]) -> str:
    """What was said in so many words, else the declaration's text for a truth, its values filled in; money through
    ``as_money``."""
    if values.get("message"):
        return str(values["message"])
    template = declaration.when_unvalued
    if truth in (TRUE, FALSE):
        template = declaration.when_true if truth == TRUE else declaration.when_false
    is_exit = declaration.section == "leave"
    shown = {
        key: as_money(value) if is_exit and key in MONEY_VALUES else _plain(value) for key, value in values.items()
    }
    return template.format_map(_Told(shown))


class _Told(dict[str, str]):
    """What a reason told; a number that an earlier version did not tell is left open."""

    def __missing__(self, name: str) -> str:
        # whose numbers they are is told where there are several
        return "" if name == "which" else "…"


def _plain(value: Any) -> str:
    text = f"{value:g}" if isinstance(value, float) else str(value)
    return text.replace("-", "−") if isinstance(value, int | float) else text

"""Texts in CSV files: a spreadsheet runs what begins like a formula, so such a text is marked as text, and read back
without the mark."""

from __future__ import annotations

from typing import Any

_FORMULA = ("=", "+", "-", "@", "\t", "\r")
_MARK = "'"


def marked(value: Any) -> Any:
    """A cell as it is written; what is no text stays as it is, also a negative number."""
    return f"{_MARK}{value}" if isinstance(value, str) and value.startswith(_FORMULA) else value


def unmarked(text: str) -> str:
    """A text as it was before :func:`marked`."""
    return text[1:] if text.startswith(tuple(_MARK + sign for sign in _FORMULA)) else text

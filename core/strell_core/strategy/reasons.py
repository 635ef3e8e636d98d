"""Reason texts from declarations: what a sentence said, in words with its numbers."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Any

from strell_core.measures.declaration import Declaration
from strell_core.measures.frames import FALSE, TRUE
from strell_core.measures.values import NUMBER
from strell_core.strategy import catalogue
from strell_core.strategy.sentences import Sentence, Sheet, value_words

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


def condition_text(written: Sheet, condition: Mapping[str, Any], truth: int, values: Mapping[str, Any]) -> str:
    """What a sentence's conditions said, in the words of the one that decided: what was compared, its value, and what it is
    held against. ``condition``: its values in a normalised document."""
    deciding, until = condition, condition.get("until")
    which = _WHICH.search(str(values.get("which", "")))
    if which and condition.get("also"):
        deciding = [condition, *condition["also"]][int(which[1]) - 1]
    left, right = (value_words(written, deciding[side]) for side in ("left", "right"))
    now, than = values.get("value"), values.get("than")
    is_number = deciding["right"].get("measure") == NUMBER
    against = f"{values['is']} {right}" if is_number or than is None else f"{values['is']} {right}, {_plain(than)}"
    if now is None or than is None:
        missing = " and ".join(words for words, value in ((left, now), (right, than)) if value is None)
        return f"{missing} {'are' if now is None and than is None else 'is'} not known now"
    if until and truth == TRUE:
        return f"{left} is {_plain(now)}; {against} held and has counted since"
    if truth not in (TRUE, FALSE):
        return f"{left} is {_plain(now)}; needs {against}, and how it was before is not known yet"
    return f"{left} is {_plain(now)}, {against}" if truth == TRUE else f"{left} is {_plain(now)}, needs {against}"


def sentence_said(
    written: Sheet, document: Mapping[str, Any], sentence: Sentence, truth: int, values: Mapping[str, Any],
    as_money: Callable[[int], str] = str,
) -> str:  # fmt: skip
    """What a sentence of a document said: :func:`condition_text` where it is a condition on any value, else
    :func:`reason_text`."""
    declaration = catalogue.sentences(sentence.part)[sentence.rule]
    item = _at(document, sentence)
    if not values.get("message") and "is" in values and "left" in item:
        return condition_text(written, item, truth, values)
    return reason_text(declaration, truth, values, as_money)


def _at(document: Mapping[str, Any], sentence: Sentence) -> Mapping[str, Any]:
    found: Any = document
    for bit in (*sentence.path.split("/"), str(sentence.index)):
        found = found[int(bit)] if isinstance(found, list) else found[bit]
    item: Mapping[str, Any] = found
    return item


_WHICH = re.compile(r"condition (\d+) of")


class _Told(dict[str, str]):
    """What a reason told; a number that an earlier version did not tell is left open."""

    def __missing__(self, name: str) -> str:
        # whose numbers they are is told where there are several
        return "" if name == "which" else "…"


def _plain(value: Any) -> str:
    text = f"{value:g}" if isinstance(value, float) else str(value)
    return text.replace("-", "−") if isinstance(value, int | float) else text

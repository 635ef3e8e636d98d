"""Sentences in which strategies, or revisions of one, differ."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from strell_core.strategy.sentences import sheet


def differences(documents: Sequence[Mapping[str, Any]]) -> list[dict[str, Any]]:
    """Sentences in which normalised documents differ, by section (``section``, ``texts``), each document's own words;
    ``None`` where it has none there: the first of a kind beside the first, the second beside the second. What is
    switched off is not there."""
    sheets = [[s for s in sheet(document).sentences if not s.off] for document in documents]
    rows: dict[tuple[str, str, str], list[str | None]] = {}
    order: dict[tuple[str, str, str], int] = {}
    for place, sentences in enumerate(sheets):
        seen: dict[tuple[str, str], int] = {}
        for number, sentence in enumerate(sentences):
            kind = (sentence.section, sentence.rule)
            nth = seen[kind] = seen.get(kind, 0) + 1
            key = (sentence.section, sentence.rule, str(nth))
            rows.setdefault(key, [None] * len(sheets))[place] = sentence.text
            order.setdefault(key, number)
    sections = list(dict.fromkeys(s.section for sentences in sheets for s in sentences))
    keys = sorted(rows, key=lambda key: (sections.index(key[0]), order[key]))
    return [{"section": key[0], "texts": rows[key]} for key in keys if len(set(rows[key])) > 1]

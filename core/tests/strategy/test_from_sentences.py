"""Sentences say all that a document says: it is rebuilt from them alone, and no sentence can mean two things."""

from __future__ import annotations

import copy
import re
import unittest
from typing import Any

from strell_core.measures.params import WEEKDAYS
from strell_core.strategy.document import DocumentError, normalise
from strell_core.strategy.sentences import Sentence, sheet
from tests.engine.any_document import Maker
from tests.engine.test_forty import documents
from tests.engine.variations import variations
from tests.strategy.sentence_parser import Read

DICE = 40


def plain(value: Any) -> Any:
    """A document with every number as a float: which kind it is, no sentence says; nor what is at its default."""
    if isinstance(value, dict):
        return {key: plain(item) for key, item in value.items() if item is not None and (key, item) != ("join", "and")}
    if isinstance(value, list):
        # days of the week have no order
        return sorted(value) if all(item in WEEKDAYS for item in value) else [plain(item) for item in value]
    return float(value) if isinstance(value, int | float) and not isinstance(value, bool) else value


class FromSentencesTest(unittest.TestCase):
    def rebuilt(self, document: dict[str, Any]) -> dict[str, Any]:
        """The document its sheet's sentences mean: texts, the lists they stand in, which entry's they are."""
        written = sheet(document)
        read = Read(written)
        out: dict[str, Any] = {
            "strell": 2,
            "name": document["name"],
            "underlyings": document["underlyings"],
            "entries": [],
        }
        out["entries"] = [{"id": entry["id"]} for entry in document["entries"]]
        for block in written.blocks:
            # what an entry trades stands over its sentences
            on = re.search(r", on (\S+)$", block.title) if block.section == "enter" else None
            if on and on[1] != document["underlyings"][0]:
                place = int(block.lists["when"].split("/")[1])
                out["entries"][place]["underlying"] = on[1]
        for item in written.sentences:
            found = [{**made, "id": item.id} for made in read.of(item.part, item.text)]
            self.assertTrue(found, f"nothing means: {item.text}")
            if len(found) > 1:
                found = [made for made in found if self.reads(document, item, made) == item.text]
            kinds = sorted(made["rule"] for made in found)
            general = len(kinds) == 2 and kinds[0] == "condition" and kinds[1].startswith("when_")
            self.assertTrue(len(found) == 1 or general, f"it means more than one thing: {item.text} {found}")
            holder = next((made for made in found if made["rule"] == item.rule), found[0])
            holder |= ({"off": True} if item.off else {}) | ({"note": item.note} if item.note else {})
            place = item.path.split("/")
            target = out if len(place) == 1 else out["entries"][int(place[1])]
            target.setdefault(place[-1], []).append(holder)
        return normalise(out)

    @staticmethod
    def reads(document: dict[str, Any], item: Sentence, made: dict[str, Any]) -> str:
        """How the sentence would read if this stood in its place."""
        other = copy.deepcopy(document)
        holder: Any = other
        for key in item.path.split("/"):
            holder = holder[int(key) if isinstance(holder, list) else key]
        holder[item.index] = made
        try:
            return sheet(normalise(other)).sentences[item.number - 1].text
        except DocumentError:
            return ""

    def check(self, name: str, document: dict[str, Any]) -> None:
        with self.subTest(name):
            self.assertEqual(plain(self.rebuilt(document)), plain(document))

    def test_every_strategy_of_the_tests(self) -> None:
        for name, document in {**documents(), **variations()}.items():
            self.check(name, document)

    def test_documents_by_dice(self) -> None:
        rebuilt = 0
        for seed in range(DICE):
            try:
                document = normalise(Maker(seed).document())
            except DocumentError:
                continue
            rebuilt += 1
            self.check(str(seed), document)
        self.assertGreater(rebuilt, DICE / 2)

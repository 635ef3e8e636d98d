"""One more entry like another: it does as that one does, with legs of its own."""

from __future__ import annotations

import re
import unittest
from collections import Counter
from typing import Any

from strell_core.strategy.document import normalise
from strell_core.strategy.edits import mirrored, with_entry_like
from strell_core.strategy.sentences import sheet
from strell_core.strategy.whole import legs_named
from tests.engine.test_forty import documents


def said(document: dict[str, Any], place: int) -> list[str]:
    """What the sentences of an entry say, legs by their place within it."""
    entry = document["entries"][place]["id"]
    own = [s for s in sheet(document).sentences if s.path.startswith(f"entries/{place}/")]
    numbers = {s.number: n for n, s in enumerate([s for s in own if s.part == "legs"])}

    def placed(text: str) -> str:
        return re.sub(r"leg (\d+)", lambda found: f"leg {'abcdefgh'[numbers[int(found[1])]]}", text)

    assert entry
    return [placed(s.text) for s in own]


class EntryLikeTest(unittest.TestCase):
    def test_every_strategy_of_the_tests(self) -> None:
        tried = 0
        for name, document in documents().items():
            for entry in document["entries"]:
                with self.subTest(name):
                    made = normalise(with_entry_like(document, entry["id"]))
                    place = document["entries"].index(entry)
                    new = made["entries"][place + 1]
                    common = [
                        item
                        for part in ("leave", "adjust")
                        for item in document[part]
                        if {leg for _, leg in legs_named(part, item)} & {leg["id"] for leg in entry["legs"]}
                    ]
                    before = said(document, place) if len(document["entries"]) > 1 else said(made, place)
                    after = said(made, place + 1)
                    self.assertEqual(len(after), len(before) + len(common))
                    self.assertFalse(Counter(before) - Counter(after))
                    self.assertFalse({leg["id"] for leg in new["legs"]} & {leg["id"] for leg in entry["legs"]})
                    self.assertEqual(
                        {k: v for k, v in made.items() if k != "entries"},
                        {k: v for k, v in document.items() if k != "entries"},
                    )
                    self.assertEqual(made["entries"][place], entry)
                    tried += 1
        self.assertGreater(tried, 55)

    def test_mirrored_it_says_what_the_mirrored_strategy_says(self) -> None:
        for name, document in documents().items():
            with self.subTest(name):
                entry = document["entries"][0]
                made = normalise(with_entry_like(document, entry["id"], mirror=True))
                other = normalise(with_entry_like(mirrored(document), entry["id"]))
                self.assertEqual(said(made, 1), said(other, 1))

    def test_names_stay_apart_and_short(self) -> None:
        document = documents()["01-single-long-call"]
        document["entries"][0]["id"] = "x" * 40
        twice = normalise(with_entry_like(normalise(with_entry_like(document, "x" * 40)), "x" * 40))
        self.assertEqual([len(entry["id"]) for entry in twice["entries"]], [40, 38, 38])
        self.assertEqual(len({entry["id"] for entry in twice["entries"]}), 3)
        with self.assertRaises(KeyError):
            with_entry_like(document, "no such entry")

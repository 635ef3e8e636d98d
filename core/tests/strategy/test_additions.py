"""What is offered to be added is what is inserted, and reads as it was shown."""

from __future__ import annotations

import re
import unittest
from typing import Any

from strell_core.strategy import catalogue
from strell_core.strategy.additions import Addition, additions
from strell_core.strategy.document import DocumentError, normalise
from strell_core.strategy.sentences import sheet
from tests.engine.test_forty import documents
from tests.examples import example

SERIES = "BREADTH"


def with_added(document: dict[str, Any], addition: Addition) -> dict[str, Any]:
    """The document with an addition at the end of its list, as whoever chooses it inserts it."""
    out: Any = {**document, "entries": [dict(entry) for entry in document["entries"]]}
    holder: Any = out
    *way, name = addition.path.split("/")
    for bit in way:
        holder = holder[int(bit)] if isinstance(holder, list) else holder[bit]
    holder[name] = [*holder.get(name, []), addition.item]
    made: dict[str, Any] = normalise(out)
    return made


def any_leg(text: str) -> str:
    """A sentence in which no leg's number and no entry's name matters."""
    return re.sub(r"“[^”]*”", "“x”", re.sub(r"\bleg \d+", "leg n", text))


class AdditionsTest(unittest.TestCase):
    def test_every_addition_is_inserted_as_it_was_shown(self) -> None:
        several = next(d for d in documents().values() if len(d["entries"]) > 1)
        count = 0
        for document in (example("harbour-strangle"), example("orchard-covered-call"), several):
            before = {sentence.id for sentence in sheet(document).sentences}
            offered = additions(document, SERIES)
            self.assertEqual({a.part for a in offered}, set(catalogue.PARTS))
            for addition in offered:
                if addition.bar:
                    continue
                with self.subTest(addition.text):
                    try:
                        after = with_added(document, addition)
                    except DocumentError as refused:
                        self.fail(f"{addition.item}: {refused}")
                    (found,) = [s for s in sheet(after).sentences if s.id not in before]
                    self.assertEqual(
                        (found.text, found.part, found.rule), (addition.text, addition.part, addition.rule)
                    )
                    # what a file keeps of it reads the same
                    again = [s.text for s in sheet(normalise(after)).sentences]
                    self.assertIn(addition.text, again)
                    count += 1
        self.assertGreater(count, 600)

    def test_every_declaration_s_example_is_what_is_added(self) -> None:
        """With a leg that stands first there is nothing whose expiration it could share."""
        document = example("harbour-strangle")
        bare = {**document, "entries": [{**document["entries"][0], "legs": []}]}
        shown = {(a.part, a.rule): a.text for a in additions(document, SERIES) if not a.measure}
        shown |= {(a.part, a.rule): a.text for a in additions(bare, SERIES) if a.part == "legs"}
        for part in catalogue.PARTS:
            for declaration in catalogue.sentences(part).values():
                with self.subTest(declaration.id):
                    self.assertEqual(any_leg(shown[part, declaration.id]), any_leg(declaration.example))

    def test_what_needs_something_first_says_so(self) -> None:
        document = example("harbour-strangle")
        bare = {**document, "entries": [{**document["entries"][0], "legs": []}]}
        bars = {a.rule: a.bar for a in additions(bare, "") if a.part == "leave" and not a.measure}
        self.assertEqual(bars["leg_condition"], "It names a leg: add one first.")
        self.assertEqual(bars["premium_stop"], "")
        measured = {a.measure: a.bar for a in additions(document, "") if a.part == "conditions"}
        self.assertEqual(measured["series_value"], "It reads a series of your own: load one under Data first.")
        once = {a.rule: a.bar for a in additions(document) if a.part == "size"}
        self.assertEqual(once["fixed_lots"], "It is there already.")
        self.assertIn("how many lots", once["risk_share"], "what the document would refuse says why")

    def test_a_stop_is_offered_as_a_stop_and_a_comparison_suits_its_measure(self) -> None:
        offered = {(a.part, a.rule, a.measure): a.item for a in additions(example("harbour-strangle"), SERIES)}
        self.assertEqual(offered["leave", "condition", ""]["as"], "loss")
        partner = offered["leave", "leg_condition_partner", ""]
        self.assertEqual((partner["as"], partner["is"], partner["right"]["value"]), ("loss", "at most", -100))
        self.assertEqual(offered["conditions", "when_rsi", ""]["comparison"], "below")
        close = offered["leave", "condition", "minutes_to_close"]
        self.assertEqual((close["as"], close["is"], close["right"]["value"]), ("other", "at most", 10))

    def test_a_leg_that_is_named_is_one_of_the_entry(self) -> None:
        several = next(d for d in documents().values() if len(d["entries"]) > 1)
        for addition in additions(several, SERIES):
            if not addition.path.startswith("entries/") or "what" not in addition.item:
                continue
            own = several["entries"][int(addition.path.split("/")[1])]
            self.assertIn(addition.item["what"], [leg["id"] for leg in own["legs"]])

    def test_what_opens_a_leg_names_the_one_that_is_opened_later(self) -> None:
        wheel = next(document for name, document in documents().items() if name.startswith("53"))
        (opens,) = [a for a in additions(wheel) if a.rule == "open_leg"]
        self.assertEqual(opens.item["what"], "c")

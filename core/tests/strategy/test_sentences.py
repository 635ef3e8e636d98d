"""Sentences, schema and reasons, all made from declarations."""

from __future__ import annotations

import unittest
from typing import Any

from strell_core.formats.strategies import from_text
from strell_core.measures.frames import FALSE, TRUE, UNVALUED
from strell_core.strategy import catalogue
from strell_core.strategy.document import normalise
from strell_core.strategy.reasons import reason_text, sentence_said
from strell_core.strategy.schema import json_schema
from strell_core.strategy.sentences import sheet
from tests.engine.variations import variations
from tests.examples import EXAMPLES


class SheetTest(unittest.TestCase):
    def test_the_demo_strangle_reads_as_a_person_would_say_it(self) -> None:
        sentences = sheet(from_text((EXAMPLES / "harbour-strangle.yaml").read_text())).sentences
        self.assertEqual(
            [s.text for s in sentences[:8]],
            [
                "On Mon and Wed at 15:45.",
                "Only while fewer than 1 position is open.",
                "Sell 1 call nearest to delta 0.20 (± 0.15), in the expiration nearest 10 days (5–18).",
                "Sell 1 put nearest to delta 0.20 (± 0.15), in the same expiration.",
                "1 lot.",
                "At 50 % of the credit.",
                "At a loss of 150 % of the opening premium.",
                "1 day before expiration at 15:45.",
            ],
        )
        self.assertEqual([s.number for s in sentences], list(range(1, len(sentences) + 1)))

    def test_every_value_leads_back_to_its_place(self) -> None:
        for document in variations().values():
            for sentence in sheet(document).sentences:
                for token in sentence.tokens:
                    if token.path:
                        at = document
                        for part in token.path.split("/"):
                            at = at[int(part)] if isinstance(at, list) else at[part]
                        self.assertIsNotNone(at, token.path)

    def test_one_and_many(self) -> None:
        texts = [s.text for s in sheet(variations()["by premium at mid"]).sentences]
        self.assertIn("Only while fewer than 5 positions are open.", texts)
        self.assertIn("0 days before expiration at 17:00.", texts)


class ConditionTextTest(unittest.TestCase):
    """What a condition said names what it compared, of several the one that decided."""

    def said(self, condition: dict[str, Any], truth: int, **values: Any) -> str:
        document = from_text((EXAMPLES / "harbour-strangle.yaml").read_text())
        legs = [leg["id"] for leg in document["entries"][0]["legs"]]
        filled = {"is": "below", **condition}
        for item in (filled, *filled.get("also", ())):
            if isinstance(item["left"], dict) and item["left"].get("leg") == "":
                item["left"]["leg"] = legs[1]
        document = normalise({**document, "leave": [{"rule": "condition", "as": "other", **filled}]})
        written = sheet(document)
        (sentence,) = [s for s in written.sentences if s.part == "leave"]
        return sentence_said(written, document, sentence, truth, {"is": filled["is"], **values})

    def test_one_comparison(self) -> None:
        delta = {"left": {"measure": "leg_greek", "leg": ""}, "right": -0.45}
        self.assertEqual(self.said(delta, TRUE, value=-0.51, than=-0.45), "the delta of leg 4 is −0.51, below −0.45")
        self.assertEqual(
            self.said(delta, FALSE, value=-0.41, than=-0.45), "the delta of leg 4 is −0.41, needs below −0.45"
        )
        self.assertEqual(self.said(delta, UNVALUED, value=None, than=-0.45), "the delta of leg 4 is not known now")

    def test_against_another_value_both_are_told(self) -> None:
        price = {"left": {"measure": "price"}, "right": {"measure": "moving_average", "sessions": 50}}
        self.assertEqual(
            self.said(price, FALSE, value=3110.5, than=3090.25),
            "the underlying's price is 3110.5, needs below the simple average over 50 sessions, 3090.25",
        )
        self.assertEqual(
            self.said(price, UNVALUED, value=None, than=None),
            "the underlying's price and the simple average over 50 sessions are not known now",
        )

    def test_of_several_the_one_that_decided(self) -> None:
        both = {
            "left": {"measure": "price"}, "right": 3000,
            "also": [{"left": {"measure": "rsi"}, "is": "above", "right": 70}],
        }  # fmt: skip
        told = self.said(both, FALSE, value=55.2, than=70, which=", condition 2 of 2", **{"is": "above"})
        self.assertEqual(told, "RSI over 14 sessions is 55.2, needs above 70")
        until = {
            "left": {"measure": "price"},
            "right": 3000,
            "until": {"left": {"measure": "rsi"}, "is": "above", "right": 70},
        }
        self.assertEqual(
            self.said(until, TRUE, value=3050.0, than=3000, which=", or it held before"),
            "the underlying's price is 3050; below 3\u00a0000 held and has counted since",
        )


class SchemaTest(unittest.TestCase):
    def test_every_sentence_and_pick_is_in_the_schema(self) -> None:
        schema = json_schema()
        entry = schema["properties"]["entries"]["items"]["properties"]
        for place, parts in ((schema["properties"], catalogue.COMMON_PARTS), (entry, catalogue.ENTRY_PARTS)):
            for part in parts:
                kinds = place[part]["items"].get("oneOf", [])
                self.assertEqual({k["properties"]["rule"]["const"] for k in kinds}, set(catalogue.sentences(part)))
        leg, optional, later, units, _ = entry["legs"]["items"]["oneOf"]
        for other in (optional, later):
            self.assertEqual(other["properties"]["strike"], leg["properties"]["strike"])
        self.assertNotIn("strike", units["properties"])
        picks = {p["properties"]["pick"]["const"] for p in leg["properties"]["strike"]["oneOf"]}
        self.assertEqual(picks, set(catalogue.picks("strike")))
        delta = next(
            p for p in leg["properties"]["strike"]["oneOf"] if p["properties"]["pick"]["const"] == "nearest_delta"
        )
        self.assertEqual(delta["properties"]["delta"]["maximum"], 0.99)


class ReasonTest(unittest.TestCase):
    def test_reasons_name_their_numbers(self) -> None:
        stop = catalogue.sentences("leave")["premium_stop"]
        values = {"pnl": -900, "loss": 900, "premium": 600, "percent": 150}
        self.assertEqual(
            reason_text(stop, TRUE, values, lambda parts: f"{parts} EUR"),
            "loss 900 EUR reached 150 % of the premium 600 EUR",
        )
        self.assertEqual(reason_text(stop, UNVALUED, values, str), "a leg has no valid quote")
        rsi = catalogue.sentences("conditions")["when_rsi"]
        self.assertEqual(
            reason_text(rsi, FALSE, {"value": 41.2, "comparison": "below", "level": 30}, str), "41.2, needs below 30"
        )

    def test_a_size_that_says_no_says_why(self) -> None:
        said = {
            rule: reason_text(declaration, FALSE, {"lots": 0}, str)
            for rule, declaration in catalogue.sentences("size").items()
            if rule != "fixed_lots"
        }
        self.assertEqual(set(said.values()), {"not one whole lot", "not one whole lot, or not known at this instant"})
        short = {"message": "needs 900 EUR of capital, 100 EUR is free", "needed": 900, "free": 100}
        for declaration in catalogue.sentences("size").values():
            self.assertEqual(reason_text(declaration, FALSE, short, str), short["message"])

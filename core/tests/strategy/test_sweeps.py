"""Which values of a sheet can be varied, what a person may type for them, every variant of a sweep."""

from __future__ import annotations

import copy
import unittest

from strell_core.measures.params import Param
from strell_core.strategy.document import DocumentError, normalise, parse, written
from strell_core.strategy.sentences import sheet
from strell_core.strategy.sweeps import (
    Dial,
    SweepError,
    Variations,
    cells,
    check,
    places,
    suggested,
    taken,
    values_of,
    varied,
)
from tests.examples import example

DELTA = Param("delta", "number", "Delta", 0.2, 0.01, 0.99, 0.01)
DAYS = Param("days", "integer", "Days", 10, 0, 400, 1)
TIME = Param("time", "time", "Time", "15:45")
SIDE = Param("side", "choice", "Side", "sell", choices={"sell": "Sell", "buy": "Buy"})


class PlacesTest(unittest.TestCase):
    def test_every_value_of_the_sheet_that_is_a_number_a_choice_or_a_time(self) -> None:
        document = normalise(example("harbour-strangle"))
        found = {place.path: place for place in places(document)}
        tokens = {token.path for sentence in sheet(document).sentences for token in sentence.tokens if token.path}
        self.assertLessEqual(
            {
                "entries/0/when/0/time", "entries/0/conditions/0/limit", "entries/0/legs/0/side",
                "entries/0/legs/0/strike/delta", "entries/0/legs/0/expiry/days", "leave/0/percent", "orders/0/share",
            },
            set(found),
        )  # fmt: skip
        self.assertNotIn("entries/0/when/0/weekdays", found)
        self.assertEqual(found["entries/0/legs/0/strike/delta"].value, 0.2)
        self.assertLessEqual({path for path in found if "/strike/" in path}, tokens, "what the sheet shows")
        for place in found.values():
            self.assertEqual(varied(document, {place.path: place.value}), document, place.path)

    def test_values_within_conditions_and_the_underlying(self) -> None:
        document = normalise(example("mole-straddle"))
        found = {place.path: place.value for place in places(document, ["MK30", "PLLM"])}
        self.assertEqual(found["underlyings/0"], "MK30")
        self.assertEqual(found["entries/0/conditions/1/left/days"], 10)
        self.assertEqual(found["entries/0/conditions/1/right/of/sessions"], 20)
        self.assertEqual(found["entries/0/conditions/1/right/times"], 1.05)
        made = varied(document, {"underlyings/0": "PLLM", "entries/0/conditions/1/right/times": 1.2})
        self.assertEqual((made["underlyings"], made["entries"][0]["conditions"][1]["right"]["times"]), (["PLLM"], 1.2))
        self.assertEqual(document["underlyings"], ["MK30"], "a copy")
        with self.assertRaises(KeyError):
            varied(document, {"entries/0/conditions/1/magic": 1})

    def test_a_sentence_switched_off_has_nothing_to_vary(self) -> None:
        document = example("harbour-strangle")
        document["leave"][0]["off"] = True
        self.assertNotIn("leave/0/percent", {place.path for place in places(normalise(document))})


class TypedTest(unittest.TestCase):
    def test_lists_and_ranges(self) -> None:
        for param, text, wanted in (
            (DELTA, "0.10, 0.15,0.2", [0.1, 0.15, 0.2]), (DELTA, "0.10 to 0.30 by 0.05", [0.1, 0.15, 0.2, 0.25, 0.3]),
            (DELTA, "0.10 – 0.12", [0.1, 0.11, 0.12]), (DAYS, "7, 7, 14", [7, 14]), (DAYS, "10 to 50 by 20", [10, 30, 50]),
            (DAYS, "10 to 45 by 20", [10, 30]), (TIME, "9:30, 15:45", ["09:30", "15:45"]),
            (TIME, "10:00 to 11:30", ["10:00", "10:30", "11:00", "11:30"]), (TIME, "10:00 to 10:30 by 15", ["10:00", "10:15", "10:30"]),
            (SIDE, "Sell, buy", ["sell", "buy"]),
        ):  # fmt: skip
            with self.subTest(text):
                self.assertEqual(values_of(param, text), wanted)
        self.assertIsInstance(values_of(DAYS, "10 to 20 by 5")[0], int)

    def test_what_cannot_be_read_says_what_to_do(self) -> None:
        for param, text, words in (
            (DELTA, "", "write values, like 0.10, 0.15"), (DELTA, "a lot", "Delta"), (DELTA, "0.10, 3", "must lie between"),
            (DELTA, "0.105", "steps of 0.01"), (DELTA, "0.3 to 0.1", "the end lies before the start"),
            (DAYS, "1 to 200", "at most 50 values, these are 200"), (DAYS, "1 to 9 by 0", "more than nothing"),
            (DAYS, "2.5, 3", "whole number"), (TIME, "25:00", "time of day"), (TIME, "10:00 to noon", "time of day"),
            (SIDE, "hold", "one of sell, buy"), (TIME, "", "10:00, 15:45"), (SIDE, " ,", "sell, buy"),
            (DAYS, "1 to 2 by 1e400", "Days"), (DELTA, "1,234", "must lie"),
        ):  # fmt: skip
            with self.subTest(text), self.assertRaises(SweepError) as raised:
                values_of(param, text)
            self.assertIn(words, raised.exception.message)


class SuggestedTest(unittest.TestCase):
    def test_what_a_dial_begins_with_can_be_swept_and_holds_what_the_sheet_has(self) -> None:
        for name in ("harbour-strangle", "mole-straddle"):
            for place in places(normalise(example(name)), ["MK30", "PLLM"]):
                with self.subTest(place.path):
                    self.assertIn(place.value, values_of(place.param, suggested(place)))
        delta = next(p for p in places(normalise(example("harbour-strangle"))) if p.path.endswith("strike/delta"))
        self.assertEqual(suggested(delta), "0.1, 0.15, 0.2, 0.25, 0.3")


class VariationsTest(unittest.TestCase):
    def test_a_variant_is_what_its_document_says_by_itself(self) -> None:
        """Every value that a dial begins with, of sheets that between them have every part."""
        tried = 0
        for name in ("harbour-strangle", "mole-straddle", "orchard-covered-call", "quay-calendar"):
            document = normalise(example(name))
            before, variations = copy.deepcopy(document), Variations(document)
            for place in places(document, ["MK30", "PLLM"]):
                for value in values_of(place.param, suggested(place)):
                    alone = varied(document, {place.path: value})
                    try:
                        expected = written(alone)
                    except DocumentError as error:
                        with self.assertRaises(DocumentError) as raised:
                            variations.document({place.path: value})
                        self.assertEqual(raised.exception.problems, error.problems)
                        continue
                    found = variations.document({place.path: value})
                    self.assertEqual(found, expected)
                    self.assertEqual(variations.strategy(found), parse(expected))
                    tried += 1
            self.assertEqual(document, before, "of the first nothing is changed")
        self.assertGreater(tried, 200)


class CellsTest(unittest.TestCase):
    DIALS = (Dial(("a", "b"), (1, 2, 3)), Dial(("c",), ("x", "y")))

    def test_every_combination_once(self) -> None:
        found = cells(self.DIALS)
        self.assertEqual(found, [(0, 0), (0, 1), (1, 0), (1, 1), (2, 0), (2, 1)])
        self.assertEqual(taken(self.DIALS, found[3]), {"a": 2, "b": 2, "c": "y"})

    def test_some_drawn_by_chance_are_the_same_again(self) -> None:
        wide = [Dial((str(n),), tuple(range(40))) for n in range(4)]
        drawn = cells(wide, 500, seed=3)
        self.assertEqual(len(set(drawn)), 500)
        self.assertEqual(drawn, cells(wide, 500, seed=3))
        self.assertNotEqual(drawn, cells(wide, 500, seed=4))
        for dial in range(4):
            self.assertEqual({cell[dial] for cell in drawn}, set(range(40)))
        self.assertEqual(cells(self.DIALS, 99), cells(self.DIALS), "no more than there are")

    def test_too_many(self) -> None:
        with self.assertRaisesRegex(SweepError, "2 560 000 variants are too many: at most 2000"):
            cells([Dial((str(n),), tuple(range(40))) for n in range(4)])
        with self.assertRaises(SweepError):
            cells([Dial((str(n),), tuple(range(40))) for n in range(4)], 5000)

    def test_dials_are_checked(self) -> None:
        known = places(normalise(example("harbour-strangle")))
        path = known[0].path
        check([Dial((path,), (1,))], known)
        for dials, words in (
            ([], "One to 4"), ([Dial((path,), (1,))] * 5, "One to 4"), ([Dial(("gone",), (1,))], "not in the sheet"),
            ([Dial((path, path), (1,))], "varied once"),
        ):  # fmt: skip
            with self.assertRaisesRegex(SweepError, words):
                check(dials, known)

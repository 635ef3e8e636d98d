"""Several conditions in a sentence, for how long, until when: against loops over single comparisons."""

from __future__ import annotations

from typing import Any
from unittest import TestCase

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from strell_core.market.market import market_of
from strell_core.measures.frames import FALSE, TRUE, UNVALUED, Frame
from strell_core.strategy import conditions
from strell_core.strategy.condition_truths import truths
from strell_core.strategy.document import DocumentError, normalise
from strell_core.strategy.reasons import reason_text
from strell_core.strategy.sentences import sheet
from tests.demo import short_history
from tests.engine.variations import STRANGLE, document

VALUES = [
    {"measure": "move_since_open"}, {"measure": "move_since_close"}, {"measure": "rsi", "sessions": 5, "bars": "session"},
    {"measure": "rsi", "sessions": 9, "bars": "30"}, {"measure": "session_return", "sessions": 3},
]  # fmt: skip
LEVELS = [-0.5, 0, 0.4, 45, 55]


def number(value: float) -> dict[str, Any]:
    return {"measure": "number", "value": value}


@st.composite
def comparisons(draw: st.DrawFn, looks: bool = True) -> dict[str, Any]:
    made = {
        "left": draw(st.sampled_from(VALUES)), "is": draw(st.sampled_from(["above", "below", "at least"])),
        "right": number(draw(st.sampled_from(LEVELS))),
    }  # fmt: skip
    if looks and draw(st.booleans()):
        made["looks"] = draw(st.integers(2, 9))
    return made


class GroupsTest(TestCase):
    def setUp(self) -> None:
        self.market = market_of(short_history())
        # where sessions have several snapshots and where they have one
        self.end = int(self.market.main.first[68])

    def single(self, condition: dict[str, Any]) -> list[int]:
        """Truths from the first snapshot of the history on, one comparison at a time."""
        return truths(condition, Frame(self.market, 0, self.end)).tolist()

    def plain(self, condition: dict[str, Any]) -> list[int]:
        bare = self.single({key: condition[key] for key in ("left", "is", "right")})
        n = condition.get("looks") or 1
        out = []
        for at in range(len(bare)):
            window = [UNVALUED] * max(0, n - 1 - at) + bare[max(0, at - n + 1) : at + 1]
            out.append(FALSE if FALSE in window else UNVALUED if UNVALUED in window else TRUE)
        return out

    def wanted(self, condition: dict[str, Any]) -> list[int]:
        every = [self.plain(item) for item in (condition, *condition.get("also", ()))]
        out = []
        for told in zip(*every, strict=True):
            if condition.get("join") == "or":
                out.append(TRUE if TRUE in told else UNVALUED if UNVALUED in told else FALSE)
            else:
                out.append(FALSE if FALSE in told else UNVALUED if UNVALUED in told else TRUE)
        if "until" in condition:
            ends, lasts = self.plain(condition["until"]), False
            for at, now in enumerate(out):
                lasts = ends[at] != TRUE and (lasts or now == TRUE)
                out[at] = TRUE if lasts else FALSE
        return out

    @settings(max_examples=40, deadline=None)
    @given(st.data())
    def test_any_group_is_what_a_loop_over_its_comparisons_says(self, data: st.DataObject) -> None:
        condition = data.draw(comparisons())
        condition["join"] = data.draw(st.sampled_from(["and", "or"]))
        condition["also"] = data.draw(st.lists(comparisons(), max_size=3))
        if data.draw(st.booleans()):
            condition["until"] = data.draw(comparisons())
        wanted = self.wanted(condition)
        self.assertEqual(truths(condition, Frame(self.market, 0, self.end)).tolist(), wanted)
        # asked for an instant it says the same as over a stretch
        for at in data.draw(st.lists(st.integers(0, self.end - 1), min_size=3, max_size=6)):
            self.assertEqual(int(truths(condition, Frame(self.market, at, at + 1))[0]), wanted[at])

    def test_what_is_told_is_of_the_comparison_that_decided(self) -> None:
        calm = {"left": VALUES[0], "is": "above", "right": number(-99)}
        never = {"left": VALUES[0], "is": "above", "right": number(99)}
        where = Frame(self.market, self.end - 1, self.end)
        both = {**calm, "join": "and", "also": [calm, never]}
        told = conditions.told(both, where)
        self.assertEqual((told["than"], told["which"]), (99, ", condition 3 of 3"))
        told = conditions.told({**never, "join": "or", "also": [calm]}, where)
        self.assertEqual((told["than"], told["which"]), (-99, ", condition 2 of 2"))
        said = reason_text(conditions.declared("needs", **self.facts()), FALSE, conditions.told(both, where), str)
        self.assertRegex(said, r"^−?[\d.]+, needs above 99, condition 3 of 3$")
        # an earlier version told less
        said = reason_text(
            conditions.declared("needs", **self.facts()), FALSE, {"value": 1.0, "than": 2.0, "is": "above"}, str
        )
        self.assertEqual(said, "1, needs above 2")

    @staticmethod
    def facts() -> dict[str, Any]:
        return {
            "id": "x",
            "section": "enter",
            "title": "x",
            "sentence": "x",
            "params": (),
            "explains": "x",
            "example": "x",
        }


class WrittenTest(TestCase):
    def made(self, **more: Any) -> dict[str, Any]:
        raw = document("groups", STRANGLE, [{"rule": "days_held", "days": 3, "time": "11:05"}])
        raw["entries"][0]["conditions"].append(
            {"id": "x", "rule": "condition", "left": {"measure": "price"}, "is": "above", "right": 100, **more}
        )
        return normalise(raw)

    def text(self, **more: Any) -> str:
        found = sheet(self.made(**more)).sentence("x")
        assert found is not None
        return found.text

    def test_it_reads_as_a_sentence(self) -> None:
        price = {"left": {"measure": "price"}, "is": "below", "right": 90}
        self.assertEqual(
            self.text(looks=3, join="or", also=[{**price, "looks": 2}, price]),
            "Only if the underlying's price is above 100 for 3 snapshots in a row or the underlying's price is below 90 for 2 "
            "snapshots in a row or the underlying's price is below 90.",
        )
        self.assertEqual(
            self.text(also=[price], until=price),
            "Only if the underlying's price is above 100 and the underlying's price is below 90, from then on until the "
            "underlying's price is below 90.",
        )

    def test_what_was_added_can_be_left_out_again(self) -> None:
        price = {"left": {"measure": "price"}, "is": "below", "right": 90}
        found = sheet(self.made(looks=3, also=[price], until=price)).sentence("x")
        assert found is not None
        at = f"{found.path}/{found.index}"
        pieces = {token.piece for token in found.tokens if token.piece}
        self.assertEqual(pieces, {f"{at}/looks", f"{at}/also/0", f"{at}/until"})

    def test_what_makes_no_sense_is_refused_where_it_stands(self) -> None:
        for more, path, words in (
            ({"looks": 1}, "looks", "between 2 and 200"),
            ({"is": "crosses above", "looks": 2}, "looks", "a crossing is over with the next value"),
            ({"also": []}, "also", "at least one condition"),
            ({"also": [7]}, "also/0", "a mapping with left, is and right"),
            ({"also": [{"is": "about"}]}, "also/0/is", "must be one of"),
            ({"also": [{"left": {"measure": "nothing"}}]}, "also/0/left/measure", "'nothing' is not known"),
            ({"also": [{"which": 1}]}, "also/0/which", "is not a value of this sentence"),
            ({"also": [{"left": {"measure": "price", "underlying": "NOPE"}}]}, "also/0/left/underlying", "no underlying of the"),
            ({"join": "xor"}, "join", "must be one of and, or"),
        ):  # fmt: skip
            with self.subTest(path), self.assertRaises(DocumentError) as refused:
                self.made(**more)
            at, told = next((p.path, p.message) for p in refused.exception.problems)
            self.assertEqual(at.removeprefix("entries/0/conditions/1/"), path)
            self.assertIn(words, told)

    def test_contracts_that_are_not_held_yet_have_no_past(self) -> None:
        greek = {"left": {"measure": "structure_greek"}, "is": "above", "right": 0}
        price = {"left": {"measure": "price"}, "is": "above", "right": 0}
        roll = {"rule": "roll_out", "days": 7, **price}
        for checks, adjust, path, words in (
            ([{"rule": "condition", **greek, "looks": 2}], [], "checks/0/is", "so whether it held before is not known"),
            ([{"rule": "condition", **price, "also": [{**greek, "is": "crosses above"}]}], [], "checks/0/also/0/is", "whether it crosses"),
            ([{"rule": "condition", **greek, "until": price}], [], "checks/0/is", "since when it holds is not known"),
            ([], [{**roll, "provided": {**greek, "looks": 2}}], "adjust/0/provided/is", "'Greek of the structure' is asked of contracts"),
        ):  # fmt: skip
            raw = document("x", STRANGLE, [])
            raw["entries"][0]["checks"], raw["adjust"] = checks, adjust
            with self.subTest(path), self.assertRaises(DocumentError) as refused:
                normalise(raw)
            at, told = next((p.path, p.message) for p in refused.exception.problems)
            self.assertEqual(at.removeprefix("entries/0/"), path)
            self.assertIn(words, told)


class LookedUpTest(TestCase):
    def test_a_session_s_values_are_looked_up_by_session(self) -> None:
        market = market_of(short_history())
        condition = {
            "left": {"measure": "rsi", "sessions": 5, "bars": "session"}, "is": "above", "right": number(50),
            "until": {"left": {"measure": "rsi", "sessions": 5, "bars": "session"}, "is": "below", "right": number(45)},
        }  # fmt: skip
        whole = truths(condition, Frame(market, 0, len(market.main.times)))
        for a, b in zip(market.main.first[:-1], market.main.first[1:], strict=True):
            self.assertEqual(len(np.unique(whole[a:b])), 1)
        self.assertEqual({*whole.tolist()}, {TRUE, FALSE})

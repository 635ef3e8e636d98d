"""Strategy files: read and written again they are the same; mistakes are named at their line."""

from __future__ import annotations

import json
import unittest
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from strell_core.formats.strategies import StrategyFileError, from_text, to_text
from strell_core.strategy.document import DocumentError, normalise
from tests.engine.variations import variations
from tests.examples import EXAMPLES

FORMAT_1 = Path(__file__).parents[1] / "kept" / "format1"
STRANGLE = (EXAMPLES / "harbour-strangle.yaml").read_text()


def problems(text: str) -> list[tuple[int, str, str]]:
    try:
        from_text(text)
    except StrategyFileError as error:
        return error.problems
    return []


class RoundTripTest(unittest.TestCase):
    def test_documents_and_shipped_examples(self) -> None:
        documents = [*variations().values(), *(from_text(path.read_text()) for path in sorted(EXAMPLES.glob("*.yaml")))]
        self.assertGreaterEqual(len(documents), 12)
        for document in documents:
            self.assertEqual(from_text(to_text(document)), document)

    def test_a_file_is_written_in_the_order_in_which_it_is_read(self) -> None:
        document = variations()["strangle"]
        shuffled = {key: document[key] for key in reversed(document)}
        (entry,) = document["entries"]
        backward = {key: entry[key] for key in reversed(entry)}
        backward["legs"] = [{key: item[key] for key in sorted(item, reverse=True)} for item in entry["legs"]]
        shuffled["entries"] = [backward]
        text = to_text(shuffled)
        self.assertEqual(text, to_text(document))
        keys = ("\nname", "\nunderlyings", "\nentries", "  when", "  legs", "  size", "\nleave")
        places = [text.index(f"{key}:") for key in keys]
        self.assertEqual(places, sorted(places))
        self.assertLess(text.index("rule: leg"), text.index("side: sell"))

    def test_json_is_read_too(self) -> None:
        document = variations()["strangle"]
        self.assertEqual(from_text(json.dumps(document)), document)

    @settings(max_examples=150, deadline=None)
    @given(name=st.text(min_size=1, max_size=80).filter(str.strip), note=st.text(min_size=1, max_size=200))
    def test_any_name_and_note(self, name: str, note: str) -> None:
        document = {**variations()["strangle"], "name": name}
        (entry,) = document["entries"]
        document["entries"] = [{**entry, "when": [{**entry["when"][0], "note": note}]}]
        try:
            whole = normalise(document)
        except DocumentError as error:
            self.assertTrue(all("cannot be shown" in problem.message for problem in error.problems), error)
            return
        self.assertEqual(from_text(to_text(whole)), whole)


class MistakeTest(unittest.TestCase):
    def test_a_delta_of_three_is_named_at_its_line(self) -> None:
        lines = STRANGLE.splitlines()
        at = next(i for i, line in enumerate(lines) if "delta: 0.2" in line)
        text = STRANGLE.replace("delta: 0.2", "delta: 3", 1)
        self.assertEqual(
            problems(text), [(at + 1, "entries/0/legs/0/strike/delta", "Delta must lie between 0.01 and 0.99, not 3")]
        )

    def test_every_mistake_is_reported_at_once(self) -> None:
        text = STRANGLE.replace("delta: 0.2", "delta: 3").replace("lots: 1", "lots: 0")
        self.assertEqual(
            [path for _, path, _ in problems(text)],
            [f"entries/0/{place}" for place in ("legs/0/strike/delta", "legs/1/strike/delta", "size/0/lots")],
        )

    def test_a_file_of_an_earlier_format_is_corrected_at_its_own_lines(self) -> None:
        text = (FORMAT_1 / "tide-condor.yaml").read_text()
        self.assertEqual(from_text(text), from_text((EXAMPLES / "tide-condor.yaml").read_text()))
        wrong = (
            text.replace("least: 0.2", "least: 3").replace("level: 22", "level: -1").replace("delta: 0.06", "delta: 7")
        )
        found = problems(wrong.replace("percent: 50, last", "percent: 0, last"))
        lines = wrong.splitlines()
        self.assertEqual(
            [(path, lines[line - 1].strip()[:24]) for line, path, _ in found],
            [
                ("enter/2/level", "- {rule: when_realised_v"), ("legs/1/strike/delta", "strike: {pick: nearest_d"),
                ("legs/4/least", "- {rule: side_balance, l"), ("orders/3/percent", "- {rule: doubtful_marks,"),
            ],
        )  # fmt: skip

    def test_what_is_not_yaml(self) -> None:
        for text in ("legs: [", "a: b: c", "\t- x", "{", "'"):
            found = problems(text)
            self.assertEqual(len(found), 1, text)
            self.assertGreaterEqual(found[0][0], 1)

    def test_what_is_yaml_but_no_strategy(self) -> None:
        for text in ("", "3", "- a", "null", "just words", "1: 2"):
            self.assertTrue(problems(text), text)

    def test_bombs_and_objects_are_refused(self) -> None:
        self.assertIn("references", problems("a: &a [1]\nb: [*a, *a]")[0][2])
        self.assertIn("deeply", problems("[" * 40 + "]" * 40)[0][2])
        self.assertIn("200 kB", problems("#" * 200_001)[0][2])
        self.assertTrue(problems("!!python/object/apply:os.system ['true']"))

    def test_numbers_no_machine_can_hold(self) -> None:
        for value in (".inf", "-.inf", ".nan", "1" + "0" * 400, "1e999"):
            found = problems(STRANGLE.replace("delta: 0.2", f"delta: {value}", 1).replace("lots: 1", f"lots: {value}"))
            self.assertEqual(
                {path for _, path, _ in found}, {"entries/0/legs/0/strike/delta", "entries/0/size/0/lots"}, value
            )

    @settings(max_examples=200, deadline=None)
    @given(st.data())
    def test_a_broken_file_is_refused_or_read_but_never_a_crash(self, data: st.DataObject) -> None:
        at = data.draw(st.integers(0, len(STRANGLE) - 1))
        piece = data.draw(
            st.sampled_from(["", "-", ":", "[", "}", "\n", "null", "'", "&x", "*x", "!!", "\x00", "9" * 30, "é", "  "])
        )
        cut = data.draw(st.integers(0, 12))
        try:
            from_text(STRANGLE[:at] + piece + STRANGLE[at + cut :])
        except StrategyFileError as error:
            self.assertTrue(error.problems)

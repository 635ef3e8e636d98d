"""Strategy documents: what is filled in, what is refused and where, and what edits mean."""

from __future__ import annotations

import copy
import dataclasses
import unittest
from decimal import Decimal
from typing import Any

from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks
from strell_core.measures.declaration import Declaration
from strell_core.measures.measure import load
from strell_core.measures.params import UNNAMED
from strell_core.strategy import catalogue
from strell_core.strategy.document import DocumentError, normalise, parse, written
from strell_core.strategy.edits import mirrored, rules_digest
from strell_core.strategy.parts import parts
from strell_core.strategy.reasons import reason_text
from strell_core.strategy.sentences import sheet
from strell_core.strategy.soundness import mistakes, wrong_with
from tests.demo import short_history
from tests.engine.variations import variations

SMALL: dict[str, Any] = {
    "name": "small", "underlying": "MK30",
    "enter": [{"rule": "decision_times"}],
    "legs": [{"rule": "leg", "strike": {"pick": "nearest_delta"}, "expiry": {"pick": "nearest_days"}}],
    "size": [{"rule": "fixed_lots"}],
}  # fmt: skip


def refused(change: dict[str, Any]) -> dict[str, str]:
    """Path to message of what is wrong with SMALL after a change."""
    try:
        normalise({**copy.deepcopy(SMALL), **change})
    except DocumentError as error:
        return {problem.path: problem.message for problem in error.problems}
    return {}


def leg(**values: Any) -> dict[str, Any]:
    return {"legs": [{**copy.deepcopy(SMALL["legs"][0]), **values}]}


class WrittenTest(unittest.TestCase):
    def test_days_outside_of_their_own_range_are_refused_where_they_are_written_and_read_where_they_are_kept(
        self,
    ) -> None:
        raw = variations()["strangle"]
        for wanted, fits in ((5, True), (18, True), (4, False), (45, False)):
            raw["entries"][0]["legs"][0]["expiry"]["days"] = wanted
            self.assertEqual(normalise(raw)["entries"][0]["legs"][0]["expiry"]["days"], wanted)
            if fits:
                written(raw)
                continue
            with self.assertRaises(DocumentError) as caught:
                written(raw)
            ((path, message),) = [(p.path, p.message) for p in caught.exception.problems]
            self.assertEqual(path, "entries/0/legs/0/expiry/days")
            self.assertIn(f"{wanted} days lie outside of 5–18", message)


class NormaliseTest(unittest.TestCase):
    def test_defaults_and_ids_are_filled_in(self) -> None:
        document = normalise(SMALL)
        self.assertEqual(document["entries"][0]["when"][0]["weekdays"], ["mon", "wed"])
        self.assertEqual(
            document["entries"][0]["legs"][0]["strike"], {"pick": "nearest_delta", "delta": 0.2, "within": 0.15}
        )
        ids = [s["id"] for part in parts(document) for s in part.sentences]
        self.assertEqual(len(ids), len(set(ids)))

    def test_how_far_a_delta_may_be_away_where_nothing_is_said_depends_on_the_format(self) -> None:
        def made(version: int, **strike: Any) -> dict[str, Any]:
            raw = copy.deepcopy(normalise(SMALL))
            raw["strell"], raw["entries"][0]["legs"][0]["strike"] = version, {"pick": "nearest_delta", **strike}
            return normalise(raw)

        def within(document: dict[str, Any]) -> Any:
            return document["entries"][0]["legs"][0]["strike"]["within"]

        self.assertEqual([within(made(version)) for version in (2, 3)], [0.15, "50 %"])
        self.assertEqual([within(made(version, within="30%")) for version in (2, 3)], ["30 %", "30 %"])
        # typed in a field, a number comes as text
        self.assertEqual(within(made(3, within=" 0.05 ")), 0.05)
        self.assertEqual(made(2)["strell"], 3)
        # an earlier run decided the same: what it was known by stays, and says something else of what is new
        self.assertEqual(rules_digest(made(2)), rules_digest(made(3, within=0.15)))
        self.assertNotEqual(rules_digest(made(3)), rules_digest(made(3, within=0.15)))
        self.assertNotEqual(rules_digest(made(3)), rules_digest(made(3, within="30 %")))
        for wrong in ("0 %", "101 %", "50 per cent", "", "%", 0, 1.5):
            with self.assertRaises(DocumentError) as refused:
                made(3, within=wrong)
            (problem,) = refused.exception.problems
            self.assertEqual(problem.path, "entries/0/legs/0/strike/within", wrong)

    def test_a_normal_document_stays_as_it_is(self) -> None:
        for document in variations().values():
            self.assertEqual(normalise(document), document)

    def test_ids_survive_changes_around_them(self) -> None:
        document = normalise(SMALL)
        document["entries"][0]["conditions"].append({"rule": "open_limit"})
        again = normalise(document)
        first, second = (made["entries"][0]["legs"][0]["id"] for made in (document, again))
        self.assertEqual(first, second)

    def test_the_typed_form_leaves_out_what_is_off(self) -> None:
        raw = copy.deepcopy(SMALL)
        raw["leave"] = [{"rule": "credit_target", "off": True}, {"rule": "premium_stop"}]
        self.assertEqual([rule.kind for rule in parse(raw).leave], ["premium_stop"])

    def test_order_rules_have_defaults_without_a_sentence(self) -> None:
        orders = parse(SMALL).orders
        self.assertEqual(orders["fill_model"], {"share": 100})
        self.assertEqual(orders["single_snapshots"], {"policy": "decide"})


class RefusalTest(unittest.TestCase):
    """Each mistake is named at its place."""

    def test_a_delta_of_three(self) -> None:
        found = refused(leg(strike={"pick": "nearest_delta", "delta": 3}))
        self.assertEqual(found, {"legs/0/strike/delta": "Delta must lie between 0.01 and 0.99, not 3"})

    def test_values_of_the_wrong_kind(self) -> None:
        self.assertIn(
            "a number", refused(leg(strike={"pick": "nearest_delta", "delta": "much"}))["legs/0/strike/delta"]
        )
        self.assertIn("whole number", refused(leg(ratio=1.5))["legs/0/ratio"])
        self.assertIn("a number", refused(leg(ratio=True))["legs/0/ratio"])
        self.assertIn("one of", refused(leg(right="straddle"))["legs/0/right"])
        self.assertIn(
            "steps of 0.01", refused(leg(strike={"pick": "nearest_delta", "delta": 0.205}))["legs/0/strike/delta"]
        )
        self.assertIn(
            "a number", refused(leg(strike={"pick": "nearest_delta", "delta": float("nan")}))["legs/0/strike/delta"]
        )

    def test_times_and_weekdays(self) -> None:
        when = [{"rule": "decision_times", "time": "25:00", "weekdays": ["mon", "sun"]}]
        found = refused({"enter": when})
        self.assertIn("time of day", found["enter/0/time"])
        self.assertIn("not a weekday", found["enter/0/weekdays"])
        self.assertIn(
            "each once",
            refused({"enter": [{"rule": "decision_times", "weekdays": ["mon", "mon"]}]})["enter/0/weekdays"],
        )

    def test_unknown_parts(self) -> None:
        self.assertIn("not a part", refused({"exits": []})["exits"])
        self.assertIn("not known", refused({"leave": [{"rule": "pray"}]})["leave/0/rule"])
        self.assertIn("not known", refused(leg(strike={"pick": "luckiest"}))["legs/0/strike/pick"])
        self.assertIn("not a value", refused({"leave": [{"rule": "credit_target", "share": 3}]})["leave/0/share"])

    def test_what_only_the_whole_can_miss(self) -> None:
        self.assertTrue(refused({"legs": []}))
        self.assertIn("size", refused({"size": []}))
        self.assertTrue(refused({"enter": []}))
        self.assertIn("legs/0/expiry/pick", refused(leg(expiry={"pick": "same_expiration"})))
        late = {"pick": "nearest_days", "days": 10, "from": 12, "to": 8}
        self.assertIn("ends before it starts", refused(leg(expiry=late))["legs/0/expiry/from"])
        twice = [{"rule": "decision_times"}, {"rule": "open_limit"}, {"rule": "open_limit", "limit": 2}]
        self.assertTrue(refused({"enter": twice}))
        self.assertIn("how many lots", refused({"size": [{"rule": "fixed_lots"}, {"rule": "capital_share"}]})["size/1"])
        self.assertTrue(refused({"legs": SMALL["legs"] * 9}))

    def test_identity(self) -> None:
        self.assertIn(
            "two sentences",
            refused({"leave": [{"rule": "credit_target", "id": "a"}, {"rule": "premium_stop", "id": "a"}]})[
                "leave/1/id"
            ],
        )
        self.assertIn("missing", refused({"name": " "})["name"])
        self.assertIn("longer", refused({"name": "x" * 81})["name"])
        for version in (7, 0, "1", True, 1.0, None, [1]):
            self.assertIn("version", refused({"strell": version})["strell"], version)

    def test_what_is_no_document_at_all(self) -> None:
        for raw in (None, [], "sell calls", 3, {"name": "x", "underlying": "MK30", "enter": "soon"}, {"legs": [3]}):
            with self.assertRaises(DocumentError):
                normalise(raw)


class EntriesTest(unittest.TestCase):
    """Format 2: several entries, each whole in itself."""

    def whole(self, **change: Any) -> dict[str, Any]:
        document = normalise(SMALL)
        (first,) = document["entries"]
        second = {
            "id": "second",
            **{k: [{**s, "id": f"b-{s['id']}"} for s in v] for k, v in first.items() if k != "id"},
        }
        return {**document, "entries": [first, {**second, **change}]}

    def problems(self, document: dict[str, Any]) -> dict[str, str]:
        try:
            normalise(document)
        except DocumentError as error:
            return {problem.path: problem.message for problem in error.problems}
        return {}

    def test_each_is_parsed_in_the_sheets_order(self) -> None:
        strategy = parse(self.whole())
        self.assertEqual([entry.id for entry in strategy.entries], ["entry", "second"])
        self.assertEqual({entry.underlying for entry in strategy.entries}, {"MK30"})

    def test_what_is_wrong_is_said_of_the_entry_it_is_wrong_in(self) -> None:
        self.assertEqual(self.problems(self.whole()), {})
        for change, path, words in (
            ({"legs": []}, "entries/1/legs", "at least one leg"), ({"when": []}, "entries/1/when", "when to decide"),
            ({"size": []}, "entries/1/size", "how many lots"), ({"id": "entry"}, "entries/1/id", "two entries"),
            ({"id": 3}, "entries/1/id", "short text"), ({"exits": []}, "entries/1/exits", "not a part of an entry"),
            ({"underlying": "PLLM"}, "entries/1/underlying", "it has MK30"),
        ):  # fmt: skip
            self.assertIn(words, self.problems(self.whole(**change))[path], change)
        for entries in (None, [], "one", [3], [{}] * 13):
            self.assertTrue(self.problems({**normalise(SMALL), "entries": entries}), entries)
        for underlyings in (None, [], ["MK30", 3], ["MK30", "MK30"], ["X"] * 9):
            self.assertTrue(self.problems({**normalise(SMALL), "underlyings": underlyings}), underlyings)

    def test_identity_leaves_out_what_decides_nothing(self) -> None:
        document = normalise(SMALL)
        plain = rules_digest(document)
        stop = document["leave"] + [{"id": "x", "rule": "premium_stop"}]
        self.assertNotEqual(rules_digest(normalise({**document, "leave": stop})), plain)
        (entry,) = document["entries"]
        for same in (
            {**document, "name": "another"}, {**document, "leave": [*document["leave"], {**stop[-1], "off": True}]},
            {**document, "entries": [{**entry, "id": "renamed"}]},
            {**document, "entries": [{**entry, "when": [{"id": entry["when"][0]["id"], "rule": "decision_times"}]}]},
        ):  # fmt: skip
            self.assertEqual(rules_digest(normalise(same)), plain)
        self.assertNotEqual(rules_digest(normalise(self.whole())), plain)


class MirrorTest(unittest.TestCase):
    def test_calls_become_puts_and_fences_change_sides(self) -> None:
        document = variations()["condor with fences"]
        twin = mirrored(document)
        self.assertEqual([item["right"] for item in twin["entries"][0]["legs"]], ["call", "call", "put", "put"])
        fence = next(s for s in twin["leave"] if s["rule"] == "strike_fence")
        self.assertEqual((fence["call"], fence["put"]), (-0.3, 0.5))
        self.assertEqual(mirrored(twin), document)

    def test_above_becomes_below_where_the_declaration_says_so(self) -> None:
        twin = mirrored(variations()["long strangle when oversold"])
        compared = {
            s["rule"]: s["comparison"] for s in twin["entries"][0]["conditions"] if s["rule"].startswith("when_")
        }
        self.assertEqual(compared, {"when_rsi": "above", "when_average_gap": "below"})


class DeclarationTest(unittest.TestCase):
    """What every declaration owes: words, an example, defaults that its own checks accept."""

    def every(self) -> list[Declaration]:
        found = [d for part in catalogue.PARTS for d in catalogue.sentences(part).values()]
        found += [d for name in catalogue.PICKS for d in catalogue.picks(name).values()]
        return found + [measure.declaration for measure in load().all()]

    def test_each_is_complete(self) -> None:
        declarations = self.every()
        self.assertGreaterEqual(len(declarations), 100)
        for declaration in declarations:
            with self.subTest(declaration.id):
                left = [what for _, what in declaration.problems(declaration.defaults()) if not what.endswith(UNNAMED)]
                self.assertEqual(left, [])
                self.assertTrue(declaration.explains.endswith("."))
                self.assertTrue(declaration.example and declaration.words and declaration.title)
                for param in declaration.params:
                    self.assertTrue(param.optional or "{" + param.name in declaration.sentence, param.name)
                    if param.kind in ("integer", "number"):
                        self.assertIsNotNone(param.minimum)
                        self.assertIsNotNone(param.maximum)


class SoundnessTest(unittest.TestCase):
    def test_every_declaration_holds_together(self) -> None:
        self.assertEqual(mistakes(), [])

    def test_what_does_not_hold_is_named(self) -> None:
        good = catalogue.sentences("leave")["premium_stop"]
        for change, words in (
            ({"sentence": "At {perecnt}."}, "names 'perecnt', which is no value"),
            ({"when_true": "{pnl} and {lost}"}, "names 'lost', which it does not tell"),
            ({"mirror": {"side": {}}}, "mirror names 'side'"),
            ({"params": (dataclasses.replace(good.params[0], default=0),)}, "default of percent is refused"),
            ({"params": (dataclasses.replace(good.params[0], kind="mood"),)}, "kind 'mood'"),
        ):
            found = wrong_with(dataclasses.replace(good, **change))
            self.assertTrue(any(words in text for text in found), (words, found))

    def test_reasons_tell_what_their_texts_name(self) -> None:
        """Every decision of every variation over a history, read as a sentence: no number is left open."""
        timeline = short_history()
        read = 0
        for document in variations().values():
            plan = make_plan(parse(document), timeline)
            written = sheet(document)
            for reason in run_blocks(plan, timeline, 0, len(timeline.times), Decimal(50_000)).reasons:
                sentence = written.sentence(reason.rule)
                if reason.kind in ("left", "no entry") and sentence and "message" not in reason.values:
                    declaration = catalogue.sentences(sentence.part)[sentence.rule]
                    text = reason_text(declaration, reason.truth, reason.values, str)
                    self.assertNotIn("…", text, declaration.id)
                    read += 1
        self.assertGreater(read, 100)

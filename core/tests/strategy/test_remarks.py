"""What sentences of a sheet say of each other."""

from __future__ import annotations

import unittest
from typing import Any

from strell_core.formats.starters import starters
from strell_core.strategy.document import normalise
from strell_core.strategy.sentences import sheet
from tests.engine.test_forty import documents
from tests.engine.variations import STRANGLE, document, leg

LATER = {"rule": "later_leg", "id": "call", "right": "call", "strike": {"pick": "nearest_delta"}, "expiry": {"pick": "same_expiration"}}  # fmt: skip


def target(percent: int, **more: Any) -> dict[str, Any]:
    return {"rule": "credit_target", "percent": percent, **more}


class RemarksTest(unittest.TestCase):
    def said(self, raw: dict[str, Any]) -> dict[int, str]:
        return {s.number: s.remark for s in sheet(normalise(raw)).sentences if s.remark}

    def test_an_exit_behind_another_of_its_kind(self) -> None:
        held = [{"rule": "days_held", "days": 4, "time": time} for time in ("15:45", "10:00")]
        left = [{"rule": "before_expiration", "days": days} for days in (1, 3)]
        both = document("both", STRANGLE, [target(60), target(40), target(40), *held, *left, target(90, off=True)])
        self.assertEqual(
            self.said(both),
            {
                6: "Sentence 7 always acts before it.", 8: "It says what sentence 7 says.",
                9: "Sentence 10 always acts before it.", 11: "Sentence 12 always acts before it.",
            },
        )  # fmt: skip

    def test_entries_exits_stand_behind_the_strategys_and_not_the_other_way_round(self) -> None:
        raw = document("own", STRANGLE, [target(50)])
        raw["entries"][0]["leave"] = [target(70), target(30)]
        said = self.said(raw)
        self.assertEqual(set(said.values()), {"Sentence 7 always acts before it."})
        texts = {s.number: s.text for s in sheet(normalise(raw)).sentences}
        self.assertEqual([texts[number] for number in said], ["At 70 % of the credit.", "At 50 % of the credit."])
        raw["entries"].append({**raw["entries"][0], "id": "other", "leave": [target(80)]})
        raw["entries"][0]["leave"] = [target(30)]
        for part in ("when", "conditions", "legs", "checks", "size"):
            raw["entries"][1][part] = [{**item, "id": None} for item in raw["entries"][1][part]]
        self.assertEqual(len(self.said(raw)), 1, "the other entry's; the strategy's still holds for it")

    def test_adjustments_that_wait_for_what_does_not_come(self) -> None:
        above = {"left": {"measure": "price"}, "is": "above", "right": 1}
        roll = {"rule": "roll_out", **above}
        raw = document("looks", STRANGLE, [])
        raw["adjust"] = [{**roll, "further": "must"}, {**roll, "further": "must"}]
        self.assertEqual(list(self.said(raw).values()), ["There is no next adjustment, so it never acts."])
        raw["adjust"][1]["off"] = True
        self.assertEqual(len(self.said(raw)), 1, "one that is switched off is none")
        raw["adjust"] = [roll, {**roll, "daily": "10:00"}, {**roll, "upon": "gone"}]
        self.assertEqual(self.said(raw), {})
        raw["adjust"] = [{**roll, "further": "may"}, {**roll, "only": "after"}]
        self.assertEqual(self.said(raw), {})
        raw["adjust"] = [{**roll, "only": "after"}, roll, {**roll, "only": "after"}]
        never = "It never acts: the adjustment before it does not go on with the next one."
        self.assertEqual(list(self.said(raw).values()), [never, never])
        raw["adjust"] = [roll, {**roll, "daily": "10:00"}, {**roll, "upon": "gone"}]
        raw["entries"][0]["when"] = [{"rule": "after_trade", "entry": raw["entries"][0].get("id", "entry")}]
        self.assertEqual(
            list(self.said(raw).values()), ["The entry has no decision times: say when this is looked at."]
        )

    def test_entering_again_at_a_time_that_does_not_come(self) -> None:
        again = {"rule": "condition_again", "left": {"measure": "price"}, "is": "above", "right": 1, "when": "next"}
        raw = document("again", STRANGLE, [again])
        self.assertEqual(self.said(raw), {})
        raw["entries"][0]["when"] = [{"rule": "after_trade", "entry": raw["entries"][0].get("id", "entry")}]
        self.assertEqual(
            list(self.said(raw).values()),
            ["What it enters has no decision times, so it waits for ever: enter at once."],
        )
        raw["leave"][0]["when"] = "now"
        self.assertEqual(self.said(raw), {})

    def test_days_beside_how_far_expirations_are_picked(self) -> None:
        at_once = document("at once", STRANGLE, [{"rule": "before_expiration", "days": 18}])
        self.assertEqual(
            self.said(at_once), {6: "It leaves at once: sentence 3 picks expirations at most 18 days away."}
        )
        never = document("never", STRANGLE, [{"rule": "days_held", "days": 19}])
        self.assertIn("comes too late", self.said(never)[6])
        calendar = [leg("sell", "call", {"pick": "nearest_delta", "delta": 0.5}, STRANGLE[0]["expiry"]),
                    leg("buy", "call", {"pick": "nearest_delta", "delta": 0.5}, {"pick": "days_after", "days": 30})]  # fmt: skip
        self.assertEqual(self.said(document("calendar", calendar, [{"rule": "days_held", "days": 19}])), {})

    def test_a_later_leg_and_what_opens_it(self) -> None:
        raw = document("later", [leg("sell", "put", {"pick": "nearest_delta"}, STRANGLE[0]["expiry"])], [])
        raw["entries"][0]["legs"].append(LATER)
        self.assertEqual(self.said(raw), {4: "Nothing opens it: add “Open a leg” to the adjustments."})
        first = raw["entries"][0]["legs"][0]["id"]
        opens = {
            "rule": "open_leg",
            "left": {"measure": "leg_greek", "leg": first},
            "is": "below",
            "right": -0.5,
            "what": first,
        }
        raw["entries"][0]["adjust"] = [opens]
        self.assertIn("Leg 3 is opened by the entry: name one that is opened later.", self.said(raw).values())
        raw["entries"][0]["adjust"] = [{**opens, "what": "call"}]
        self.assertEqual(self.said(raw), {})

    def test_a_limit_that_goes_nowhere(self) -> None:
        def patience(start: int, most: int, step: int) -> dict[int, str]:
            orders = [{"rule": "patience", "start": start, "most": most, "step": step}]
            return self.said(document("still", STRANGLE, [target(60)], orders=orders))

        self.assertEqual(patience(20, 0, 25), {7: "It starts beyond 0 % and stays where it starts."})
        self.assertEqual(patience(0, 100, 0), {7: "Without a step it stays at 0 %."})
        self.assertEqual((patience(0, 100, 25), patience(0, 0, 0)), ({}, {}))

    def test_no_strategy_of_the_set_and_no_starter_is_remarked_on(self) -> None:
        for name, raw in documents().items():
            self.assertEqual(self.said(raw), {}, name)
        for starter in starters():
            self.assertEqual(self.said(starter.document("Begun", "MK30")), {}, starter.id)

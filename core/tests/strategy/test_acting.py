"""When the times that a sheet names act on a history."""

from __future__ import annotations

import unittest
from typing import Any

from strell_core.market.timeline import Timeline
from strell_core.strategy.acting import acting
from tests.engine.test_worked_examples import whole
from tests.handmade import session_chains, timeline_of

PUT = "2026-10-16/put/3040"
LEG = {
    "rule": "leg",
    "side": "sell",
    "right": "put",
    "strike": {"pick": "percent_from_spot", "percent": 2},
    "expiry": {"pick": "nearest_days"},
}


def history(*sessions: tuple[str, ...]) -> Timeline:
    days = ("2026-10-05", "2026-10-06", "2026-10-07", "2026-10-08")
    rows = [
        {"at": f"{day} {time}", "spot": 3100, PUT: "6.00/6.20"}
        for day, times in zip(days, sessions, strict=False)
        for time in times
    ]
    return timeline_of(session_chains(rows))


HALF_HOURS = ("15:30", "16:00", "16:30", "17:00", "17:30")
FIVE = ("15:40", "15:45", "15:50", "17:20", "17:25", "17:30")


def told(timeline: Timeline, entry: str, leave: str, policy: str = "decide") -> dict[str, str]:
    document: dict[str, Any] = whole({
        "enter": [{"rule": "decision_times", "weekdays": ["mon"], "time": entry}], "legs": [LEG],
        "leave": [{"rule": "days_held", "days": 1, "time": leave}], "orders": [{"rule": "single_snapshots", "policy": policy}],
    })  # fmt: skip
    kinds = {document["entries"][0]["when"][0]["id"]: "enter", document["leave"][0]["id"]: "leave"}
    return {kinds[key]: words for key, words in acting(document, timeline).items()}


class ActingTest(unittest.TestCase):
    def test_a_time_that_is_recorded_needs_no_words(self) -> None:
        self.assertEqual(told(history(FIVE), "15:45", "17:25"), {})

    def test_closing_history_acts_at_its_snapshot(self) -> None:
        found = told(history(("17:30",), FIVE), "15:45", "15:45")
        words = "Acts at 17:30 where a session has one snapshot."
        self.assertEqual(found, {"enter": words, "leave": words})
        self.assertEqual(
            told(history(("17:30",), FIVE), "15:45", "15:45", "skip"), {"leave": words}, "entries are skipped there"
        )

    def test_half_hours_move_it_to_the_next(self) -> None:
        found = told(history(HALF_HOURS), "15:45", "15:45")
        words = "Acts at 16:00 on snapshots 30 minutes apart, filled from 16:30 on."
        self.assertEqual(found, {"enter": words, "leave": words})

    def test_what_comes_with_the_last_snapshot(self) -> None:
        """An exit is decided before it; an entry can never be filled, and the sheet says so."""
        found = told(history(HALF_HOURS), "17:20", "17:20")
        self.assertEqual(found["leave"], "Acts at 17:00 on snapshots 30 minutes apart, filled from 17:30 on.")
        self.assertEqual(
            found["enter"],
            "Comes with a session's last snapshot, 17:30, after which nothing can be filled: choose 17:00 or earlier.",
        )
        both = told(history(("17:30",), HALF_HOURS), "17:30", "17:00")
        self.assertIn("nothing can be filled", both["enter"])
        self.assertEqual(both["leave"], "Acts at 17:30 where a session has one snapshot.")

    def test_an_entry_too_long_after_a_snapshot_is_missed(self) -> None:
        found = told(history(("15:30", "15:35", "16:30", "17:25", "17:30")), "15:45", "15:45")
        self.assertEqual(found["enter"], "Has no snapshot near enough, so that it is skipped.")

"""Conditions on what is held that need the past: for several snapshots in a row, crossed, from one until another. By hand; in
steps, in blocks, cut anywhere and restored."""

from __future__ import annotations

import json
from typing import Any

from strell_core.engine.stored import dump, load
from strell_core.measures.memory import ConditionState
from strell_core.results.report import decisions
from tests.engine.byhand import CALL, PUT, ByHandCase, entry, snapshots, strategy
from tests.handmade import session_chains, timeline_of

PNL = {"measure": "pnl"}


def when(comparison: str, right: float, **more: Any) -> dict[str, Any]:
    return {"id": "x", "rule": "condition", "left": PNL, "is": comparison, "right": right, **more}


class MemoryTest(ByHandCase):
    """Sold at 6.00 and 5.00 on Monday, two lots of 50 EUR a point: 11.00 for both at mid is no P/L, a point more −100."""

    def made(self, rule: dict[str, Any], quotes: dict[str, str], **more: Any) -> Any:
        both = {at: {CALL: call, PUT: "4.90/5.10"} for at, call in quotes.items()}
        first = {"2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"}}
        timeline = timeline_of(session_chains(snapshots({**first, **both})))
        once = {"when": [{"id": "only-when", "rule": "decision_times", "weekdays": ["mon"], "time": "15:45"}]}
        return self.run_all(strategy(entry("only", [*self.STRANGLE], **once), leave=[rule], **more), timeline)

    def left(self, rule: dict[str, Any], quotes: dict[str, str], **more: Any) -> list[str]:
        return [at for at, _, _ in self.told(self.made(rule, quotes, **more), "left")]

    UP_AND_DOWN = {
        "2026-10-05 15:55": "7.90/8.10", "2026-10-06 15:40": "6.90/7.10", "2026-10-06 15:45": "7.90/8.10",
        "2026-10-06 15:50": "7.90/8.10", "2026-10-06 15:55": "7.90/8.10", "2026-10-07 15:40": "5.00/5.20",
    }  # fmt: skip

    def test_for_three_snapshots_in_a_row_begins_anew_when_it_was_false(self) -> None:
        # −190 is reached at 8.00: on Monday's last, not on Tuesday's first, then three times
        self.assertEqual(self.left(when("at most", -190, looks=3), self.UP_AND_DOWN), ["06 15:55"])
        self.assertEqual(self.left(when("at most", -190, looks=2), self.UP_AND_DOWN), ["06 15:50"])
        self.assertEqual(self.left(when("at most", -190), self.UP_AND_DOWN), ["05 15:55"])
        self.assertEqual(self.left(when("at most", -190, looks=4), self.UP_AND_DOWN), [])

    def test_the_fill_s_own_snapshot_is_the_first(self) -> None:
        self.assertEqual(self.left(when("below", 100, looks=2), {}), ["05 15:55"])

    def test_a_crossing_is_from_one_snapshot_to_the_next(self) -> None:
        # it is −200 on Monday's last, −100 on Tuesday's first
        self.assertEqual(self.left(when("crosses above", -150), self.UP_AND_DOWN), ["06 15:40"])
        # from −10 at the fill to −200
        self.assertEqual(self.left(when("crosses below", -150), self.UP_AND_DOWN), ["05 15:55"])
        self.assertEqual(self.left(when("crosses above", 50), self.UP_AND_DOWN), ["07 15:40"])

    def test_from_a_level_is_across_it_and_staying_at_it_is_not(self) -> None:
        # at the fill's own snapshot, and the next, P/L is −10 for two lots: the call at 6.10 and the put at 5.00 in the middle
        stays = {"2026-10-05 15:55": "6.00/6.20", "2026-10-06 15:40": "5.90/6.10"}
        self.assertEqual(self.left(when("crosses above", -10), stays), ["06 15:40"])
        falls = {**stays, "2026-10-06 15:40": "6.10/6.30"}
        self.assertEqual(self.left(when("crosses below", -10), falls), ["06 15:40"])
        self.assertEqual(self.left(when("crosses above", -10), {"2026-10-05 15:55": "6.00/6.20"}), [])

    def test_once_it_was_is_kept_until_it_ends(self) -> None:
        was_down = when("at most", -190, until={"left": PNL, "is": "above", "right": -50})
        # down on Monday, and a look later no more than −100: it still counts
        rule = {**was_down, "as": "other"}
        self.assertEqual(self.left(rule, self.UP_AND_DOWN), ["05 15:55"])
        limited = {
            **rule,
            "left": {"measure": "sessions_held"},
            "is": "at least",
            "right": 1,
            "until": {"left": PNL, "is": "below", "right": -150},
        }
        # from Tuesday on, while it is not below −150: at 15:40 it begins
        self.assertEqual(self.left(limited, self.UP_AND_DOWN), ["06 15:40"])

    def test_what_is_kept_is_stored_with_the_trade(self) -> None:
        history = self.made(when("at most", -190, looks=4), self.UP_AND_DOWN | {"2026-10-07 15:40": "7.90/8.10"})
        # five true in a row would be one too many to keep
        self.assertEqual(self.told(history, "left"), [("07 15:40", "left", "x")])
        open_still = self.made(when("at most", -190, looks=9), self.UP_AND_DOWN | {"2026-10-07 15:40": "7.90/8.10"})
        (trade,) = open_still.state.trades
        (kept,) = trade.memory
        # the put stays where it is and the call too, until the history ends on Wednesday
        self.assertEqual((kept.now, kept.before), (ConditionState(7, 7), ConditionState(6, 6)))
        text = dump(open_still.state)
        self.assertEqual(dump(load(text, "MK30")), text)
        self.assertNotIn("memory", json.loads(dump(self.made(when("at most", -900), {}).state)))

    def test_conditions_on_the_account_count_every_snapshot(self) -> None:
        below = {
            "id": "calm",
            "rule": "condition",
            "left": {"measure": "below_high", "unit": "money"},
            "is": "at most",
            "right": 0,
        }
        first = {"2026-10-05 15:40": {CALL: "6.00/6.20", PUT: "5.00/5.20"}}
        timeline = timeline_of(session_chains(snapshots(first)))
        for looks, said in ((2, "entry"), (3, "no entry")):
            # 15:45 is the second snapshot there is
            conditions = [{"rule": "open_limit", "limit": 1}, {**below, "looks": looks}]
            history = self.run_all(strategy(entry("only", [*self.STRANGLE], conditions=conditions)), timeline)
            self.assertEqual([item["kind"] for item in decisions(history.reasons)][:1], [said])

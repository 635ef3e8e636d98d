"""What keeps an entry from being made, and who says so."""

from __future__ import annotations

import unittest
from decimal import Decimal
from typing import Any

from strell_core.engine.plain import to_plain
from strell_core.engine.plan import make_plan
from strell_core.engine.run import History, run_blocks, run_steps
from strell_core.engine.stored import dump, load
from strell_core.strategy.actions import Reenter, consequence, plain_consequence
from strell_core.strategy.document import parse
from tests.engine.test_worked_examples import local
from tests.engine.variations import document, leg
from tests.handmade import session_chains, timeline_of

PUT, FAR = "2026-10-16/put/3040", "2026-10-16/put/2980"
TWO = ("05 15:45", "05 15:50", "06 15:45", "06 15:50")
"""Two sessions with two snapshots."""
ONE = ("05 17:30", "06 17:30", "07 17:30")
"""Closing history."""


def rows(times: tuple[str, ...], put: str = "6.00/6.20", far: str = "2.00/2.20") -> list[dict[str, Any]]:
    return [{"at": f"2026-10-{time}", "spot": 3100, PUT: put, FAR: far} for time in times]


class EntriesTest(unittest.TestCase):
    def ran(self, rows: list[dict[str, Any]], checks: list[dict[str, Any]] | None = None, **more: Any) -> History:
        """A put spread, in steps and in blocks."""
        expiry = {"pick": "nearest_days", "days": 10, "from": 5, "to": 18}
        sell = leg("sell", "put", {"pick": "percent_from_spot", "percent": 2}, expiry)
        buy = leg("buy", "put", {"pick": "percent_from_spot", "percent": 4}, {"pick": "same_expiration"})
        sheet = document("entries", [sell, buy], [], weekdays=("mon", "tue", "wed"), **more)
        sheet["entries"][0]["checks"] = checks or []
        timeline = timeline_of(session_chains(rows))
        plan, n = make_plan(parse(sheet), timeline), len(timeline.times)
        steps, blocks = (run(plan, timeline, 0, n, Decimal(50_000)) for run in (run_steps, run_blocks))
        self.assertEqual(to_plain(steps.reasons), to_plain(blocks.reasons))
        return steps

    def said(self, history: History) -> list[tuple[str, str, str]]:
        return [(local(r.at)[5:], r.kind, r.rule) for r in history.reasons]

    def test_a_structure_that_brings_too_little_is_not_entered_and_the_check_says_so(self) -> None:
        # at fill prices 6.00 - 2.20 = 3.80
        least = {"id": "least", "rule": "net_premium", "kind": "credit", "points": 3.85}
        refused = self.ran(rows(TWO), [least])
        self.assertEqual([kind for _, kind, _ in self.said(refused)], ["no entry", "no entry"])
        self.assertEqual({rule for _, _, rule in self.said(refused)}, {"least"})
        self.assertEqual((refused.intents, refused.state.trades), ([], ()))
        made = self.ran(rows(TWO), [{**least, "points": 3.8}])
        self.assertEqual([kind for _, kind, _ in self.said(made)][:2], ["entry", "filled"])

    def test_one_check_of_several_is_enough_and_the_first_that_says_no_speaks(self) -> None:
        wide = {"id": "wide", "rule": "spread_width", "percent": 1}
        least = {"id": "least", "rule": "net_premium", "kind": "credit", "points": 99.0}
        for checks, who in (([wide, least], "wide"), ([least, wide], "least")):
            self.assertEqual({rule for _, _, rule in self.said(self.ran(rows(TWO), checks))}, {who})

    def test_closing_history_is_decided_on_or_skipped_as_the_sheet_says(self) -> None:
        for policy, kinds in (("decide", ["entry", "filled"]), ("skip", ["skipped", "skipped", "skipped"])):
            orders = [{"rule": "single_snapshots", "policy": policy}]
            made = self.ran(rows(ONE), orders=orders)
            self.assertEqual([kind for _, kind, _ in self.said(made)][: len(kinds)], kinds, policy)
            self.assertEqual(len(made.state.trades), policy == "decide")

    AGAIN = {"rule": "condition_again", "as": "other", "left": {"measure": "pnl", "unit": "premium"}, "is": "at most", "right": -20, "id": "again"}  # fmt: skip

    def again(self, prices: dict[str, tuple[float, str]], **more: Any) -> History:
        """A put 2 % below the money that leaves and comes back; by time, the underlying and that put."""
        near = {"2026-10-16/put/3040": "6.00/6.20", "2026-10-16/put/3000": "4.00/4.20"}
        found = [
            {"at": f"2026-10-{time}", "spot": spot, **near, "2026-10-16/put/3040": put}
            for time, (spot, put) in prices.items()
        ]
        expiry = {"pick": "nearest_days", "days": 10, "from": 5, "to": 18}
        sell = leg("sell", "put", {"pick": "percent_from_spot", "percent": 2}, expiry)
        sheet = document("again", [sell], [{**self.AGAIN, **more}], weekdays=("mon", "wed"), time="15:45")
        timeline = timeline_of(session_chains(found))
        plan, n = make_plan(parse(sheet), timeline), len(timeline.times)
        steps, blocks = (run(plan, timeline, 0, n, Decimal(50_000)) for run in (run_steps, run_blocks))
        self.assertEqual((to_plain(steps.reasons), dump(steps.state)), (to_plain(blocks.reasons), dump(blocks.state)))
        for cut in range(1, n):
            first = run_blocks(plan, timeline, 0, cut, Decimal(50_000))
            rest = run_blocks(plan, timeline, cut, n, Decimal(50_000), None, load(dump(first.state), "MK30"))
            self.assertEqual(dump(rest.state), dump(steps.state), cut)
        return steps

    FALL = {
        "05 15:45": (3100, "6.00/6.20"), "05 15:50": (3100, "6.00/6.20"),
        # 20 % lost in the middle; out at 8.20, while the underlying stands where another strike is 2 % below it
        "06 11:00": (3060, "8.00/8.20"), "06 11:05": (3060, "8.00/8.20"), "06 11:10": (3060, "8.00/8.20"),
        "07 15:45": (3060, "8.00/8.20"), "07 15:50": (3060, "8.00/8.20"),
    }  # fmt: skip

    def entered(self, history: History) -> list[tuple[str, str]]:
        return [
            (local(r.at)[5:], r.values["contracts"][0].split("/")[-1]) for r in history.reasons if r.kind == "entry"
        ]

    def test_again_with_fresh_picks_or_in_the_same_contracts(self) -> None:
        for picks, strike in (("fresh", "3000"), ("same", "3040")):
            made = self.again(self.FALL, picks=picks)
            self.assertEqual(self.entered(made)[:2], [("10-05 15:45", "3040"), ("10-06 11:05", strike)], picks)
            self.assertEqual((made.state.trades[0].number, made.state.trades[0].reentries), (2, 1))

    def test_again_at_the_next_decision_time(self) -> None:
        made = self.again(self.FALL, picks="same", when="next")
        self.assertEqual(self.entered(made), [("10-05 15:45", "3040"), ("10-07 15:45", "3040")])
        self.assertEqual([trade.reentries for trade in made.state.trades], [1])

    def test_what_cannot_be_opened_again_is_given_up(self) -> None:
        gone = {**self.FALL, "07 15:45": (3060, "0.00/8.20"), "07 15:50": (3060, "0.00/8.20")}
        made = self.again(gone, picks="same", when="next")
        (said,) = [reason for reason in made.reasons if reason.kind == "re-entry given up"]
        self.assertEqual(local(said.at)[5:], "10-07 15:45")
        self.assertIn("has no quotes that it can be opened on", said.values["message"])
        # the entry itself is looked at all the same, with its own picks
        self.assertEqual(self.entered(made)[-1], ("10-07 15:45", "3000"))

    def test_what_an_earlier_version_wrote_of_entering_again_is_the_same(self) -> None:
        self.assertEqual(plain_consequence(Reenter(at_most=2)), {"do": "re-enter", "entry": "", "at_most": 2})
        every = Reenter(at_most=2, later=True, same=True)
        self.assertEqual(consequence(plain_consequence(every)), every)


if __name__ == "__main__":
    unittest.main()

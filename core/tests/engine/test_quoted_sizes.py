"""Lots beyond the size that was quoted: taken and counted, split, or refused (semantics rule 8)."""

from __future__ import annotations

import unittest
from decimal import Decimal
from typing import Any

from strell_core.engine.plan import make_plan
from strell_core.engine.run import History, run_blocks, run_steps
from strell_core.engine.stored import dump, load
from strell_core.market.instruments import ContractKey
from strell_core.market.timeline import Sizes, Timeline
from strell_core.results.report import report
from strell_core.strategy.document import parse
from tests.demo import short_history
from tests.engine.test_sameness import bytes_of
from tests.engine.test_worked_examples import whole
from tests.engine.variations import variations
from tests.handmade import instant, session_chains, timeline_of

CASH = Decimal(500_000)
PUT = "2026-10-16/put/3040"
TIMES = (
    "2026-10-05 15:45",
    "2026-10-05 15:50",
    "2026-10-05 15:55",
    "2026-10-06 11:00",
    "2026-10-06 11:05",
    "2026-10-06 11:10",
)


def invented(seed: int) -> Sizes:
    """Sizes of a few contracts, many of them too few, some not told."""

    def at(contract: ContractKey, instant: int) -> tuple[int, int] | None:
        mark = hash((int(contract.strike), contract.right == "call", instant // 300, seed)) % 101
        return None if mark % 9 == 0 else (mark % 4, mark % 5)

    return at


class QuotedSizesTest(unittest.TestCase):
    def history(self, sizes: list[tuple[int, int] | None], **quotes: str) -> Timeline:
        made = timeline_of(
            session_chains(
                [{"at": at, "spot": 3100, PUT: quotes.get(f"q{n}", "6.00/6.20")} for n, at in enumerate(TIMES)]
            )
        )
        told = {instant(at): found for at, found in zip(TIMES, sizes, strict=True)}
        made.sizes = lambda contract, at: told[at]
        return made

    def run_both(self, timeline: Timeline, policy: str, side: str = "sell", credit: float | None = None) -> History:
        legs: list[dict[str, Any]] = [
            {"rule": "leg", "side": side, "right": "put", "strike": {"pick": "percent_from_spot", "percent": 2}, "expiry": {"pick": "nearest_days"}}
        ]  # fmt: skip
        document = whole(
            {
                "legs": legs, "leave": [{"rule": "days_held", "days": 1, "time": "11:00"}],
                "orders": [{"rule": "quoted_size", "policy": policy}],
            }
        )  # fmt: skip
        document["entries"][0]["size"][0]["lots"] = 3
        self.plan = make_plan(parse(document), timeline)
        steps, blocks = (run(self.plan, timeline, 0, len(timeline.times), CASH) for run in (run_steps, run_blocks))
        self.assertEqual((bytes_of(steps), dump(steps.state)), (bytes_of(blocks), dump(blocks.state)))
        return steps

    def fills(self, history: History) -> list[tuple[str, int]]:
        """Kind and contracts of everything dealt."""
        return [(entry.kind, entry.contracts) for entry in history.entries if entry.kind in ("premium", "closing")]

    def test_taking_deals_all_and_the_run_counts_it(self) -> None:
        timeline = self.history([(9, 9), (2, 9), (9, 9), (9, 9), (9, 3), (9, 9)])
        history = self.run_both(timeline, "take")
        told = [reason.values for reason in history.reasons if reason.kind == "filled"]
        self.assertEqual(
            [values.get("quoted") for values in told], [2, None], "three were bought back of three offered"
        )
        self.assertEqual(told[0]["lots"], 3)
        figures = report(self.plan, timeline, history, 0, len(timeline.times), CASH, 1).figures
        self.assertEqual(figures["beyond_size"], 1)

    def test_without_sizes_nothing_is_said_or_held_back(self) -> None:
        for policy in ("take", "split", "refuse"):
            timeline = self.history([None] * 6)
            history = self.run_both(timeline, policy)
            self.assertFalse(any("quoted" in reason.values for reason in history.reasons), policy)
            self.assertEqual([trade.opened_at for trade in history.closed], [instant(TIMES[1])], policy)
            timeline.sizes = None
            self.assertEqual(bytes_of(self.run_both(timeline, policy)), bytes_of(history), policy)

    def test_splitting_deals_what_is_there_and_waits_for_the_rest(self) -> None:
        # bid for: one, then many; offered: none, two, many
        timeline = self.history([(9, 9), (1, 9), (9, 9), (9, 9), (9, 0), (9, 2)])
        history = self.run_both(timeline, "split")
        self.assertEqual([leg.contracts for trade in history.state.trades for leg in trade.legs], [-1])
        self.assertEqual(history.state.trades[0].lots, 3)
        sold = [entry.contracts for entry in history.entries if entry.kind == "premium"]
        self.assertEqual(sold, [-1, -2, 2])
        paid = [entry.amount for entry in history.entries if entry.kind == "commission"]
        self.assertEqual(paid, [Decimal("-0.80"), Decimal("-1.60"), Decimal("-1.60")])

    def test_lots_that_nobody_quotes_by_the_sessions_end_are_told(self) -> None:
        for sizes, left in (((1, 1), "1 lot was not dealt"), ((1, 0), "2 lots were not dealt"), ((1, 2), None)):
            with self.subTest(sizes):
                bids = [(9, 9), *((size, 9) for size in sizes), (9, 9), (9, 9), (9, 9)]
                timeline = self.history(bids)
                history = self.run_both(timeline, "split")
                said = [reason.values["message"] for reason in history.reasons if reason.kind == "lapsed"]
                self.assertEqual(said, [f"{left} until the session ended"] if left else [])
                # the entry was filled, in a part
                self.assertEqual(report(self.plan, timeline, history, 0, 6, CASH, 1).figures["entries_unfilled"], 0)

    def test_refusing_waits_for_the_whole_entry_but_an_exit_takes_what_there_is(self) -> None:
        timeline = self.history([(9, 9), (2, 9), (3, 9), (9, 9), (9, 1), (9, 2)])
        history = self.run_both(timeline, "refuse")
        self.assertEqual([trade.opened_at for trade in history.closed], [instant(TIMES[2])])
        moved = [(entry.at, entry.contracts) for entry in history.entries if entry.kind == "premium"]
        self.assertEqual(moved, [(instant(TIMES[2]), -3), (instant(TIMES[4]), 1), (instant(TIMES[5]), 2)])
        never = self.run_both(self.history([(9, 9), (2, 9), (2, 9), (9, 9), (9, 9), (9, 9)]), "refuse")
        self.assertEqual((never.closed, never.state.trades), ([], ()))
        self.assertIn("lapsed", {reason.kind for reason in never.reasons})

    def test_a_long_leg_that_nobody_bids_for_is_given_away_whatever_the_sizes(self) -> None:
        timeline = self.history([(9, 9), (9, 9), (9, 9), (9, 9), (0, 9), (0, 9)], q4="0.00/0.05", q5="0.00/0.05")
        history = self.run_both(timeline, "split", side="buy")
        self.assertEqual([trade.closed_at for trade in history.closed], [instant(TIMES[4])])

    def test_steps_and_blocks_agree_at_any_sizes_also_when_cut_and_restored(self) -> None:
        timeline = short_history()
        begin, end, parts = int(timeline.first[-30]), len(timeline.times), 0
        self.addCleanup(setattr, timeline, "sizes", timeline.sizes)
        for seed, (name, raw) in enumerate(list(variations().items())[::2]):
            timeline.sizes = invented(seed)
            policy = ("split", "refuse", "take")[seed % 3]
            entries = [{**entry, "size": [{"rule": "fixed_lots", "lots": 3}]} for entry in raw["entries"]]
            document = {
                **raw,
                "entries": entries,
                "orders": [*raw["orders"], {"rule": "quoted_size", "policy": policy}],
            }
            plan = make_plan(parse(document), timeline)
            steps, blocks = (run(plan, timeline, begin, end, CASH) for run in (run_steps, run_blocks))
            self.assertEqual(
                (bytes_of(steps), dump(steps.state)), (bytes_of(blocks), dump(blocks.state)), (name, policy)
            )
            parts += sum(reason.kind == "filled" for reason in steps.reasons)
            middle = (begin + end) // 2
            first = run_blocks(plan, timeline, begin, middle, CASH)
            restored = load(dump(first.state), "MK30")
            rest = run_blocks(plan, timeline, middle, end, CASH, None, restored)
            self.assertEqual(
                (bytes_of(first, rest), dump(rest.state)), (bytes_of(steps), dump(steps.state)), (name, policy)
            )
        self.assertGreater(parts, 60)

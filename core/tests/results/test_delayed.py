"""Exits that were decided and had to wait are counted, from histories written by hand."""

from __future__ import annotations

import unittest
from decimal import Decimal

from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks, run_steps
from strell_core.market.instruments import ContractKey
from strell_core.results.delayed import delayed, in_the_way, leavings
from strell_core.strategy.document import parse
from tests.engine.variations import document, leg
from tests.handmade import instant, session_chains, timeline_of

PUT = "2026-10-16/put/3040"
RULES = document(
    "waits", [leg("sell", "put", {"pick": "percent_from_spot", "percent": 2}, {"pick": "nearest_days", "days": 10, "from": 5, "to": 15})],
    [{"rule": "days_held", "days": 1, "time": "11:00"}], weekdays=("mon",),
)  # fmt: skip
OPENED = [
    {"at": "2026-10-05 15:45", "spot": 3100, PUT: "6.00/6.20"},
    {"at": "2026-10-05 15:50", "spot": 3100, PUT: "6.00/6.20"},
    {"at": "2026-10-06 11:00", "spot": 3100, PUT: "6.00/6.20"},
]
DECIDED = instant("2026-10-06 11:00")


class DelayedTest(unittest.TestCase):
    def found(self, later: list[dict[str, object]]) -> list[tuple[int | None, int]]:
        """When each that waited was done, and the trades still open; the same in steps and in blocks."""
        timeline = timeline_of(session_chains([*OPENED, *later]))
        plan = make_plan(parse(RULES), timeline)
        out = []
        for run in (run_steps, run_blocks):
            history = run(plan, timeline, 0, len(timeline.times), Decimal(50_000))
            waited = delayed(history, timeline, len(timeline.dates) - 1)
            self.assertTrue(all((d.trade, d.decided_at) == (1, DECIDED) for d in waited))
            out.append([(d.done_at, len(history.state.trades)) for d in waited])
        self.assertEqual(out[0], out[1])
        return out[0]

    def test_an_entry_dealt_at_the_settlement_of_one_leg_ends_no_run(self) -> None:
        near, far = "2026-10-05/put/3040", "2026-10-16/put/3040"
        quotes = {near: "1.00/1.20", far: "6.00/6.20"}
        times = ("2026-10-05 17:20", "2026-10-05 17:25", "2026-10-05 17:30", "2026-10-06 17:30")
        timeline = timeline_of(session_chains([{"at": at, "spot": 3100, **quotes} for at in times]))
        strike = {"pick": "percent_from_spot", "percent": 2}
        legs = [leg("sell", "put", strike, {"pick": "nearest_days", "days": 0, "from": 0, "to": 3}),
                leg("buy", "put", strike, {"pick": "days_after", "days": 11})]  # fmt: skip
        plan = make_plan(parse(document("late", legs, [], weekdays=("mon",), time="17:25")), timeline)
        steps, blocks = (run(plan, timeline, 0, len(times), Decimal(50_000)) for run in (run_steps, run_blocks))
        self.assertEqual(steps.state, blocks.state)
        self.assertEqual([leg.contract.expiration.day for leg in steps.state.trades[0].legs], [16])

    def test_a_later_trade_settles_while_an_earlier_one_goes_on(self) -> None:
        near, far = "2026-10-06/put/3040", "2026-10-16/put/3040"
        quotes = {near: "1.00/1.20", far: "6.00/6.20"}
        times = ("05 15:45", "05 15:50", "06 17:25", "06 17:30", "07 17:30")
        timeline = timeline_of(session_chains([{"at": f"2026-10-{at}", "spot": 3100, **quotes} for at in times]))
        strike = {"pick": "percent_from_spot", "percent": 2}
        raw = document("two", [leg("sell", "put", strike, {"pick": "nearest_days", "days": 11, "from": 8, "to": 15})], [],
                       weekdays=("mon",), limit=2)  # fmt: skip
        second = document("second", [leg("sell", "put", strike, {"pick": "nearest_days", "days": 1, "from": 0, "to": 3})], [],
                          weekdays=("mon",), limit=2)["entries"][0]  # fmt: skip
        for part in ("when", "conditions", "legs", "size"):
            second[part] = [{**item, "id": None} for item in second[part]]
        raw["entries"].append({**second, "id": "near"})
        plan = make_plan(parse(raw), timeline)
        for run in (run_steps, run_blocks):
            history = run(plan, timeline, 0, len(times), Decimal(500_000))
            self.assertEqual([(trade.number, trade.rule) for trade in history.closed], [(2, "settlement")])
            self.assertEqual([trade.number for trade in history.state.trades], [1])

    def test_what_is_done_in_time_is_not_counted(self) -> None:
        self.assertEqual(self.found([{"at": "2026-10-06 11:05", "spot": 3100, PUT: "5.00/5.20"}]), [])
        self.assertEqual(
            self.found(
                [
                    {"at": "2026-10-06 11:05", "spot": 3100},
                    {"at": "2026-10-07 17:30", "spot": 3100, PUT: "5.00/5.20"},
                ]
            ),
            [],
            "the next session is in time",
        )

    def test_an_exit_that_waited_for_quotes_says_when_it_was_done(self) -> None:
        later = [
            {"at": "2026-10-06 11:05", "spot": 3100},
            {"at": "2026-10-07 11:00", "spot": 3100},
            {"at": "2026-10-08 11:00", "spot": 3100, PUT: "5.00/5.20"},
        ]
        self.assertEqual(self.found(later), [(instant("2026-10-08 11:00"), 0)])

    def test_one_that_was_never_done_is_counted_whether_settled_or_still_open(self) -> None:
        quiet = [{"at": f"2026-10-{when}", "spot": 3100} for when in ("06 11:05", "07 17:30", "08 17:30", "09 17:30")]
        self.assertEqual(self.found(quiet), [(None, 1)])
        settled = [*quiet, *({"at": f"2026-10-{day:02d} 17:30", "spot": 3100} for day in (12, 13, 14, 15, 16))]
        self.assertEqual(self.found(settled), [(None, 0)])

    def test_the_session_after_is_in_time_whenever_the_run_ends(self) -> None:
        later = [{"at": "2026-10-06 11:05", "spot": 3100}, {"at": "2026-10-07 17:30", "spot": 3100}]
        timeline = timeline_of(session_chains([*OPENED, *later]))
        history = run_steps(make_plan(parse(RULES), timeline), timeline, 0, len(timeline.times), Decimal(50_000))
        for last, late in ((1, False), (2, False), (3, True)):
            (waits,) = leavings(history, timeline, last)
            self.assertEqual((waits.decided_at, waits.done_at, waits.late), (DECIDED, None, late), last)


class InTheWayTest(unittest.TestCase):
    def test_snapshots_between_a_decision_and_what_came_of_it(self) -> None:
        other = "2026-10-16/call/3160"
        timeline = timeline_of(session_chains([
            {"at": "2026-10-05 15:45", "spot": 3100, PUT: "6.00/6.20", other: "5.00/5.20"},
            {"at": "2026-10-05 15:50", "spot": 3100, other: "5.00/5.20"},
            {"at": "2026-10-06 15:45", "spot": 3100, PUT: "6.30/6.20", other: "5.00/5.20"},
            {"at": "2026-10-06 15:50", "spot": 3100, PUT: "6.00/6.20", other: "5.00/5.20"},
            {"at": "2026-10-07 17:30", "spot": 3100, other: "5.00/5.20"},
            {"at": "2026-10-08 17:30", "spot": 3100, PUT: "6.00/6.20", other: "5.00/5.20"},
        ]))  # fmt: skip
        put, call = (ContractKey.parse(code, "MK30") for code in (PUT, other))
        at = timeline.times.tolist()
        told = [
            # nothing at 15:50, crossed the next day
            ((0, 3), (2, {put: 2})),
            ((0, 1), (0, {})),
            ((2, 3), (0, {})),
            # a session with one snapshot: decided on it, and it might have been dealt on it
            ((4, 5), (1, {put: 1})),
            ((3, 5), (1, {put: 1})),
        ]
        for (decided, done), expected in told:
            self.assertEqual(in_the_way(timeline, [put, call], at[decided], at[done]), expected, (decided, done))

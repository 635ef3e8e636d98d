"""Trade for trade and cent for cent, a plain second implementation agrees with the engine."""

from __future__ import annotations

import unittest
from collections.abc import Callable, Sequence
from decimal import Decimal
from typing import Any

from strell_core.engine.plan import make_plan
from strell_core.engine.run import History, run_blocks, run_steps
from strell_core.market.timeline import Timeline
from strell_core.scenario.generator import MK30
from strell_core.strategy.document import parse
from tests.demo import SHORT, chains, demo_chains, demo_history, short_history
from tests.drawn import at_least, drawn
from tests.engine.generated import fifty
from tests.engine.plain_recording import Recording
from tests.engine.reference import Reference
from tests.engine.test_fifty import demo_strategies
from tests.engine.trades import trades_of_engine, trades_of_reference
from tests.engine.variations import variations

CASH = Decimal(50_000)


BOTH = (run_steps, run_blocks)


class SecondImplementationTest(unittest.TestCase):
    tags = frozenset({"long"})
    maxDiff = 3000
    recording: Recording

    @classmethod
    def setUpClass(cls) -> None:
        calendar = demo_history().calendar
        closes = {session.date: session.close for session in calendar.sessions}
        cls.recording = Recording(demo_chains(), closes, MK30.rate)

    def agree(self, name: str, least: int, methods: Sequence[Callable[..., History]] = (run_blocks,)) -> None:
        closed = self.compared(variations()[name], demo_history(), self.recording, methods)
        self.assertGreaterEqual(closed, least, "too few trades to prove anything")

    def test_the_demos_three(self) -> None:
        for name, document in demo_strategies().items():
            if document["underlyings"] != ["MK30"]:
                continue
            with self.subTest(name):
                self.assertGreater(self.compared(document, demo_history(), self.recording, (run_blocks,)), 50)

    def test_fifty_generated_strategies(self) -> None:
        timeline = short_history()
        closes = {session.date: session.close for session in timeline.calendar.sessions}
        recording, closed = Recording(list(chains(SHORT)), closes, MK30.rate), 0
        for number, (name, document) in enumerate(drawn(fifty().items(), 0.4)):
            with self.subTest(name):
                # that steps say the same as blocks is tried elsewhere
                methods = BOTH if number % 10 == 0 else (run_blocks,)
                closed += self.compared(document, timeline, recording, methods)
        self.assertGreater(closed, at_least(400, 0.4))

    def compared(
        self, document: dict[str, Any], timeline: Timeline, recording: Recording,
        methods: Sequence[Callable[..., History]],
    ) -> int:  # fmt: skip
        """How many trades both closed, after they agreed on every one of them."""
        plan = make_plan(parse(document), timeline)
        reference = Reference(document, recording, CASH)
        reference.run()
        for method in methods:
            history = method(plan, timeline, 0, len(timeline.times), CASH)
            self.assertEqual(trades_of_engine(history), trades_of_reference(reference), method.__name__)
            decisions = [(r.at, r.kind, r.rule) for r in history.reasons if r.kind in ("entry", "no entry", "skipped")]
            self.assertEqual(decisions, reference.decisions, method.__name__)
            self.assertEqual(history.state.cash, reference.cash)
            self.assertEqual(
                sorted(t.number for t in history.state.trades), sorted(t["number"] for t in reference.open)
            )
        return len(reference.closed)

    def test_strangle(self) -> None:
        self.agree("strangle", 100, BOTH)

    def test_interest_and_lots_that_follow_it(self) -> None:
        self.agree("strangle of an equity that earns interest", 100, BOTH)

    def test_condor_with_fences(self) -> None:
        self.agree("condor with fences", 60)

    def test_calendar_whose_near_leg_settles(self) -> None:
        self.agree("calendar whose near leg settles", 60, BOTH)

    def test_closing_sessions_skipped(self) -> None:
        self.agree("closing sessions skipped", 15)

    def test_uneven_ratio_with_a_trailing_stop(self) -> None:
        self.agree("uneven ratio with a trailing stop", 30)

    def test_straddle_held_by_days(self) -> None:
        self.agree("straddle held by days", 100)

    def test_held_to_settlement(self) -> None:
        self.agree("held to settlement", 150)

    def test_by_premium_at_mid(self) -> None:
        self.agree("by premium at mid", 100)

    def test_long_strangle_when_oversold(self) -> None:
        self.agree("long strangle when oversold", 40)

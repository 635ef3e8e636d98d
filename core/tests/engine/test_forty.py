"""Forty strategies of the trade, as files: each loads, reads as sentences, round-trips, is decided the same in steps and
blocks, and to the cent as the second implementation decides it."""

from __future__ import annotations

import unittest
from decimal import Decimal
from pathlib import Path
from typing import Any

from strell_core.engine.entering import decide_entry
from strell_core.engine.plain import to_plain
from strell_core.engine.plan import Plan, make_plan
from strell_core.engine.run import History, run_blocks, run_steps
from strell_core.engine.stored import dump
from strell_core.formats.strategies import from_text, to_text
from strell_core.market.market import Market, Observation
from strell_core.measures.frames import just_opened
from strell_core.results.report import report
from strell_core.scenario.generator import MK30
from strell_core.strategy.document import normalise, parse
from strell_core.strategy.edits import mirrored, rules_digest
from strell_core.strategy.sentences import sheet
from tests.demo import SHORT, chains, market_with_reports
from tests.drawn import at_least, drawn
from tests.engine.plain_recording import Recording
from tests.engine.reference import Reference
from tests.engine.trades import trades_of_engine, trades_of_reference

FOLDER = Path(__file__).resolve().parents[1] / "forty"
CASH = Decimal(250_000)
SHARE = 0.35
"""Of the strategies, as much as a whole run of the tests tries."""
STEPPED = 10
"""Sessions that are gone through step by step."""


def documents() -> dict[str, dict[str, Any]]:
    return {path.stem: from_text(path.read_text()) for path in sorted(FOLDER.glob("*.yaml"))}


class FortyTest(unittest.TestCase):
    documents: dict[str, dict[str, Any]]

    @classmethod
    def setUpClass(cls) -> None:
        cls.documents = documents()

    def on_the_index(self) -> dict[str, dict[str, Any]]:
        return {name: item for name, item in self.documents.items() if item["underlyings"] == ["MK30"]}

    def test_each_reads_as_sentences_and_round_trips(self) -> None:
        self.assertGreaterEqual(len(self.documents), 40)
        for name, document in self.documents.items():
            with self.subTest(name):
                self.assertEqual(from_text(to_text(document)), document)
                self.assertEqual(normalise(document), document)
                for sentence in sheet(document).sentences:
                    self.assertRegex(sentence.text, r"^[A-Z0-9][^{}|]*\.$")
                    self.assertNotIn("gone", sentence.text)
                self.assertEqual(rules_digest(mirrored(mirrored(document))), rules_digest(document))

    def test_steps_and_blocks_say_the_same(self) -> None:
        market = market_with_reports(SHORT)
        timeline = market.main
        entered: dict[str, int] = {}
        for name, document in drawn(self.on_the_index().items(), SHARE):
            with self.subTest(name):
                plan, end = make_plan(parse(document), timeline), len(timeline.times)
                # the whole finds something to enter; steps are tried where there are several snapshots a session
                whole = run_blocks(plan, market, 0, end, CASH)
                begin = int(timeline.first[len(timeline.dates) - STEPPED])
                self.assertTrue(report(plan, timeline, whole, 0, end, CASH, seed=1).evidence)
                blocks = run_blocks(plan, market, begin, end, CASH)
                steps = run_steps(plan, market, begin, end, CASH)
                for part in ("reasons", "entries", "closed", "intents"):
                    self.assertEqual(to_plain(getattr(blocks, part)), to_plain(getattr(steps, part)), part)
                self.assertEqual(dump(blocks.state), dump(steps.state))
                entered[name] = sum(reason.kind == "entry" for reason in whole.reasons)
        idle = [name for name, count in entered.items() if count == 0]
        self.assertEqual(idle, [], "each finds something to enter within the ninety sessions")

    def test_the_second_implementation_agrees_to_the_cent(self) -> None:
        market = market_with_reports(SHORT)
        timeline = market.main
        closes = {session.date: session.close for session in timeline.calendar.sessions}
        recording, agreed, closed = Recording(list(chains(SHORT)), closes, MK30.rate), 0, 0
        for name, document in drawn(self.on_the_index().items(), SHARE):
            with self.subTest(name):
                plan = make_plan(parse(document), timeline)
                history = run_blocks(plan, market, 0, len(timeline.times), CASH)
                reference = Reference(document, recording, CASH)
                reference.run()
                self.same(history, reference)
                self.previewed(plan, market, reference)
                agreed, closed = agreed + 1, closed + len(reference.closed)
        self.assertGreaterEqual(agreed, at_least(60, SHARE))
        self.assertGreater(closed, at_least(1_000, SHARE))

    def previewed(self, plan: Plan, market: Market, reference: Reference) -> None:
        """A preview of the instant, of an account that was just opened, picks what the plain computation picks there."""
        for at, name, contracts in reference.picked[:3]:
            entry, index = plan.entry(name), market.main.at_or_before(at)
            account = just_opened(50_000.0, entry.entry.underlying)
            seen = decide_entry(entry, Observation(market, index), account, runners_up=6, thorough=True)
            assert seen.selection is not None
            found = [(leg.contract.expiration, leg.contract.right, leg.contract.strike) for leg in seen.selection.legs]
            self.assertEqual(found, contracts)
            ranked = [choice for choice in seen.selection.choices if choice.candidates]
            for choice in ranked:
                self.assertEqual(choice.picked and choice.picked.contract, choice.candidates[0].contract)

    def same(self, history: History, reference: Reference) -> None:
        decisions = [(r.at, r.kind, r.rule) for r in history.reasons if r.kind in ("entry", "no entry", "skipped")]
        for ours, theirs in zip(decisions, reference.decisions, strict=False):
            self.assertEqual(ours, theirs)
        self.assertEqual(trades_of_engine(history), trades_of_reference(reference))
        self.assertEqual(len(decisions), len(reference.decisions))
        self.assertEqual(history.state.cash, reference.cash)

"""Equity is cash plus marks at every session; a trade's path ends at its result."""

from __future__ import annotations

import unittest
from decimal import Decimal

import numpy as np

from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks, run_steps
from strell_core.market.prices import PARTS
from strell_core.results.equity import equity_curve, trade_path
from strell_core.results.report import report
from strell_core.strategy.document import parse
from tests.demo import short_history
from tests.engine.test_forty import documents
from tests.engine.variations import variations

CASH = Decimal(50_000)


class EquityTest(unittest.TestCase):
    def test_cash_plus_marks_at_the_end_of_every_session(self) -> None:
        """Walked once more, the plain way: cash and open legs after each session's last snapshot."""
        timeline = short_history()
        for name in ("strangle", "calendar whose near leg settles", "held to settlement"):
            with self.subTest(name):
                plan = make_plan(parse(variations()[name]), timeline)
                history = run_blocks(plan, timeline, 0, len(timeline.times), CASH)
                curve = equity_curve(timeline, history, 0, len(timeline.times), CASH)
                self.assertEqual(len(curve.equity), len(timeline.dates))
                for session in range(0, len(timeline.dates), 9):
                    end = int(timeline.first[session + 1])
                    state = run_steps(plan, timeline, 0, end, CASH).state
                    view = timeline.view(end - 1)
                    worth = Decimal(0)
                    for trade in state.trades:
                        for leg in trade.legs:
                            quote = view.quote(leg.contract)
                            self.assertTrue(quote.valid)
                            worth += (
                                leg.contracts * Decimal(quote.bid + quote.ask) / 2 * timeline.underlying.quantum * 50
                            )
                    self.assertAlmostEqual(curve.equity[session], float(state.cash + worth), places=6)

    def test_what_was_added_later_counts_from_then_on(self) -> None:
        """The curve beside what the run itself compared with the capital it needs, at every session's end."""
        timeline, end = short_history(), len(short_history().times)
        when = {"left": {"measure": "pnl", "unit": "premium"}, "is": "at least", "right": 5.0}
        more = {"id": "more", "rule": "change_lots", "way": "open", "lots": 2, "bound": 5, **when}
        fewer = {"id": "fewer", "rule": "change_lots", "way": "close", "lots": 1, "bound": 1, **when, "right": 20.0}
        for name, rules in (("more", [more]), ("more, then fewer", [fewer, more])):
            with self.subTest(name):
                raw = variations()["strangle"]
                raw["entries"][0]["adjust"] = rules
                plan = make_plan(parse(raw), timeline)
                history = run_blocks(plan, timeline, 0, end, CASH * 10)
                curve = equity_curve(timeline, history, 0, end, CASH * 10)
                at = {int(timeline.times[timeline.first[k + 1] - 1]): v for k, v in enumerate(curve.equity)}
                # where a session is one snapshot, fills come after what is compared there
                late = {entry.at for entry in history.entries if timeline.is_single[timeline.at_or_before(entry.at)]}
                needs = [need for need in history.needs if need.at not in late]
                self.assertGreater(len(needs), 20)
                for need in needs:
                    self.assertAlmostEqual(need.equity, at[need.at], places=6)
                grown = [trade for trade in history.closed if trade.more_lots > 0]
                self.assertGreater(len(grown), 1)
                for trade in grown:
                    path = trade_path(timeline, trade)
                    self.assertAlmostEqual(int(path.pnl[-1]), trade.gross, delta=len(trade.legs) * trade.lots)
                    begun = sum(abs(leg.contracts) for leg in trade.legs if not leg.opened_at)
                    self.assertEqual(begun % (trade.lots - trade.more_lots), 0)

    def test_a_trade_path_ends_at_the_gross_result(self) -> None:
        timeline = short_history()
        plan = make_plan(parse(variations()["calendar whose near leg settles"]), timeline)
        history = run_blocks(plan, timeline, 0, len(timeline.times), CASH)
        self.assertGreater(len(history.closed), 3)
        for trade in history.closed:
            path = trade_path(timeline, trade)
            self.assertEqual(int(path.pnl[-1]), trade.gross)
            self.assertEqual(len(path.pnl), path.legs.shape[1])
            self.assertLessEqual(int(path.pnl[:-1].max()), trade.best)


class ReportTest(unittest.TestCase):
    def test_the_report_adds_up(self) -> None:
        timeline = short_history()
        plan = make_plan(parse(variations()["strangle"]), timeline)
        history = run_blocks(plan, timeline, 0, len(timeline.times), CASH)
        made = report(plan, timeline, history, 0, len(timeline.times), CASH, seed=1)
        figures = made.figures
        self.assertEqual(figures["trades_count"], len(history.closed))
        self.assertAlmostEqual(figures["costs"], float(sum(t.costs for t in history.closed)))
        self.assertEqual(figures["sessions"], 90)
        self.assertEqual(figures["single_sessions"], 65)
        self.assertAlmostEqual(figures["final_equity"], float(made.curve.equity[-1]))
        open_marks = figures["final_equity"] - float(history.state.cash)
        closed = float(sum((t.pnl for t in history.closed), Decimal(0)))
        still = sum(float(t.cash) for t in history.state.trades)
        self.assertAlmostEqual(50_000 + closed + still + open_marks, figures["final_equity"], places=6)

    def test_evidence_tells_since_when_a_sentence_has_been_in_the_way(self) -> None:
        timeline = short_history()
        document = documents()["10-iron-condor"]
        (entry,) = document["entries"]
        entry["conditions"] = [
            {"rule": "condition", "id": "early", "left": {"measure": "day_of_month"}, "is": "below", "right": 10}
        ]
        plan = make_plan(parse(document), timeline)
        history = run_blocks(plan, timeline, 0, len(timeline.times), Decimal(250_000))
        made = report(plan, timeline, history, 0, len(timeline.times), Decimal(250_000), seed=1)
        held = [date for date in timeline.dates if date.day < 10]
        evidence = made.evidence["early"]
        self.assertEqual(evidence["last"], max(held).isoformat())
        self.assertEqual(evidence["since"], sum(date > max(held) for date in timeline.dates))
        self.assertEqual(evidence["true"], len(held))
        self.assertGreater(evidence["since"], 4)

    def test_evidence_counts_every_decision_once(self) -> None:
        timeline = short_history()
        plan = make_plan(parse(variations()["strangle"]), timeline)
        history = run_blocks(plan, timeline, 0, len(timeline.times), CASH)
        made = report(plan, timeline, history, 0, len(timeline.times), CASH, seed=1)
        entries = sum(d["kind"] == "entry" for d in made.decisions)
        (entry,) = plan.strategy.entries
        times, limit = entry.schedule.id, entry.conditions[0].id
        self.assertEqual(made.evidence[limit]["true"], entries)
        self.assertEqual(made.evidence[limit]["no"] + entries, made.evidence[times]["true"])
        self.assertEqual(made.evidence[limit]["since"], 0, "a limit that is full is meant to be")
        self.assertEqual(made.evidence[times]["since"], 0)
        left = sum(made.evidence.get(rule.id, {}).get("true", 0) for rule in plan.strategy.leave)
        self.assertEqual(left, sum(r.kind == "left" for r in history.reasons))
        self.assertTrue(np.all(made.curve.equity > 0))
        self.assertEqual(PARTS % 200, 0, "shares of the spread in percent are exact")

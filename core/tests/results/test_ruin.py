"""A run that loses everything ends there and says when; from nothing there is no return."""

from __future__ import annotations

import math
import unittest
from decimal import Decimal
from typing import Any

import numpy as np

from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks, run_steps
from strell_core.results import again, metrics
from strell_core.results.report import Report, report
from strell_core.strategy.document import parse
from tests.engine.variations import document, leg
from tests.handmade import session_chains, timeline_of

PUT = "2026-10-16/put/3040"
ALLOWED = {"rule": "capital", "entries": "allow", "below": "report"}


class RuinTest(unittest.TestCase):
    def ran(self, prices: dict[str, str], cash: int, leave: list[dict[str, Any]]) -> list[tuple[Any, Report]]:
        """A short put of 50 EUR a point at these quotes, in steps and in blocks."""
        strike, expiry = {"pick": "percent_from_spot", "percent": 2}, {"pick": "nearest_days"}
        sheet = document("naked", [leg("sell", "put", strike, expiry)], leave, weekdays=("mon",))
        timeline = timeline_of(
            session_chains([{"at": f"2026-10-{at}", "spot": 3100, PUT: quote} for at, quote in prices.items()])
        )
        plan, end = make_plan(parse({**sheet, "limits": [ALLOWED]}), timeline), len(timeline.times)
        out = []
        for run in (run_steps, run_blocks):
            history = run(plan, timeline, 0, end, Decimal(cash), until_ruin=True)
            out.append((history, report(plan, timeline, history, 0, end, Decimal(cash), 1)))
        self.assertEqual(out[0][0], out[1][0])
        return out

    def test_the_run_ends_at_the_session_whose_end_leaves_nothing(self) -> None:
        prices = {
            "05 15:45": "6.00/6.20", "05 15:50": "6.00/6.20", "06 12:00": "60.00/60.20", "06 17:30": "20.00/20.20",
            "07 12:00": "30.00/30.20", "07 17:30": "46.00/46.20", "08 12:00": "6.00/6.20", "08 17:30": "6.00/6.20",
        }  # fmt: skip
        for history, made in self.ran(prices, 2000, []):
            # 2 000 + 300 - 0.80 - 46.10 × 50 = -5.80 on the evening of the 7th; at noon of the 6th is no session's end
            self.assertEqual(made.figures["ruined_on"], "2026-10-07")
            self.assertEqual(made.figures["sessions"], 3)
            self.assertAlmostEqual(made.figures["final_equity"], -5.80)
            self.assertEqual([t.trade.number for t in made.still_open], [1])
            self.assertEqual(made.still_open[0].pnl, Decimal("-2005.80"))
            self.assertIsNone(made.figures["cagr"])
            self.assertEqual(made.figures["capital_calls"], 3, "nor was there ever the capital for it")
            self.assertEqual(made.figures["capital_limited"], False)
            self.assertIsNotNone(history.ruined_at)

    def test_what_is_closed_at_more_than_there_was_ends_it_too(self) -> None:
        prices = {
            "05 15:45": "6.00/6.20", "05 15:50": "6.00/6.20", "06 12:00": "60.00/60.20", "06 12:05": "60.00/60.20",
            "12 15:45": "6.00/6.20", "12 15:50": "6.00/6.20",
        }  # fmt: skip
        for _, made in self.ran(prices, 2000, [{"rule": "premium_stop", "percent": 100}]):
            self.assertEqual(made.figures["ruined_on"], "2026-10-06")
            self.assertEqual((made.figures["trades_count"], made.figures["open_trades"]), (1, 0))

    def test_from_nothing_there_is_no_return(self) -> None:
        daily = metrics.returns(np.array([50.0, 0.0, 10.0, 20.0]), 100.0)
        self.assertEqual(daily[:2].tolist(), [-0.5, -1.0])
        self.assertTrue(math.isnan(daily[2]) and math.isnan(daily[3]), "20 after 10 after nothing is no doubling")
        self.assertIsNone(metrics.sharpe(daily))
        self.assertIsNone(metrics.sortino(daily))
        self.assertIsNone(again.days(np.concatenate([daily, np.zeros(100)]), 100.0, 1))

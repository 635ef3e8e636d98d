"""Exits that became true on a session's last snapshot: counted, with what the night cost."""

from __future__ import annotations

import unittest
from decimal import Decimal
from typing import Any

from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_steps
from strell_core.market.market import Market
from strell_core.results.delayed import over_night
from strell_core.results.report import report
from strell_core.strategy.document import parse
from tests.engine.test_worked_examples import whole
from tests.handmade import instant, session_chains, timeline_of

PUT = "2026-10-16/put/3040"
LEG = {"rule": "leg", "side": "sell", "right": "put", "strike": {"pick": "percent_from_spot", "percent": 2},
       "expiry": {"pick": "nearest_days"}}  # fmt: skip
CASH = Decimal(50_000)


def rows(last: str, morning: str) -> list[dict[str, Any]]:
    """Sold at 6.00; quotes on the session's last snapshot, and the next morning."""
    told = [
        ("2026-10-05 15:45", "6.00/6.20"), ("2026-10-05 15:50", "6.00/6.20"), ("2026-10-05 17:25", "6.00/6.20"),
        ("2026-10-05 17:30", last), ("2026-10-06 09:00", morning), ("2026-10-06 09:05", morning),
    ]  # fmt: skip
    return [{"at": at, "spot": 3100, PUT: quote} for at, quote in told]


class OverNightTest(unittest.TestCase):
    def ran(self, last: str, morning: str, leave: dict[str, Any], **orders: Any) -> Any:
        timeline = timeline_of(session_chains(rows(last, morning)))
        told = [{"rule": "fill_model", **orders}] if orders else []
        plan = make_plan(parse(whole({"legs": [LEG], "leave": [leave], "orders": told})), timeline)
        end = len(timeline.times)
        history = run_steps(plan, timeline, 0, end, CASH)
        figures = report(plan, timeline, history, 0, end, CASH, seed=1).figures
        return history, over_night(plan, Market(timeline), history), figures

    def test_a_stop_on_the_last_snapshot_waits_and_says_what_the_night_cost(self) -> None:
        stop = {"rule": "premium_stop", "percent": 100}
        history, nights, figures = self.ran("13.00/13.40", "20.00/20.60", stop)
        (night,) = nights
        self.assertEqual(night.leaving.decided_at, instant("2026-10-05 17:30"))
        self.assertEqual(night.leaving.done_at, instant("2026-10-06 09:00"))
        # a stop pays the other side: 20.60 instead of 13.40, 50 EUR a point
        self.assertAlmostEqual(night.cost or 0, 7.20 * 50)
        self.assertEqual((figures["exits_over_night"], round(figures["night_cost"], 2)), (1, 360.0))
        self.assertEqual(figures["exits_delayed"], 0, "it was carried out as soon as anybody could")
        self.assertEqual(len(history.closed), 1)

    def test_a_night_that_was_kind_costs_less_than_nothing(self) -> None:
        """What may wait is dealt at its share of the spread, then as on the evening before."""
        leave = {"rule": "condition", "as": "other", "left": {"measure": "pnl"}, "is": "at most", "right": -100}
        _, (night,), figures = self.ran("13.00/13.40", "10.00/10.40", leave, share=0)
        self.assertAlmostEqual(night.cost or 0, (10.20 - 13.20) * 50)
        self.assertAlmostEqual(figures["night_cost"], -150.0)

    def test_what_is_decided_earlier_in_a_session_is_none(self) -> None:
        _, nights, figures = self.ran("4.00/4.20", "4.00/4.20", {"rule": "days_held", "days": 0, "time": "17:25"})
        self.assertEqual((nights, figures["exits_over_night"], figures["night_cost"]), ([], 0, None))

    def test_without_a_price_on_the_evening_the_cost_is_not_known(self) -> None:
        leave = {"rule": "condition", "as": "other", "left": {"measure": "price"}, "is": "above", "right": 3150}
        timeline = timeline_of(session_chains([
            {**row, **({"spot": 3200} if row["at"].endswith("17:30") else {})} for row in rows("-1/-1", "4.00/4.20")
        ]))  # fmt: skip
        plan = make_plan(parse(whole({"legs": [LEG], "leave": [leave]})), timeline)
        history = run_steps(plan, timeline, 0, len(timeline.times), CASH)
        (night,) = over_night(plan, Market(timeline), history)
        self.assertIsNone(night.cost)


class HeldTest(unittest.TestCase):
    def test_days_on_which_trades_end_are_in_the_market_and_their_length_is_a_figure(self) -> None:
        timeline = timeline_of(session_chains(rows("4.00/4.20", "4.00/4.20")))
        leave = {"rule": "days_held", "days": 1, "time": "09:00"}
        plan = make_plan(parse(whole({"legs": [LEG], "leave": [leave]})), timeline)
        end = len(timeline.times)
        history = run_steps(plan, timeline, 0, end, CASH)
        (trade,) = history.closed
        self.assertEqual(trade.closed_at, instant("2026-10-06 09:05"))
        figures = report(plan, timeline, history, 0, end, CASH, seed=1).figures
        self.assertEqual(figures["time_in_market"], 1.0)
        self.assertAlmostEqual(figures["trades_held"], (trade.closed_at - trade.opened_at) / 86_400)

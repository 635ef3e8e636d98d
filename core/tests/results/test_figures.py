"""Every figure of one small run, calculated by hand; and which of them every run has."""

from __future__ import annotations

import dataclasses
import datetime as dt
import math
import unittest
from decimal import Decimal

import numpy as np

from strell_core.engine.run import History
from strell_core.engine.state import ClosedTrade, EngineState, LegState, Need, Reason, TradeState
from strell_core.market.instruments import ContractKey
from strell_core.market.market import market_of
from strell_core.results.delayed import Leaving, Night
from strell_core.results.equity import EquityCurve
from strell_core.results.figures import FIGURES, Finished, figures, intervals, text
from tests.handmade import instant, session_chains, timeline_of

PUT = ContractKey.parse("MK30/2026-10-08/put/3040")
SPOT = {"spot": 3100, "2026-10-08/put/3040": "6.00/6.20"}
TIMES = ("05 15:45", "06 15:40", "06 17:30", "07 15:40", "07 17:30", "08 17:30", "09 17:30", "12 17:30")
"""Closing history on Mon 5, and from Thu 8 on; Tue 6 and Wed 7 with two snapshots."""


def at(text: str) -> int:
    return instant(f"2026-10-{text}")


def closed(number: int, decided: str, pnl: str, costs: str, rule: str = "stop") -> ClosedTrade:
    begun = at(decided)
    return ClosedTrade(
        number, 1, begun, begun, at("08 17:30"), (), 0, 0, 0, Decimal(pnl), Decimal(costs), rule, begun, {}, ()
    )


def run() -> Finished:
    timeline = timeline_of(session_chains([{"at": f"2026-10-{time}", **SPOT} for time in TIMES]))
    far = ContractKey.parse("MK30/2026-10-16/put/3040")
    left, other = (
        TradeState(
            number, 1, at(time), at(time), dt.date(2026, 10, day), (LegState("short", contract, -1, 120),), opening=0
        )
        for number, time, day, contract in ((9, "07 15:40", 7, PUT), (10, "12 17:30", 12, far))
    )
    history = History(
        EngineState(Decimal(900), trades=(left, other)),
        reasons=[
            Reason(at("05 15:45"), "no entry", None, "size", values={"needed": 2000.0}),
            Reason(at("06 15:40"), "no entry", None, "size", values={"lots": 0}),
            Reason(at("06 15:40"), "filled", 2, "", values={"kind": "open", "lots": 9, "quoted": 4}),
            Reason(at("06 17:30"), "filled", 3, "", values={"kind": "open"}),
            Reason(at("07 15:40"), "call", None, "capital", values={"needed": 1.0}),
            Reason(at("06 17:30"), "left", 9, "stop"),
            Reason(at("06 17:30"), "lapsed", 2, "roll", values={"message": "an adjustment of what was filled"}),
            Reason(at("07 17:30"), "lapsed", 11, "when", values={"message": "its limit was not reached"}),
        ],
        closed=[
            closed(1, "05 15:45", "60", "1.60"), closed(2, "06 15:40", "-40", "1.60"),
            closed(3, "06 15:40", "100", "3.20"), closed(4, "07 15:40", "-20", "0.80"), closed(5, "08 17:30", "-10", "1.60"),
        ],
        needs=[Need(at("06 17:30"), 1050.0, 300.0), Need(at("07 17:30"), 990.0, 400.0), Need(at("08 17:30"), 945.0, 80.0)],
        ruined_at=at("12 17:30"),
    )  # fmt: skip
    curve = EquityCurve(
        np.arange(6), np.array([1000.0, 1050.0, 990.0, 945.0, 1050.0, 1100.0]),
        np.array([False, True, True, False, False, False]), np.array([False, True, True, True, False, False]),
    )  # fmt: skip
    credits = [Decimal(value) for value in ("100", "-50", "200", "80", "-30")]
    waited = Leaving(3, "stop", at("06 17:30"), at("07 15:40"), False)
    nights = [Night(waited, 12.345), Night(waited, None)]
    return Finished.of(market_of(timeline), history, curve, 1000.0, credits, 7, limited=False, nights=nights)


class FiguresTest(unittest.TestCase):
    def test_without_capital_that_was_needed_there_is_no_return_on_it(self) -> None:
        found = figures(dataclasses.replace(run(), capital=[]))
        self.assertEqual(
            (found["return_on_capital"], found["capital_most"], found["capital_average"]), (None, None, None)
        )

    def test_every_figure_by_hand(self) -> None:
        found = figures(run())
        growth = 1.1**42 - 1  # 252 sessions a year, 6 of them
        daily = np.array([0.0, 0.05, -60 / 1050, -45 / 990, 105 / 945, 50 / 1050])
        below = np.sqrt(((60 / 1050) ** 2 + (45 / 990) ** 2) / 6)
        moves = np.array([0.0, 50.0, -60.0, -45.0, 105.0, 50.0]) - 100 / 6
        skew = (moves**3).mean() / (moves**2).mean() ** 1.5
        rate = run().timeline.underlying.rate
        excess = daily - np.expm1(rate * np.array([0, 1, 1, 1, 1, 3]) / 365)
        expected = {
            "trades_count": 5, "trades_win_rate": 0.4, "trades_average_win": 80.0, "trades_average_loss": -70 / 3,
            "trades_expectancy": 18.0, "trades_profit_factor": 160 / 70, "trades_credit_kept": 140 / 380,
            "trades_worst": -40.0, "trades_worst_number": 2,
            "intraday_count": 3, "intraday_win_rate": 1 / 3, "intraday_expectancy": 40 / 3, "intraday_worst": -40.0,
            "closing_count": 2, "closing_win_rate": 0.5, "closing_expectancy": 25.0, "closing_worst": -10.0,
            "start_equity": 1000.0, "final_equity": 1100.0, "cagr": growth, "calmar": None,
            "capital_average": (300 + 400 + 80) / 3,
            "capital_most": 400.0, "return_on_capital": 100 / 400 * 252 / 6,
            # from the evening of the 6th to that of the 8th, and back on the 9th
            "max_drawdown": -0.1, "drawdown_from": "2026-10-06", "drawdown_to": "2026-10-08", "drawdown_sessions": 3,
            "drawdown_recovered": True, "mar": growth / 0.1,
            "sharpe": daily.mean() / daily.std(ddof=1) * np.sqrt(252), "sortino": daily.mean() * 252 / (below * np.sqrt(252)),
            "time_in_market": 0.5, "longest_flat": 2, "flat_from": "2026-10-07", "flat_to": "2026-10-08", "daily_tail": -60.0,
            "daily_skew": skew, "worst_day": -60.0, "worst_day_date": "2026-10-07",
            "costs": 8.8, "interest": None, "credit_taken": 380.0, "sessions": 6, "single_sessions": 4, "stale_sessions": 2,
            "open_trades": 2, "capital_limited": False, "capital_refused": 1, "capital_calls": 1,
            "ruined_on": "2026-10-12", "awaiting_value": 1, "beyond_size": 1, "exits_delayed": 1, "entries_unfilled": 1,
            "exits_over_night": 2, "night_cost": 12.345,
            # the price never moves; cash earns the flat rate by calendar days, the weekend's three before the last session
            "holding_cagr": 0.0, "holding_drawdown": 0.0, "beta": None, "correlation": None,
            "money_market": math.exp(7 * rate / 365) ** 42 - 1,
            "sharpe_excess": excess.mean() / excess.std(ddof=1) * np.sqrt(252),
            # days, and minutes of the last one
            "trades_held": (3 + 105 / 1440 + 2 * (2 + 110 / 1440) + 1 + 110 / 1440 + 0) / 5,
        }  # fmt: skip
        self.assertEqual(set(found), set(expected))
        for name, value in expected.items():
            with self.subTest(name):
                if FIGURES[name].kind == "money" and value is not None:
                    self.assertEqual(found[name], round(value, 2), "in whole cents")
                elif isinstance(value, float):
                    self.assertAlmostEqual(found[name], value, places=9)
                else:
                    self.assertEqual(found[name], value)

    def test_a_run_of_nothing_has_no_figure_that_is_made_up(self) -> None:
        none = np.array([])
        empty = Finished.of(
            market_of(run().timeline), History(EngineState(Decimal(1000))),
            EquityCurve(none.astype(int), none, none.astype(bool), none.astype(bool)), 1000.0, [], 7,
        )  # fmt: skip
        found = figures(empty)
        given = {name: value for name, value in found.items() if value is not None}
        money = {"start_equity": 1000.0, "final_equity": 1000.0, "costs": 0.0, "credit_taken": 0.0, "worst_day": 0.0}
        zero = {
            "trades_count", "intraday_count", "closing_count", "drawdown_sessions", "longest_flat", "sessions",
            "single_sessions", "stale_sessions", "open_trades", "capital_refused", "capital_calls", "awaiting_value",
            "beyond_size", "exits_delayed", "exits_over_night", "entries_unfilled",
        }  # fmt: skip
        shares = {"max_drawdown": 0.0, "time_in_market": 0.0}
        flags = {"drawdown_recovered": True, "capital_limited": True}
        self.assertEqual(given, {**money, **dict.fromkeys(zero, 0), **shares, **flags})

    def test_never_back_at_the_peak_a_drawdown_lasts_until_the_end(self) -> None:
        whole = run()
        falling = EquityCurve(
            whole.curve.sessions, np.array([1010.0, 1000.0, 990.0, 980.0, 970.0, 975.0]), whole.curve.stale,
            whole.curve.in_market,
        )  # fmt: skip
        found = figures(Finished.of(market_of(whole.timeline), whole.history, falling, 1000.0, whole.credits, 7))
        self.assertEqual((found["drawdown_sessions"], found["drawdown_recovered"]), (5, False))
        self.assertEqual((found["drawdown_from"], found["drawdown_to"]), ("2026-10-05", "2026-10-09"))
        self.assertIsNone(figures(Finished.of(market_of(whole.timeline), whole.history, EquityCurve(
            whole.curve.sessions, np.full(6, 1000.0), whole.curve.stale, whole.curve.in_market,
        ), 1000.0, whole.credits, 7))["mar"], "nothing fell")  # fmt: skip

    def test_ranges_stand_beside_what_was_and_are_made_again_the_same(self) -> None:
        whole = run()
        self.assertEqual(intervals(whole), {}, "six sessions and five trades say nothing of what else could have been")
        rng = np.random.default_rng(20)
        equity = 1000.0 * np.cumprod(1 + rng.normal(0.001, 0.01, 200))
        many = [dataclasses.replace(whole.history.closed[0], number=n, pnl=Decimal(int(v))) for n, v in enumerate(rng.normal(20, 90, 60))]  # fmt: skip
        curve = EquityCurve(np.arange(6).repeat(34)[:200], equity, np.zeros(200, bool), np.ones(200, bool))
        history = dataclasses.replace(whole.history, closed=many)
        finished = Finished.of(market_of(whole.timeline), history, curve, 1000.0, [Decimal(100)] * 60, 7)
        found, of = intervals(finished), figures(finished)
        self.assertEqual(found, intervals(finished))
        self.assertEqual(
            set(found),
            {
                "trades_win_rate", "trades_average_win", "trades_average_loss", "trades_expectancy",
                "trades_profit_factor", "trades_credit_kept", "final_equity", "cagr", "max_drawdown", "mar", "sharpe",
                "sortino",
            },
        )  # fmt: skip
        for name in set(found) - {"max_drawdown", "mar"}:
            self.assertLess(found[name][0], of[name], name)
            self.assertGreater(found[name][1], of[name], name)

    def test_which_figures_every_stored_run_has(self) -> None:
        """Readers of results rely on these; a figure that came later, or has no value in some runs, may lack."""
        self.assertEqual(
            [figure.id for figure in FIGURES.values() if not figure.may_lack],
            [
                "trades_count", "start_equity", "final_equity", "max_drawdown", "drawdown_sessions",
                "drawdown_recovered", "time_in_market", "longest_flat", "worst_day", "costs", "credit_taken",
                "sessions", "single_sessions", "stale_sessions", "open_trades",
            ],
        )  # fmt: skip

    def test_as_text(self) -> None:
        told = [
            ("drawdown_recovered", True, "yes"),
            ("drawdown_recovered", False, "no"), ("costs", 1234.5, "1,234.50"), ("cagr", 0.1234, "12.34%"),
            ("mar", 1.234, "1.23"), ("sessions", 12, "12"), ("ruined_on", "2026-10-12", "2026-10-12"),
            ("cagr", None, "none"),
        ]  # fmt: skip
        for name, value, words in told:
            self.assertEqual(text(name, value), words)


if __name__ == "__main__":
    unittest.main()

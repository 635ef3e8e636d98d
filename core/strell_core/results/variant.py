"""One variant of a sweep: what it amounts to, without what only a run that somebody reads needs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import numpy as np

from strell_core.engine.plan import Plan
from strell_core.engine.run import run_blocks
from strell_core.market.market import Market
from strell_core.results import metrics
from strell_core.results.figures import FIGURES
from strell_core.results.report import finished

TOLD = (
    "final_equity", "cagr", "return_on_capital", "max_drawdown", "mar", "sharpe", "sortino", "trades_count",
    "trades_win_rate", "trades_expectancy", "trades_profit_factor", "trades_worst", "daily_tail", "capital_most",
    "time_in_market", "open_trades", "ruined_on",
)  # fmt: skip
"""Figures of a cell, as those of a run."""


@dataclass(frozen=True)
class Outcome:
    figures: dict[str, Any]
    daily: metrics.Floats
    """Returns of every session of the sweep, 0 after all was lost."""


def outcome(
    plan: Plan, market: Market, begin: int, end: int, cash: Decimal, progress: Callable[[int], None] | None = None
) -> Outcome:
    """Runs a variant over timeline indices ``[begin, end)``; its figures are those of the run by itself."""
    timeline = market.main
    history = run_blocks(plan, market, begin, end, cash, progress, until_ruin=True)
    made = finished(plan, timeline, history, begin, end, cash, 1)
    sessions = int(timeline.session_of[end - 1]) - int(timeline.session_of[begin]) + 1
    daily = np.zeros(sessions)
    daily[: len(made.daily)] = np.nan_to_num(made.daily)
    return Outcome({name: FIGURES[name].of(made) for name in TOLD}, daily)

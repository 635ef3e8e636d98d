"""One variant of a sweep: what it amounts to, without what only a run that somebody reads needs."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, cast

import numpy as np

from strell_core.engine.lives import Beyond
from strell_core.engine.plan import Plan
from strell_core.engine.run import run_blocks
from strell_core.engine.variants import Told, Variants
from strell_core.market.market import Market
from strell_core.market.timeline import Timeline
from strell_core.results import metrics
from strell_core.results.equity import EquityCurve
from strell_core.results.figures import FIGURES, Brief
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
    shared: bool = False
    """Whether it was told from what variants have in common, instead of by a run of its own."""


class Cells:
    """Variants of one market's rules over one period, one after another: they share what they can, and now and then one
    is run by the engine as well. Where the two do not come to the same, the engine is right from then on."""

    CHECKED = 1000
    """The first, and then one of so many."""

    def __init__(self, market: Market, begin: int, end: int) -> None:
        self.market, self.begin, self.end = market, begin, end
        self.differed: list[str] = []
        """Figures that were not the engine's."""
        self._variants: Variants | None = Variants(market, begin, end)
        self._count = 0

    def outcome(self, plan: Plan, cash: Decimal) -> Outcome:
        """What a variant amounts to, as its run."""
        asked = self.market, self.begin, self.end, cash
        found = outcome(plan, *asked, variants=self._variants)
        if not found.shared:
            return found
        self._count += 1
        if self._count % self.CHECKED == 1:
            whole = outcome(plan, *asked)
            if whole.figures != found.figures or whole.daily.tobytes() != found.daily.tobytes():
                self.differed = [name for name in TOLD if whole.figures[name] != found.figures[name]] or ["daily"]
                self._variants = None
                return whole
        return found


def outcome(
    plan: Plan, market: Market, begin: int, end: int, cash: Decimal, variants: Variants | None = None
) -> Outcome:  # fmt: skip
    """Runs a variant over timeline indices ``[begin, end)``; its figures are those of the run by itself.
    ``variants``: what others of the same market and period have brought to light already, from which it takes what it
    can and to which it adds; without them, and where more than trades by themselves is asked, the engine runs."""
    timeline = market.main
    if variants is not None:
        try:
            told = variants.run(plan, cash)
        except Beyond:
            pass
        else:
            return _outcome(_brief(timeline, told, begin, end, cash), begin, end, True)
    history = run_blocks(plan, market, begin, end, cash, until_ruin=True)
    return _outcome(finished(plan, market, history, begin, end, cash, 1), begin, end, False)


def _outcome(made: Brief, begin: int, end: int, shared: bool) -> Outcome:
    session_of = made.timeline.session_of
    daily = np.zeros(int(session_of[end - 1]) - int(session_of[begin]) + 1)
    daily[: len(made.daily)] = np.where(np.isnan(made.daily), 0.0, made.daily)
    return Outcome({name: cast(Callable[[Brief], Any], FIGURES[name].value)(made) for name in TOLD}, daily, shared)


def _brief(timeline: Timeline, told: Told, begin: int, end: int, cash: Decimal) -> Brief:
    sessions = np.arange(int(timeline.session_of[begin]), int(timeline.session_of[end - 1]) + 1)
    # nobody asks a variant for old marks
    curve = EquityCurve(sessions, told.equity, np.zeros(len(sessions), np.bool_), told.held)
    return Brief(timeline, curve, float(cash), told.pnl / 100, told.capital.tolist(), told.open, None)

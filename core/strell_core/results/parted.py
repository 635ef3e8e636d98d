"""A run on both sides of a day: what was known when its rules were made, and what was held back."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from strell_core.results import again, bootstrap, metrics
from strell_core.results.metrics import Floats


@dataclass(frozen=True)
class Side:
    """Some of a run's sessions, and the trades entered in them. Figures as :mod:`results.figures` defines them."""

    sessions: int
    cagr: float | None
    max_drawdown: float
    sharpe: float | None
    likely: tuple[float, float] | None
    """Of the Sharpe ratio: where 90 of 100 records lie that are drawn again."""
    trades: int
    win_rate: float | None
    expectancy: float | None


def parted(
    dates: Sequence[dt.date], equity: Floats, start: float, trades: Sequence[tuple[dt.date, float]], day: dt.date, seed: int
) -> tuple[Side, Side]:  # fmt: skip
    """Sessions before ``day`` and from it on; ``trades``: days of entry and what they made."""
    at = sum(date < day for date in dates)
    between = float(equity[at - 1]) if at else start
    return (
        _side(equity[:at], start, [pnl for date, pnl in trades if date < day], seed),
        _side(equity[at:], between, [pnl for date, pnl in trades if date >= day], seed),
    )


def _side(equity: Floats, start: float, pnl: Sequence[float], seed: int) -> Side:
    daily = metrics.returns(equity, start)
    drawn = again.days(daily, start, seed)
    return Side(
        len(equity), metrics.cagr(equity, start), metrics.max_drawdown(equity, start).depth, metrics.sharpe(daily),
        None if drawn is None else bootstrap.likely(again.sharpes(drawn)), len(pnl),
        float(np.mean([value > 0 for value in pnl])) if pnl else None, float(np.mean(pnl)) if pnl else None,
    )  # fmt: skip

"""Figures of a run. A year has 252 sessions; ratios use daily returns and no riskless rate."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
SESSIONS_A_YEAR = 252


class Drawdown(NamedTuple):
    """Deepest fall from a peak: ``depth`` as a negative share; positions of peak, trough, recovery."""

    depth: float
    peak: int
    trough: int
    recovered: int | None


def returns(equity: Floats, start: float) -> Floats:
    """Simple returns, the first against ``start``; shape of ``equity``. NaN once all was lost: from nothing there is
    no return."""
    before = np.concatenate([[start], equity[:-1]])
    lost = np.logical_or.accumulate(before <= 0)
    return np.divide(equity, before, out=np.full_like(equity, np.nan), where=~lost) - 1.0


def cagr(equity: Floats, start: float) -> float | None:
    """Compound growth a year: (end / start)^(252 / sessions) - 1. ``None`` when equity was lost."""
    if len(equity) == 0 or start <= 0 or equity[-1] <= 0:
        return None
    return float((equity[-1] / start) ** (SESSIONS_A_YEAR / len(equity)) - 1)


def drawdowns(equity: Floats, start: float) -> Floats:
    """Fall from the highest equity so far (start included), as shares ≤ 0."""
    peak = np.maximum.accumulate(np.maximum(equity, start))
    return equity / peak - 1.0


def max_drawdown(equity: Floats, start: float) -> Drawdown:
    falls = drawdowns(equity, start)
    if len(falls) == 0 or falls.min() >= 0:
        return Drawdown(0.0, 0, 0, 0)
    trough = int(np.argmin(falls))
    whole = np.concatenate([[start], equity])
    peak = int(np.argmax(whole[: trough + 1]))
    later = np.flatnonzero(equity[trough:] >= whole[peak])
    return Drawdown(float(falls[trough]), max(0, peak - 1), trough, trough + int(later[0]) if len(later) else None)


def longest_flat(equity: Floats, start: float) -> int:
    """Most sessions in a row without a new high."""
    longest = run = 0
    for fall in drawdowns(equity, start):
        run = run + 1 if fall < 0 else 0
        longest = max(longest, run)
    return longest


def sharpe(daily: Floats) -> float | None:
    """√252 × mean ÷ standard deviation (n - 1) of daily returns (W. Sharpe, 1994); ``None`` where one of them is no
    number."""
    spread = float(daily.std(ddof=1)) if len(daily) > 1 and not np.isnan(daily).any() else 0.0
    return float(daily.mean() / spread * np.sqrt(SESSIONS_A_YEAR)) if spread > 0 else None


def sortino(daily: Floats) -> float | None:
    """Mean × 252 ÷ downside deviation a year, target 0 (F. Sortino and R. van der Meer, 1991)."""
    if len(daily) < 2 or np.isnan(daily).any():
        return None
    downside = float(np.sqrt(np.mean(np.minimum(daily, 0.0) ** 2)) * np.sqrt(SESSIONS_A_YEAR))
    return float(daily.mean() * SESSIONS_A_YEAR / downside) if downside > 0 else None


@dataclass(frozen=True)
class TradeFigures:
    """Figures over closed trades, in money."""

    count: int
    win_rate: float | None
    average_win: float | None
    average_loss: float | None
    expectancy: float | None
    profit_factor: float | None
    credit_kept: float | None
    """Net P/L as a share of the credit taken; ``None`` when no trade took a credit."""
    worst: float | None


def trade_figures(pnl: Sequence[Decimal], credit: Sequence[Decimal]) -> TradeFigures:
    """Figures of net ``pnl`` and opening ``credit`` a trade (debits negative)."""
    values = np.array([float(p) for p in pnl])
    if len(values) == 0:
        return TradeFigures(0, None, None, None, None, None, None, None)
    wins, losses = values[values > 0], values[values < 0]
    taken = sum((c for c in credit if c > 0), Decimal(0))
    kept = sum((p for p, c in zip(pnl, credit, strict=True) if c > 0), Decimal(0))
    return TradeFigures(
        len(values), len(wins) / len(values), float(wins.mean()) if len(wins) else None,
        float(losses.mean()) if len(losses) else None, float(values.mean()),
        float(wins.sum() / -losses.sum()) if len(losses) else None,
        float(kept / taken) if taken else None, float(values.min()),
    )  # fmt: skip


def interval_of_mean_growth(
    daily: Floats, seed: int, samples: int = 1000, block: int = 10
) -> tuple[float, float] | None:
    """5 and 95 % of CAGR when daily returns are resampled in circular blocks of ``block`` sessions.

    Source: D. Politis and J. Romano, "A circular block-resampling procedure for stationary data"
    (1992). ``None`` with fewer than 60 sessions, and where a return is no number.
    """
    n = len(daily)
    if n < 60 or np.isnan(daily).any():
        return None
    rng = np.random.default_rng(seed)
    starts = rng.integers(0, n, (samples, -(-n // block)))
    rows = ((starts[:, :, None] + np.arange(block)) % n).reshape(samples, -1)[:, :n]
    growth = np.log1p(np.maximum(daily, -0.999))[rows].sum(axis=1)
    yearly = np.expm1(growth * SESSIONS_A_YEAR / n)
    low, high = np.percentile(yearly, [5, 95])
    return float(low), float(high)

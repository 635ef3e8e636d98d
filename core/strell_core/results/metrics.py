"""Figures of a run. A year has 252 sessions; ratios use daily returns and no riskless rate."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
SESSIONS_A_YEAR = 252
CALMAR_SESSIONS = 756
LEAST_SESSIONS, LEAST_TRADES = 60, 20
"""Fewer say nothing about what else could have come out."""


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


def sharpe(daily: Floats) -> float | None:
    """√252 × mean ÷ standard deviation (n - 1) of daily returns (W. Sharpe, 1994); ``None`` where one of them is no
    number."""
    spread = float(daily.std(ddof=1)) if len(daily) > 1 and not np.isnan(daily).any() else 0.0
    return float(daily.mean() / spread * np.sqrt(SESSIONS_A_YEAR)) if spread > 0 else None


def rolling_sharpe(daily: Floats, window: int) -> Floats:
    """:func:`sharpe` of the last ``window`` returns at each, NaN before there are so many and where they do not move.
    Shape of ``daily``."""
    out = np.full(len(daily), np.nan)
    if len(daily) >= window > 1:
        seen = np.lib.stride_tricks.sliding_window_view(daily, window)
        spread = seen.std(axis=1, ddof=1)
        out[window - 1 :] = np.divide(
            seen.mean(axis=1) * np.sqrt(SESSIONS_A_YEAR), spread, out=np.full(len(seen), np.nan), where=spread > 1e-15
        )
    return out


def rolling_mean(values: Floats, window: int) -> Floats:
    """Mean of the last ``window`` values at each, NaN before there are so many. Shape of ``values``."""
    out = np.full(len(values), np.nan)
    if len(values) >= window > 0:
        out[window - 1 :] = np.lib.stride_tricks.sliding_window_view(values, window).mean(axis=1)
    return out


def sortino(daily: Floats) -> float | None:
    """Mean × 252 ÷ downside deviation a year, target 0 (F. Sortino and R. van der Meer, 1991)."""
    if len(daily) < 2 or np.isnan(daily).any():
        return None
    downside = float(np.sqrt(np.mean(np.minimum(daily, 0.0) ** 2)) * np.sqrt(SESSIONS_A_YEAR))
    return float(daily.mean() * SESSIONS_A_YEAR / downside) if downside > 0 else None


def calmar(equity: Floats, start: float) -> float | None:
    """CAGR ÷ drawdown of the last 756 sessions (36 months; T. Young, 1991); ``None`` in a shorter run."""
    if len(equity) < CALMAR_SESSIONS:
        return None
    before = float(equity[-CALMAR_SESSIONS - 1]) if len(equity) > CALMAR_SESSIONS else start
    growth, fall = cagr(equity[-CALMAR_SESSIONS:], before), max_drawdown(equity[-CALMAR_SESSIONS:], before).depth
    return growth / -fall if growth is not None and fall < 0 else None


def flat_stretch(equity: Floats, start: float) -> tuple[int, int, int]:
    """The longest stretch without a new high: its sessions, and the places of its first and last one (0, 0, 0: none)."""
    longest, at, run = 0, -1, 0
    for place, fall in enumerate(drawdowns(equity, start).tolist()):
        run = run + 1 if fall < 0 else 0
        if run > longest:
            longest, at = run, place
    return (longest, at - longest + 1, at) if longest else (0, 0, 0)


def by_month(dates: Sequence[dt.date], equity: Floats, start: float) -> list[tuple[int, int, float, float | None]]:
    """Year, month, P/L and return of every month with a session, a return on the equity with which it began; ``None``
    where that was lost."""
    out: list[tuple[int, int, float, float | None]] = []
    before = start
    for place, date in enumerate(dates):
        if place + 1 == len(dates) or (dates[place + 1].year, dates[place + 1].month) != (date.year, date.month):
            now = float(equity[place])
            out.append((date.year, date.month, now - before, now / before - 1.0 if before > 0 else None))
            before = now
    return out


def skewness(moves: Floats) -> float | None:
    """Third central moment ÷ standard deviation³ (both by n); ``None`` where nothing moves."""
    centred = moves - moves.mean() if len(moves) else moves
    spread = float(np.sqrt(np.mean(centred**2))) if len(moves) else 0.0
    return float(np.mean(centred**3) / spread**3) if spread > 0 else None


def tail_mean(moves: Floats, share: float = 0.05) -> float | None:
    """Mean of the lowest ``share`` of ``moves``, at least one (expected shortfall); ``None`` of nothing."""
    return float(np.sort(moves)[: max(1, int(share * len(moves)))].mean()) if len(moves) else None


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
    taken = sum((c for c in credit if c > 0), Decimal(0))
    kept = sum((p for p, c in zip(pnl, credit, strict=True) if c > 0), Decimal(0))
    return figures_of_pnl(np.array([float(p) for p in pnl]), float(kept / taken) if taken else None)


def figures_of_pnl(values: Floats, credit_kept: float | None = None) -> TradeFigures:
    """Figures of what trades made, net money ``(n,)``; of what share of the credits taken was kept the caller knows."""
    if len(values) == 0:
        return TradeFigures(0, None, None, None, None, None, None, None)
    wins, losses = values[values > 0], values[values < 0]
    return TradeFigures(
        len(values), len(wins) / len(values), float(wins.mean()) if len(wins) else None,
        float(losses.mean()) if len(losses) else None, float(values.mean()),
        float(wins.sum() / -losses.sum()) if len(losses) else None, credit_kept, float(values.min()),
    )  # fmt: skip

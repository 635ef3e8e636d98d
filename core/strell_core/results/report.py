"""A run's report: equity by session, figures, trades by exit, decisions by the rule that said no."""

from __future__ import annotations

from collections import Counter
from dataclasses import asdict, dataclass
from decimal import Decimal
from typing import Any

import numpy as np

from strell_core.engine.plan import Plan
from strell_core.engine.run import History
from strell_core.market.prices import money, parts_to_money
from strell_core.market.timeline import Timeline
from strell_core.results import metrics
from strell_core.results.equity import EquityCurve, equity_curve
from strell_core.strategy.kinds import FALSE, TRUE


@dataclass(frozen=True)
class Report:
    curve: EquityCurve
    figures: dict[str, Any]
    decisions: list[dict[str, Any]]
    """Every decision time: instant, outcome, the rule that decided, its values."""
    evidence: dict[str, dict[str, int]]
    """Sentence id to how often it was true, said no, or was unvalued."""


def report(plan: Plan, timeline: Timeline, history: History, begin: int, end: int, cash: Decimal, seed: int) -> Report:
    """Figures of a finished run over timeline indices ``[begin, end)``."""
    curve = equity_curve(timeline, history, begin, end, cash)
    start = float(cash)
    daily = metrics.returns(curve.equity, start)
    fall = metrics.max_drawdown(curve.equity, start)
    growth = metrics.cagr(curve.equity, start)
    credits = [
        money(parts_to_money(t.opening, plan.quantum, plan.multiplier(timeline.date_at(t.opened_at))))
        for t in history.closed
    ]
    trades = metrics.trade_figures([t.pnl for t in history.closed], credits)
    dates = [timeline.dates[s] for s in curve.sessions.tolist()]
    worst_day = int(np.argmin(np.diff(curve.equity, prepend=start))) if dates else 0
    interval = metrics.interval_of_mean_growth(daily, seed)
    single = int(timeline.is_single[timeline.first[curve.sessions]].sum())
    figures: dict[str, Any] = {
        **{f"trades_{key}": value for key, value in asdict(trades).items()},
        "start_equity": start, "final_equity": float(curve.equity[-1]) if dates else start,
        "cagr": growth, "cagr_interval": interval, "max_drawdown": fall.depth,
        "drawdown_from": dates[fall.peak].isoformat() if dates else None,
        "drawdown_to": dates[fall.trough].isoformat() if dates else None,
        "drawdown_sessions": (fall.recovered if fall.recovered is not None else len(dates) - 1) - fall.peak,
        "drawdown_recovered": fall.recovered is not None,
        "mar": growth / -fall.depth if growth is not None and fall.depth < 0 else None,
        "sharpe": metrics.sharpe(daily), "sortino": metrics.sortino(daily),
        "time_in_market": float(curve.in_market.mean()) if dates else 0.0,
        "longest_flat": metrics.longest_flat(curve.equity, start),
        "worst_day": float(np.diff(curve.equity, prepend=start)[worst_day]) if dates else 0.0,
        "worst_day_date": dates[worst_day].isoformat() if dates else None,
        "costs": float(sum((t.costs for t in history.closed), Decimal(0))),
        "credit_taken": float(sum((c for c in credits if c > 0), Decimal(0))),
        "sessions": len(dates), "single_sessions": single, "stale_sessions": int(curve.stale.sum()),
        "open_trades": len(history.state.trades),
    }  # fmt: skip
    return Report(curve, figures, _decisions(history), _evidence(plan, history))


def _decisions(history: History) -> list[dict[str, Any]]:
    kinds_of_decision = ("entry", "no entry", "skipped")
    return [
        {"at": r.at, "kind": r.kind, "rule": r.rule, "truth": r.truth, "values": dict(r.values), "trade": r.trade}
        for r in history.reasons
        if r.kind in kinds_of_decision
    ]


def _evidence(plan: Plan, history: History) -> dict[str, dict[str, int]]:
    true: Counter[str] = Counter()
    no: Counter[str] = Counter()
    unvalued: Counter[str] = Counter()
    order = [r.id for r in plan.strategy.enter if r.kind != "decision_times"]
    order += [leg.id for leg in plan.strategy.legs] + [r.id for r in plan.strategy.conditions]
    for reason in history.reasons:
        if reason.kind == "entry":
            true.update([reason.rule, *order])
        elif reason.kind == "no entry":
            true.update([plan.strategy.decision_times.id, *order[: order.index(reason.rule)]])
            (no if reason.truth == FALSE else unvalued).update([reason.rule])
        elif reason.kind == "skipped":
            no.update([reason.rule])
        elif reason.kind == "left" and reason.truth == TRUE:
            true.update([reason.rule])
    ids = {*true, *no, *unvalued}
    return {key: {"true": true[key], "no": no[key], "unvalued": unvalued[key]} for key in sorted(ids)}

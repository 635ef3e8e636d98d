"""A run's report: equity by session, figures, trades by exit, decisions by the rule that said no."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from strell_core.engine.plan import Plan
from strell_core.engine.run import History
from strell_core.engine.state import ClosedTrade, Reason
from strell_core.market.market import Market, market_of
from strell_core.market.prices import money, parts_to_money
from strell_core.market.timeline import Timeline
from strell_core.measures.frames import FALSE, TRUE, UNVALUED
from strell_core.results.delayed import Leaving, leavings, over_night, unfilled
from strell_core.results.equity import EquityCurve, equity_curve
from strell_core.results.figures import Finished, figures, intervals
from strell_core.results.metrics import Floats
from strell_core.results.still_open import StillOpen, still_open


@dataclass(frozen=True)
class Report:
    curve: EquityCurve
    figures: dict[str, Any]
    intervals: dict[str, tuple[float, float]]
    """Of figures that have one: where 90 of 100 records drawn again from this one lie."""
    decisions: list[dict[str, Any]]
    """Every decision time: instant, outcome, the rule that decided, its values."""
    evidence: dict[str, dict[str, Any]]
    """Sentence id to how often it was true, said no, or was unvalued; the session in which it was last true, and how often
    it was asked since, the limit of open positions aside."""
    still_open: list[StillOpen]
    leavings: list[Leaving]
    holding: Floats
    """What the same cash in the clock's underlying would have come to, by session."""


def finished(
    plan: Plan, histories: Market | Timeline, history: History, begin: int, end: int, cash: Decimal, seed: int
) -> Finished:
    """What the figures of a run over the clock's snapshots ``[begin, end)`` are made of, to the one at which it lost
    everything."""
    market = market_of(histories)
    limited = plan.strategy.limits["capital"].params["entries"] == "refuse"
    curve = equity_curve(market, history, begin, _ended(market.main, history, end), cash)
    credits = [Decimal(0) if trade.holds_units else _credit(market, trade) for trade in history.closed]
    nights = over_night(plan, market, history)
    return Finished.of(market, history, curve, float(cash), credits, seed, limited, nights)


def _credit(market: Market, trade: ClosedTrade) -> Decimal:
    """A trade's opening premium in money."""
    there = market.timeline(trade.symbol)
    multiplier = there.multiplier(market.main.date_at(trade.opened_at))
    return money(parts_to_money(trade.opening, there.underlying.quantum, multiplier))


def report(
    plan: Plan, histories: Market | Timeline, history: History, begin: int, end: int, cash: Decimal, seed: int
) -> Report:
    """Figures of a finished run over the clock's snapshots ``[begin, end)``, to the one at which it lost everything."""
    market = market_of(histories)
    timeline = market.main
    made = finished(plan, market, history, begin, end, cash, seed)
    last = int(made.curve.sessions[-1]) if len(made.curve.sessions) else 0
    return Report(
        made.curve, figures(made), intervals(made), decisions(history.reasons), _evidence(plan, timeline, history),
        still_open(market, history, _ended(timeline, history, end) - 1), leavings(history, timeline, last),
        made.holding,
    )  # fmt: skip


def _ended(timeline: Timeline, history: History, end: int) -> int:
    """Where a run meant to go to ``end`` ended."""
    return end if history.ruined_at is None else timeline.at_or_before(history.ruined_at) + 1


def decisions(reasons: Iterable[Reason]) -> list[dict[str, Any]]:
    """Of what a run said that of its decision times; of an entry that came to nothing why."""
    kinds_of_decision, reasons = ("entry", "no entry", "skipped"), list(reasons)
    lapsed = unfilled(reasons)

    def values(reason: Reason) -> dict[str, Any]:
        said = {"lapsed": lapsed[reason.trade]} if reason.kind == "entry" and reason.trade in lapsed else {}
        return {**reason.values, **said}

    return [
        {"at": r.at, "kind": r.kind, "rule": r.rule, "truth": r.truth, "values": values(r), "trade": r.trade}
        for r in reasons
        if r.kind in kinds_of_decision
    ]


def _evidence(plan: Plan, timeline: Timeline, history: History) -> dict[str, dict[str, Any]]:
    found: dict[str, dict[str, Any]] = {}
    # where as many trades are open as may be, nothing is amiss
    meant = {rule.id for entry in plan.strategy.entries for rule in entry.conditions if rule.kind == "open_limit"}

    def heard(said: str, at: int, *rules: str) -> None:
        for rule in rules:
            counts = found.setdefault(rule, {"true": 0, "no": 0, "unvalued": 0, "last": None, "since": 0})
            counts[said] += 1
            counts["since"] += rule not in meant
            if said == "true":
                counts["last"], counts["since"] = timeline.date_at(at).isoformat(), 0

    orders = {
        entry.schedule.id: [r.id for r in entry.conditions]
        + [leg.id for leg in entry.legs]
        + [r.id for r in entry.checks]
        for entry in plan.strategy.entries
    }
    limits = {rule.id for rule in plan.strategy.guards}
    for reason in history.reasons:
        at, no = reason.at, "unvalued" if reason.truth == UNVALUED else "no"
        if reason.kind == "no entry" and reason.rule in limits:
            # a limit is asked before the entry's own sentences: what holds is what says no
            heard(no, at, reason.rule)
        elif reason.kind == "entry":
            heard("true", at, reason.rule, *orders.get(reason.rule, ()))
        elif reason.kind == "no entry":
            entry = next(
                entry for entry in plan.strategy.entries if reason.rule in (*orders[entry.schedule.id], entry.size.id)
            )
            order = [*orders[entry.schedule.id], entry.size.id]
            heard("true", at, entry.schedule.id, *order[: order.index(reason.rule)])
            heard("no" if reason.truth == FALSE else "unvalued", at, reason.rule)
        elif reason.kind == "skipped":
            heard("no", at, reason.rule)
        elif reason.kind in ("left", "moved") and reason.truth == TRUE:
            heard("true", at, reason.rule)
    return dict(sorted(found.items()))

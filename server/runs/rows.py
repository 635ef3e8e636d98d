"""A closed trade as the rows and texts people read."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any

from strell_core.engine.plan import Plan
from strell_core.engine.state import ClosedTrade
from strell_core.market.prices import grouped, money, parts_to_money, parts_to_price
from strell_core.market.timeline import Timeline
from strell_core.strategy import catalogue
from strell_core.strategy.kinds import TRUE
from strell_core.strategy.reasons import reason_text
from strell_core.strategy.sentences import sheet


def amount_text(value: Decimal, currency: str) -> str:
    return f"{grouped(value, 2)} {currency}"


def exit_reason(
    plan: Plan, history: Timeline, document: dict[str, Any], rule: str, values: Any, opened_on: dt.date
) -> str:
    """What an exit sentence said of a trade when it acted, its money in words."""
    if rule == "settlement":
        return "settled in cash at expiration"
    if rule == "split":
        return f"closed at its last mids: its contracts cannot be followed over the split {values['split']}"
    sentence = next(s for s in sheet(document).sentences if s.id == rule)
    declaration = catalogue.sentences("leave")[sentence.rule]

    def as_money(parts: int) -> str:
        amount = money(parts_to_money(parts, plan.quantum, plan.multiplier(opened_on)))
        return amount_text(amount, history.underlying.on(opened_on).currency)

    return reason_text(declaration, TRUE, values, as_money)


def trade_row(plan: Plan, history: Timeline, document: dict[str, Any], trade: ClosedTrade) -> dict[str, Any]:
    local = history.calendar.local
    opened, closed = local(trade.opened_at), local(trade.closed_at)
    nearest = min(leg.contract.expiration for leg in trade.legs)
    multiplier = plan.multiplier(opened.date())
    credit = money(parts_to_money(trade.opening, plan.quantum, multiplier))
    gross = money(parts_to_money(trade.gross, plan.quantum, multiplier))
    spot = int(history.spot[history.at_or_before(trade.opened_at)]) / 100
    return {
        "number": trade.number, "opened": opened.strftime("%Y-%m-%dT%H:%M"), "closed": closed.strftime("%Y-%m-%dT%H:%M"),
        "opened_shown": opened.strftime("%a %-d %b %Y %H:%M"), "closed_shown": closed.strftime("%a %-d %b %Y %H:%M"),
        "decided": local(trade.decided_at).strftime("%Y-%m-%dT%H:%M"), "opened_at": trade.opened_at,
        "weekday": opened.strftime("%a"), "expires": nearest.isoformat(), "dte": (nearest - opened.date()).days,
        "held": (closed.date() - opened.date()).days, "lots": trade.lots, "spot": spot,
        "legs": [
            {
                "expiration": leg.contract.expiration.isoformat(), "strike": leg.contract.strike,
                "right": leg.contract.right, "contracts": leg.contracts,
                "opened": float(parts_to_price(leg.opened_parts, plan.quantum)),
                "closed": float(parts_to_price(leg.closed_parts, plan.quantum)), "how": leg.how,
            }
            for leg in trade.legs
        ],
        "credit": float(credit), "cost_to_close": float(credit - gross), "pnl": float(trade.pnl),
        "costs": float(trade.costs), "of_premium": float(100 * gross / abs(credit)) if credit else None,
        "rule": trade.rule, "sentence": sheet(document).numbered(trade.rule),
        "reason": exit_reason(plan, history, document, trade.rule, trade.values, opened.date()), "also": list(trade.also),
    }  # fmt: skip

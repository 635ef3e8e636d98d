"""A closed trade as the rows and texts people read."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any

from strell_core.engine.state import ClosedTrade
from strell_core.market.prices import grouped, money, parts_to_money, parts_to_price, shown_price
from strell_core.market.timeline import Timeline
from strell_core.measures.frames import TRUE
from strell_core.results.causes import Causes
from strell_core.results.delayed import Leaving, in_the_way
from strell_core.results.still_open import StillOpen
from strell_core.strategy.reasons import sentence_said
from strell_core.strategy.sentences import Sheet


def amount_text(value: Decimal, currency: str) -> str:
    return f"{grouped(value, 2)} {currency}"


ENDS = {
    "assignment": "assigned: the underlying was delivered at the strike",
    "exercise": "exercised: the underlying was delivered at the strike",
    "delivery": "the units that were delivered were closed",
}
"""What ended a trade that no sentence left, beside settlement and splits."""


def exit_reason(
    history: Timeline, document: dict[str, Any], written: Sheet, rule: str, values: Any, opened_on: dt.date
) -> str:  # fmt: skip
    """What an exit sentence said of a trade when it acted, its money in words. ``history``: of its underlying; ``written``: the
    document's sheet."""
    if rule == "settlement":
        return "expired worthless" if history.underlying.delivers else "settled in cash at expiration"
    if rule in ENDS:
        return ENDS[rule]
    if rule == "split":
        return f"closed at its last mids: its contracts cannot be followed over the split {values['split']}"
    sentence = next(s for s in written.sentences if s.id == rule)

    def as_money(parts: int) -> str:
        amount = money(parts_to_money(parts, history.underlying.quantum, history.multiplier(opened_on)))
        return amount_text(amount, history.underlying.on(opened_on).currency)

    return sentence_said(written, document, sentence, TRUE, values, as_money)


def _when(history: Timeline, at: int) -> str:
    return history.calendar.local(at).strftime("%a %-d %b %Y %H:%M")


def happened(history: Timeline, kind: str, values: Any) -> str | None:
    """What happened to a trade or an order, as its own words say it wherever it is told; ``None``: that depends on where."""
    if kind == "stop moved":
        price = float(parts_to_price(values["price"], history.underlying.quantum))
        return f"the stop of leg {values['leg']} is now its entry price, {price:g}"
    if kind == "ended":
        return f"the {values['kind']} order ended without (more) fills"
    if kind == "adjusted":
        return f"the underlying was split {values['split']}"
    if kind == "waits":
        return "a leg has come to its settlement, whose value is not recorded yet"
    return None


def waiting_words(history: Timeline, written: Sheet, trade: ClosedTrade, leaving: Leaving | None) -> str:
    """When an exit was decided, what stood in the way, and when it was done; nothing where it did not have to wait."""
    if leaving is None:
        return ""
    until = trade.closed_at if leaving.done_at is None else leaving.done_at
    snapshots, missing = in_the_way(history, [leg.contract for leg in trade.legs], leaving.decided_at, until)
    if leaving.done_at is not None and not snapshots:
        return ""
    why = "; ".join(f"{contract.label} at {count} of them" for contract, count in missing.items())
    number = written.numbered(leaving.rule)
    said = f" (sentence {number})" if number else ""
    end = "was never carried out" if leaving.done_at is None else f"was carried out on {_when(history, until)}"
    waited = f", {snapshots} snapshots later" if leaving.done_at is not None else f" on {snapshots} snapshots"
    limited = not why and any(s.rule == "patience" and not s.off for s in written.sentences)
    reason = f": without a valid quote was {why}" if why else ": its limit was not reached before" if limited else ""
    return f"What was decided on {_when(history, leaving.decided_at)}{said} {end}{waited}{reason}."


def open_row(history: Timeline, found: StillOpen) -> dict[str, Any]:
    """An open trade at a run's end as its table names it."""
    trade, opened = found.trade, history.calendar.local(found.trade.opened_at)
    quantum = history.underlying.quantum
    credit = money(parts_to_money(trade.opening, quantum, history.multiplier(trade.opened_on)))
    return {
        "number": trade.number, "symbol": trade.symbol, "opened_shown": opened.strftime("%a %-d %b %Y %H:%M"), "lots": trade.lots,
        "credit": float(credit), "pnl": float(found.pnl), "waits": any(leg.waits for leg in found.legs),
        "legs": [
            {
                "label": item.leg.contract.label, "contracts": item.leg.contracts, "stale": item.stale,
                "opened": shown_price(item.leg.contract, item.leg.opened_parts, quantum),
                "mark": shown_price(item.leg.contract, item.parts, quantum),
            }
            for item in found.legs
        ],
    }  # fmt: skip


def _delta(trade: ClosedTrade, legs: list[dict[str, Any]]) -> float | None:
    """Delta of a lot when it was entered, in contracts that move one for one with the underlying, of which one of the
    underlying itself is one."""
    held = [(leg, facts["entry"]["delta"]) for leg, facts in zip(trade.legs, legs, strict=True) if not leg.opened_at]
    if any(delta is None for _, delta in held):
        return None
    whole = sum(leg.contracts * delta for leg, delta in held)
    return round(whole / (trade.lots - trade.more_lots), 4)


def trade_row(
    history: Timeline, document: dict[str, Any], written: Sheet, trade: ClosedTrade, legs: list[dict[str, Any]],
    why: Causes, leaving: Leaving | None = None,
) -> dict[str, Any]:  # fmt: skip
    """A trade as tables and slices read it. ``history``: of its underlying; ``written``: the document's sheet; ``legs`` as
    :func:`runs.kept.leg_facts` gives them."""
    local = history.calendar.local
    opened, closed = local(trade.opened_at), local(trade.closed_at)
    nearest = min((leg.contract.expiration for leg in trade.legs if not leg.contract.is_unit), default=opened.date())
    multiplier, quantum = history.multiplier(opened.date()), history.underlying.quantum
    credit = money(parts_to_money(trade.opening, quantum, multiplier))
    gross = money(parts_to_money(trade.gross, quantum, multiplier))
    spot = int(history.spot[history.at_or_before(trade.opened_at)]) / 100
    return {
        "number": trade.number, "symbol": trade.symbol, "opened": opened.strftime("%Y-%m-%dT%H:%M"), "closed": closed.strftime("%Y-%m-%dT%H:%M"),
        "opened_shown": opened.strftime("%a %-d %b %Y %H:%M"), "closed_shown": closed.strftime("%a %-d %b %Y %H:%M"),
        "decided": local(trade.decided_at).strftime("%Y-%m-%dT%H:%M"), "opened_at": trade.opened_at,
        "weekday": opened.strftime("%a"), "expires": nearest.isoformat(), "dte": (nearest - opened.date()).days,
        "held": (closed.date() - opened.date()).days, "lots": trade.lots, "spot": spot,
        "legs": [
            {
                "expiration": "" if leg.contract.is_unit else leg.contract.expiration.isoformat(), "strike": 0 if leg.contract.is_unit else leg.contract.strike,
                "right": leg.contract.right, "contracts": leg.contracts,
                "opened": shown_price(leg.contract, leg.opened_parts, quantum),
                "closed": shown_price(leg.contract, leg.closed_parts, quantum), "how": leg.how,
            }
            for leg in trade.legs
        ],
        "credit": float(credit), "cost_to_close": float(credit - gross), "pnl": float(trade.pnl),
        "costs": float(trade.costs), "of_premium": float(100 * gross / abs(credit)) if credit and not trade.holds_units else None,
        "entry": trade.entry, "delta": _delta(trade, legs),
        "rule": trade.rule, "sentence": written.numbered(trade.rule),
        "reason": exit_reason(history, document, written, trade.rule, trade.values, opened.date()), "also": list(trade.also),
        "waited": waiting_words(history, written, trade, leaving),
        "causes": {cause: round(value, 2) for cause, value in why.total.items()},
    }  # fmt: skip

"""What a ticket would do, in sentences: what comes in or goes out, what it can cost, what protects it."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from desk.positions import greeks, margin_words
from desk.tickets import Judged, step_of
from observe import payoffs
from strell_core.engine.ledger import options_in
from strell_core.market.prices import grouped
from strell_core.orders.order import OrderType, Terms, TimeInForce, mid_limit
from strell_core.orders.protection import Level
from strell_core.pricing.held import Holding
from venue.live import Live


def amount(value: float | Decimal, currency: str) -> str:
    return f"{grouped(value if value >= 0 else -value)}\u00a0{currency}"


def prices(judged: Judged) -> dict[str, float] | None:
    """Both sides and mid of one lot, points; paid positive."""
    if judged.sides is None:
        return None
    quantum = float(judged.live.row.quantum)
    found, step = judged.sides, step_in_quanta(judged)
    return {
        "own": round(found.own * quantum, 4),
        "mid": round(found.mid_twice * quantum / 2, 4),
        "mid_limit": round(mid_limit(found, step) * quantum, 4),
        "other": round(found.other * quantum, 4),
    }


def step_in_quanta(judged: Judged) -> int:
    """The exchange's price step of the order, at its mid."""
    quantum = judged.live.row.quantum
    mid = Decimal(0) if judged.sides is None else Decimal(judged.sides.mid_twice) / 2 * quantum
    return int(step_of(judged.live.row, len(judged.terms.legs), mid) / quantum)


def last_trade(now: Live, terms: Terms) -> float | None:
    """Net price of one lot at the legs' last trades, points; ``None`` while a leg has not traded."""
    total = 0
    for leg in terms.legs:
        if leg.contract.is_unit:
            total += leg.ratio * round(now.spot / float(now.row.quantum))
            continue
        row = now.row_of(leg.contract)
        if row is None or int(now.last[row]) < 0:
            return None
        total += leg.ratio * int(now.last[row])
    return round(total * float(now.row.quantum), 4)


def expected(judged: Judged) -> int | None:
    """Quanta a lot it would deal at: its limit, or the other side."""
    if judged.terms.type is OrderType.LIMIT and judged.terms.limit is not None:
        return judged.terms.limit
    return judged.sides.other if judged.sides is not None else None


def preview(judged: Judged) -> dict[str, Any]:
    """Everything the ticket shows."""
    now, terms, row = judged.live, judged.terms, judged.live.row
    price = expected(judged)
    listed = bool(terms.legs) and all(now.listed(leg.contract) for leg in terms.legs)
    holdings = _holdings(judged, price) if listed and judged.sides is not None else []
    picture = payoffs.payoff(now.timeline, 0, holdings) if holdings and judged.holding is None else None
    scale = float(row.quantum) * row.multiplier * terms.lots
    premium = None if price is None else round(-price * scale, 2)
    costs = judged.account.commission * options_in(terms.legs) * terms.lots
    free = judged.standings.free
    return {
        "sides": prices(judged), "capital": float(judged.capital) if judged.holding is None else None,
        "problems": [{"path": place, "message": text} for place, text in judged.problems],
        "sentences": _sentences(judged, premium, costs, picture) if holdings else [],
        "payoff": picture, "glyph": payoffs.glyph(holdings, now.spot) if holdings else None, "premium": premium,
        "legs": [_leg(now, leg.contract, leg.ratio, leg.ratio * terms.lots) for leg in terms.legs if now.listed(leg.contract)],
        "free_after": None if free is None else float(free - judged.capital), "last": last_trade(now, terms) if listed else None,
        "tick": step_in_quanta(judged) * float(row.quantum),
    }  # fmt: skip


def _holdings(judged: Judged, price: int | None) -> list[Holding]:
    """Legs as if dealt at the net price, the gap to their mids on the first of them."""
    now, quantum = judged.live, float(judged.live.row.quantum)
    made = []
    gap = 0.0 if price is None or judged.sides is None else (price - judged.sides.mid_twice / 2) * quantum
    for number, leg in enumerate(judged.terms.legs):
        quote = now.sided(leg.contract)
        mid = (quote.bid + quote.ask) / 2 * quantum if quote else 0.0
        opened = mid + (gap / leg.ratio if number == 0 else 0.0)
        made.append(Holding(leg.contract, leg.ratio * judged.terms.lots, opened))
    return made


def _leg(now: Live, contract: Any, ratio: int, contracts: int) -> dict[str, Any]:
    quote, quantum = now.sided(contract), float(now.row.quantum)
    assert quote is not None, "a ticket is read back after every contract of it was found"
    delta = greeks(now, [(contract, 1)])["delta"]
    return {
        "contract": contract.code, "label": contract.label, "ratio": ratio, "contracts": contracts,
        "bid": round(quote.bid * quantum, 2), "ask": round(quote.ask * quantum, 2), "bid_size": quote.bid_size,
        "ask_size": quote.ask_size, "delta": None if delta is None else round(delta / now.row.multiplier, 3),
    }  # fmt: skip


def _sentences(judged: Judged, premium: float | None, costs: Decimal, picture: dict[str, Any] | None) -> list[str]:
    row = judged.live.row
    money = row.currency
    out: list[str] = [_when(judged)]
    if premium is not None:
        flows = "come in" if premium > 0 else "are paid"
        out.append(f"If it fills, {amount(premium, money)} {flows}, and {costs:.2f} {money} of commission.")
    if judged.holding is not None:
        out.append("It closes what is held and opens nothing.")
        return out
    if picture is not None:
        worst, best = picture["max_loss"], picture["max_profit"]
        out.append(
            "The loss has no limit." if worst is None else f"At worst {amount(worst - float(costs), money)} are lost."
        )
        if best is not None:
            out.append(f"At best {amount(best - float(costs), money)} are won.")
        if picture["break_evens"]:
            points = " and ".join(grouped(value, 2 if value < 200 else 1) for value in picture["break_evens"])
            chance = picture["chance_of_profit"]
            odds = "" if chance is None else f"; options give profit a chance of {100 * chance:.0f} %"
            out.append(f"It breaks even at {points}{odds}.")
    free = judged.standings.free
    if free is not None:
        why = margin_words(judged.live, [(leg.contract, leg.ratio * judged.terms.lots) for leg in judged.terms.legs])
        out.append(
            f"It takes {amount(judged.capital, money)} of capital{f' ({why})' if why else ''}: free goes from {amount(free, money)} to {amount(max(free - judged.capital, Decimal(0)), money)}."
        )
    out.append(_protected(judged, money))
    return out


def _when(judged: Judged) -> str:
    terms = judged.terms
    if terms.type is OrderType.MARKET:
        return "It pays the other side at once, as much as is offered there."
    until = "until the session ends" if terms.time_in_force is TimeInForce.DAY else "until it is cancelled"
    if judged.sides is not None and terms.limit is not None and judged.sides.other <= terms.limit:
        return "The market is at this price already: it fills at once at the other side or better."
    return f"It waits {until} and fills when the other side comes to it, not before."


def _protected(judged: Judged, money: str) -> str:
    shield = judged.protection
    if shield.target is None and shield.stop is None:
        return "Nothing protects it."

    def words(level: Level, what: str) -> str:
        if level.unit == "percent":
            return f"{what} of {level.value.normalize():f} % of the premium"
        return f"{what} of {amount(level.value, money)}"

    parts = [words(level, what) for level, what in ((shield.target, "a profit"), (shield.stop, "a loss")) if level]
    return (
        f"It is closed at {' or at '.join(parts)}; that is watched from the first fill on, also with this page closed."
    )

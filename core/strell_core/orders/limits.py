"""What an account, a deployment and a day may do. Judged when an order is placed and again at the last gate."""

from __future__ import annotations

from dataclasses import asdict, dataclass, fields
from decimal import Decimal
from typing import Any

from strell_core.market.prices import grouped, number
from strell_core.orders.order import OrderType, Sides, Terms, price_words


@dataclass(frozen=True)
class Limits:
    """``None``: no limit of that kind."""

    lots: int | None = 20
    """Lots of one order."""
    notional: Decimal | None = Decimal(5_000_000)
    """Strike times multiplier times contracts of one order, all legs together, money."""
    orders_a_minute: int | None = 30
    """New orders in any 60 seconds of wall time."""
    day_loss: Decimal | None = Decimal(5_000)
    """Loss of the session, realised and at mid, from which nothing is opened any more."""
    collar: int | None = 60
    """Percent of the spread (between the two sides) a limit may lie beyond the other side."""

    def plain(self) -> dict[str, Any]:
        return {key: str(value) if isinstance(value, Decimal) else value for key, value in asdict(self).items()}

    @classmethod
    def parse(cls, raw: dict[str, Any]) -> Limits:
        """Raises ``ValueError`` that says which limit makes no sense."""
        known = {field.name for field in fields(cls)}
        made: dict[str, Any] = {}
        for key, value in raw.items():
            if key not in known:
                raise ValueError(f"there is no limit called {key}")
            if value is None:
                made[key] = None
                continue
            try:
                given = number(value)
            except ValueError as error:
                raise ValueError(f"{key}: {error}") from error
            if given <= 0:
                raise ValueError(f"{key} must be more than 0")
            if key not in ("notional", "day_loss") and given != int(given):
                raise ValueError(f"{key} must be a whole number")
            made[key] = given if key in ("notional", "day_loss") else int(given)
        return cls(**made)


@dataclass(frozen=True)
class Facts:
    """What the limits are judged on."""

    opens: bool
    """Whether the order opens or adds; closing is limited in rate and price only."""
    orders_last_minute: int
    session_pnl: Decimal | None
    notional: Decimal
    sides: Sides | None
    quantum: Decimal
    currency: str


def refusal(limits: Limits, terms: Terms, facts: Facts) -> str | None:
    """The first limit an order breaks, in words; ``None``: it may go."""
    if limits.orders_a_minute is not None and facts.orders_last_minute >= limits.orders_a_minute:
        return f"{facts.orders_last_minute} orders in the last minute reach the limit of {limits.orders_a_minute}."
    if (
        terms.type is OrderType.LIMIT
        and terms.limit is not None
        and facts.sides is not None
        and limits.collar is not None
    ):
        spread = facts.sides.other - facts.sides.own
        beyond = terms.limit - facts.sides.other
        if 100 * beyond > limits.collar * max(spread, 2):
            limit, other = price_words(terms.limit, facts.quantum), price_words(facts.sides.other, facts.quantum)
            return f"A limit of {limit} lies too far beyond the other side, {other}."
    if not facts.opens:
        return None
    if limits.lots is not None and terms.lots > limits.lots:
        return f"{terms.lots} lots are more than the limit of {limits.lots} an order."
    if limits.notional is not None and facts.notional > limits.notional:
        return f"A notional of {grouped(facts.notional)} {facts.currency} is more than the limit of {grouped(limits.notional)}."
    if limits.day_loss is not None and facts.session_pnl is not None and facts.session_pnl <= -limits.day_loss:
        return (
            f"The session stands at {grouped(facts.session_pnl, 2)} {facts.currency}; from a loss of "
            f"{grouped(limits.day_loss)} nothing is opened."
        )
    return None

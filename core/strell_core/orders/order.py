"""What an order says. Terms and codes are those of FIX 4.4 (FIX Trading Community, 2003), the tags named.

A price is the net price of one lot in quanta: what its legs together cost. A positive price is paid
(debit), a negative one taken in (credit); a limit of -120 at a quantum of 0.05 takes in at least 6.00.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from enum import StrEnum
from typing import NamedTuple

from strell_core.market.instruments import ContractKey


class OrderType(StrEnum):
    """OrdType (40)."""

    MARKET = "market"
    LIMIT = "limit"

    @property
    def code(self) -> str:
        return {"market": "1", "limit": "2"}[self.value]


class TimeInForce(StrEnum):
    """TimeInForce (59)."""

    DAY = "day"
    GOOD_TILL_CANCELLED = "gtc"

    @property
    def code(self) -> str:
        return {"day": "0", "gtc": "1"}[self.value]


class Leg(NamedTuple):
    """One leg: signed contracts a lot, LegRatioQty (623) with LegSide (624) as its sign."""

    contract: ContractKey
    ratio: int


class Sided(NamedTuple):
    """Best bid and ask of a contract in quanta, with contracts offered there; ``at`` epoch second."""

    bid: int
    ask: int
    bid_size: int
    ask_size: int
    at: int

    @property
    def valid(self) -> bool:
        """Semantics rule 3."""
        return 0 <= self.bid <= self.ask and self.ask > 0


Quotes = Mapping[ContractKey, Sided]


@dataclass(frozen=True)
class Terms:
    """An order: all its legs at once, or not at all, in whole lots."""

    legs: tuple[Leg, ...]
    lots: int
    type: OrderType
    limit: int | None = None
    time_in_force: TimeInForce = TimeInForce.DAY
    closes: bool = False
    """It only closes what is held: what nobody bids for is given away."""


class Sides(NamedTuple):
    """Net prices of one lot in quanta: joining the own side, twice the mid, taking the other side."""

    own: int
    mid_twice: int
    other: int


def sides(legs: Sequence[Leg], quotes: Quotes, closes: bool = False) -> Sides | None:
    """What one lot costs at either side; ``None`` unless every leg has a valid quote that can be dealt on. Where nobody
    bids nothing is sold short, and what is held is given away at 0 (``closes``; semantics rule 8)."""
    own = other = 0
    for leg in legs:
        quote = quotes.get(leg.contract)
        if quote is None or not quote.valid or (leg.ratio < 0 and quote.bid == 0 and not closes):
            return None
        buys = leg.ratio > 0
        own += leg.ratio * (quote.bid if buys else quote.ask)
        other += leg.ratio * (quote.ask if buys else quote.bid)
    return Sides(own, own + other, other)


def mid_limit(found: Sides, step: int = 1) -> int:
    """The mid as a limit in whole ``step`` quanta, rounded passively: never paying more, never taking in less
    (semantics rule 6)."""
    return math.floor(found.mid_twice / 2 / step) * step


def price_words(quanta: int, quantum: Decimal) -> str:
    """``5.85 credit``, ``2.10 debit`` or ``even``."""
    points = abs(quanta) * quantum
    if quanta == 0:
        return "even"
    return f"{points:.2f} {'debit' if quanta > 0 else 'credit'}"

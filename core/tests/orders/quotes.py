"""Quotes for tests of orders: two calls and two puts of one expiration, prices in quanta of 0.05."""

from __future__ import annotations

import datetime as dt

from strell_core.market.instruments import ContractKey
from strell_core.orders.order import Leg, OrderType, Sided, Terms, TimeInForce

EXPIRATION = dt.date(2026, 11, 27)
CALL, FAR_CALL = ContractKey(EXPIRATION, "call", 3150, "MK30"), ContractKey(EXPIRATION, "call", 3180, "MK30")
PUT = ContractKey(EXPIRATION, "put", 3050, "MK30")
NOW = 1_795_100_000


def quotes(call=(100, 104), far=(40, 42), put=(90, 95), size=10, at=NOW):
    """Bid and ask of the contracts, all with the same size and instant."""
    sides = {CALL: call, FAR_CALL: far, PUT: put}
    return {contract: Sided(bid, ask, size, size, at) for contract, (bid, ask) in sides.items()}


def terms(*legs: tuple[ContractKey, int], lots: int = 1, limit: int | None = None) -> Terms:
    kind = OrderType.MARKET if limit is None else OrderType.LIMIT
    return Terms(tuple(Leg(*leg) for leg in legs), lots, kind, limit, TimeInForce.DAY)

"""Whether an order can exist at all, before any account's limits."""

from __future__ import annotations

from collections.abc import Callable

from strell_core.market.instruments import ContractKey
from strell_core.orders.order import OrderType, Terms

MAX_LEGS = 8
MAX_LOTS = 10_000
MAX_RATIO = 100


def problems(
    terms: Terms, listed: Callable[[ContractKey], bool], last_trade: Callable[[ContractKey], int], now: int
) -> list[tuple[str, str]]:
    """What is wrong with an order's terms, as (place, sentence). ``last_trade`` gives the epoch second
    after which a contract is not dealt any more, ``now`` is the market's time."""
    out: list[tuple[str, str]] = []
    if not 1 <= terms.lots <= MAX_LOTS:
        out.append(("lots", f"Lots must be a whole number between 1 and {MAX_LOTS}, not {terms.lots}."))
    if not terms.legs:
        out.append(("legs", "An order needs at least one leg."))
    if len(terms.legs) > MAX_LEGS:
        out.append(("legs", f"An order has at most {MAX_LEGS} legs, not {len(terms.legs)}."))
    if len({leg.contract for leg in terms.legs}) < len(terms.legs):
        out.append(("legs", "A contract may stand in an order once; add up its lots."))
    for leg in terms.legs:
        if leg.ratio == 0 or abs(leg.ratio) > MAX_RATIO:
            out.append(("legs", f"Contracts a lot of {leg.contract.label} must lie between 1 and {MAX_RATIO}."))
        if not listed(leg.contract):
            out.append(("legs", f"{leg.contract.label} is not listed."))
        elif now > last_trade(leg.contract):
            out.append(("legs", f"{leg.contract.label} is no longer traded."))
    if terms.type is OrderType.LIMIT and terms.limit is None:
        out.append(("limit", "A limit order needs a price."))
    if terms.type is OrderType.MARKET and terms.limit is not None:
        out.append(("limit", "A market order has no price; leave it out or send a limit order."))
    return out

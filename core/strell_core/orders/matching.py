"""Paper matching: what a market with these quotes would have given, and no more.

A limit waits until the other side reaches it and then fills at the other side's better price; a
market order pays the spread; no more lots fill than the smallest size of the legs allows, and what one
order took another does not get from the same quote; nothing fills on a quote that is not newer than
the order's arrival by the market's delay. What closes a position gives away at 0 what nobody bids for.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS
from strell_core.orders.order import OrderType, Quotes, Terms, sides

DELAY_SECONDS = 1
"""Market time that passes before an order that arrived may trade."""


@dataclass(frozen=True)
class Match:
    """Lots dealt now, with each leg's price in parts of a quantum."""

    lots: int
    prices: tuple[int, ...]


@dataclass
class Taken:
    """Contracts that orders took from the quotes of one instant, by contract and side."""

    contracts: dict[tuple[ContractKey, bool], int] = field(default_factory=dict)

    def of(self, contract: ContractKey, buys: bool) -> int:
        return self.contracts.get((contract, buys), 0)

    def add(self, contract: ContractKey, buys: bool, contracts: int) -> None:
        self.contracts[contract, buys] = self.of(contract, buys) + contracts


def match(terms: Terms, left: int, arrived: int, quotes: Quotes, taken: Taken) -> Match | None:
    """What fills of an order with ``left`` lots to go that arrived at epoch second ``arrived``.

    ``taken`` is marked with what is dealt. ``None``: the order waits.
    """
    found = sides(terms.legs, quotes, terms.closes)
    if found is None or any(quotes[leg.contract].at < arrived + DELAY_SECONDS for leg in terms.legs):
        return None
    if terms.type is OrderType.LIMIT and (terms.limit is None or found.other > terms.limit):
        return None
    lots = left
    for leg in terms.legs:
        buys = leg.ratio > 0
        quote = quotes[leg.contract]
        if not buys and quote.bid == 0:
            # given away: as many as there are
            continue
        offered = (quote.ask_size if buys else quote.bid_size) - taken.of(leg.contract, buys)
        lots = min(lots, offered // abs(leg.ratio))
    if lots < 1:
        return None
    prices = []
    for leg in terms.legs:
        quote, buys = quotes[leg.contract], leg.ratio > 0
        taken.add(leg.contract, buys, lots * abs(leg.ratio))
        prices.append((quote.ask if buys else quote.bid) * PARTS)
    return Match(lots, tuple(prices))

"""What accounts and holdings are worth now: average prices, marks, P/L, capital, Greeks."""

from __future__ import annotations

import itertools
import math
from collections import Counter, defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from functools import cached_property

from django.db.models import Q, Sum

from desk.models import DIVIDEND, Account, DeskFill, DeskOrder, Holding
from observe import payoffs
from strell_core.engine.ledger import Held, Move, holdings
from strell_core.engine.marks import known_by_pnl
from strell_core.margin.strategy_based import Leg, capital, requirement, share_of
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS, money, parts_to_money, parts_to_price
from strell_core.measures.frames import Stretch
from strell_core.pricing.black import GREEKS
from strell_core.pricing.held import Holding as HeldNow
from venue.live import Live

OPENING = ("order", "taken over")
"""Kinds of fills that can open."""


def moves(fills: Iterable[DeskFill]) -> list[Move]:
    """What fills brought and took; a dividend moves money only."""
    return [
        Move(ContractKey.parse(code), n, parts)
        for fill in fills
        if fill.kind != DIVIDEND
        for code, n, parts in fill.legs
    ]


@dataclass(frozen=True)
class Standing:
    """A holding at the market now. Money before costs; ``None``: unvalued."""

    row: Holding
    fills: Sequence[DeskFill]
    live: Live
    closing: Sequence[DeskOrder] = ()
    """Closing orders at work."""

    @cached_property
    def held(self) -> list[Held]:
        return [held for _, held in sorted(holdings(moves(self.fills)).items())]

    @property
    def open(self) -> list[Held]:
        return [held for held in self.held if held.contracts]

    @cached_property
    def lots(self) -> int:
        """Whole lots of what is held: the greatest number that divides every leg."""
        return math.gcd(*(abs(held.contracts) for held in self.open)) if self.open else 0

    @property
    def legs(self) -> list[tuple[ContractKey, int]]:
        """Contracts a lot, as held."""
        return [(held.contract, held.contracts // self.lots) for held in self.open]

    def _money(self, parts: Fraction | int) -> Decimal:
        terms = self.live.row
        return money(parts_to_money(round(parts), terms.quantum, terms.multiplier))

    @property
    def worth(self) -> Decimal:
        """Money of one part of one contract."""
        return parts_to_money(1, self.live.row.quantum, self.live.row.multiplier)

    @property
    def now(self) -> Stretch:
        """The position as exits are asked about it."""
        at = self.live.timeline
        opened_on = at.calendar.local(self.row.opened_at).date()
        mid, closable = self._against("mid"), self._against("closable")
        pnl = None if mid is None or closable is None else (mid, closable)
        return known_by_pnl(at, 0, opened_on, self._opening, pnl)

    @cached_property
    def _opening(self) -> int:
        opening = [
            fill
            for fill in self.fills
            if fill.kind in OPENING and (fill.order is None or (fill.order.opens and not fill.order.changes))
        ]
        return -sum(move.contracts * move.price_parts for move in moves(opening) if not move.contract.is_unit)

    @property
    def premium(self) -> Decimal:
        """What the options of the opening fills took in (positive) or cost, before costs (semantics rule 5)."""
        return self._money(self._opening)

    @cached_property
    def _realised(self) -> Fraction:
        """Of what was closed, with dividends of units held, in parts times contracts."""
        paid = sum(n * parts for fill in self.fills if fill.kind == DIVIDEND for _, n, parts in fill.legs)
        return sum((held.realised for held in self.held), Fraction(paid))

    @property
    def realised(self) -> Decimal:
        return self._money(self._realised)

    def _against(self, side: str) -> int | None:
        """P/L in parts times contracts at mid, or as it would close."""
        total = self._realised
        for held in self.open:
            value = mark(self.live, held.contract, held.contracts, side)
            if value is None:
                return None
            total += held.contracts * (value - held.average)
        # what was paid on average is a fraction, what was paid in all is not
        return round(total)

    @cached_property
    def mid(self) -> Decimal | None:
        parts = self._against("mid")
        return None if parts is None else self._money(parts)

    @cached_property
    def closable(self) -> Decimal | None:
        parts = self._against("closable")
        return None if parts is None else self._money(parts)

    @cached_property
    def opened_price(self) -> float | None:
        """Net average price of a lot, points: what was paid positive, taken in negative."""
        if not self.lots:
            return None
        parts = sum((held.contracts * held.average for held in self.open), Fraction(0)) / self.lots
        return round(float(parts_to_price(round(parts), self.live.row.quantum)), 4)

    def payoff_holdings(self) -> list[HeldNow]:
        quantum = float(self.live.row.quantum)
        return [HeldNow(held.contract, held.contracts, float(held.average) * quantum / PARTS) for held in self.open]

    @cached_property
    def greeks(self) -> dict[str, float | None]:
        return greeks(self.live, [(held.contract, held.contracts) for held in self.open])

    @cached_property
    def reserved(self) -> Decimal:
        """Capital this ties up from here on, whichever of its closing orders are filled."""
        return self.reserved_with()

    def reserved_with(self, *more: Sequence[tuple[ContractKey, int]]) -> Decimal:
        """The same with more that is to be dealt: of two orders that close a leg each, the one of the long may be filled
        and the other not. Filled in part it needs no more than filled or not, for what is needed is convex."""
        dealt = [order_legs(order) for order in self.closing] + list(more)
        most = Decimal(0)
        for count in range(len(dealt) + 1):
            for some in itertools.combinations(dealt, count):
                left = Counter({held.contract: held.contracts for held in self.open})
                for contract, contracts in itertools.chain.from_iterable(some):
                    left[contract] += contracts
                most = max(most, reserve(self.live, [(c, n) for c, n in left.items() if n]))
        return most


def mark(live: Live, contract: ContractKey, contracts: int, side: str) -> Fraction | None:
    """Mid, or what closing gives (nothing where nobody bids), in parts; ``None`` without a usable quote."""
    quote = live.sided(contract)
    if quote is None or not quote.valid:
        return None
    if side == "mid":
        return Fraction((quote.bid + quote.ask) * PARTS, 2)
    if contracts < 0:
        return Fraction(quote.ask * PARTS)
    return Fraction(quote.bid * PARTS)


def greeks(live: Live, legs: Sequence[tuple[ContractKey, int]]) -> dict[str, float | None]:
    """Of a whole position, in money: contracts times multiplier."""
    totals: dict[str, float | None] = dict.fromkeys(GREEKS, 0.0)
    for contract, contracts in legs:
        if live.sided(contract) is None:
            return dict.fromkeys(GREEKS)
        values = payoffs.greeks(live.timeline, 0, HeldNow(contract, contracts, 0.0))
        for name in GREEKS:
            value, total = values[name], totals[name]
            totals[name] = None if value is None or total is None else total + value * contracts * live.row.multiplier
    return totals


def margin_legs(live: Live, legs: Sequence[tuple[ContractKey, int]]) -> list[Leg]:
    """Options as the margin rules see them, at their mids."""
    made = []
    for contract, contracts in legs:
        if contract.is_unit or live.sided(contract) is None:
            continue
        value = mark(live, contract, contracts, "mid")
        points = 0.0 if value is None else float(value) * float(live.row.quantum) / PARTS
        sign = 1 if contract.right == "call" else -1
        settlement = live.timeline.cubes[contract.expiration].settlement_at
        made.append(Leg(contracts, sign, float(contract.strike), settlement, points))
    return made


def units_of(legs: Sequence[tuple[ContractKey, int]]) -> int:
    """Contracts of the underlying itself among what is held."""
    return sum(contracts for contract, contracts in legs if contract.is_unit)


def reserve(live: Live, legs: Sequence[tuple[ContractKey, int]]) -> Decimal:
    """Capital of contracts held, by the strategy-based margin rules, money: what they tie up from their mids on."""
    points = capital(margin_legs(live, legs), live.spot, share_of(live.row.kind), units_of(legs))
    return money(Decimal(str(round(points * live.row.multiplier, 4))))


def margin_words(live: Live, legs: Sequence[tuple[ContractKey, int]]) -> str:
    """What most of the requirement is for; empty where nothing is needed beyond the price."""
    parts = requirement(margin_legs(live, legs), live.spot, share_of(live.row.kind), units_of(legs)).parts
    return max(parts, key=lambda part: part.amount).words if parts else ""


DEALS_IN_IT = Q(opens=False) | Q(changes=True)
"""Orders that deal in the legs of a holding that is there."""


@dataclass(frozen=True)
class Standings:
    """An account at the market now."""

    account: Account
    live: Live
    holdings: list[Standing]

    @cached_property
    def cash(self) -> Decimal:
        moved = self.account.ledger.aggregate(total=Sum("amount"))["total"] or Decimal(0)
        return self.account.cash_start + moved

    @cached_property
    def costs(self) -> Decimal:
        return -(self.account.ledger.filter(kind="commission").aggregate(total=Sum("amount"))["total"] or Decimal(0))

    @cached_property
    def equity(self) -> Decimal | None:
        """Cash and mid marks; ``None`` while a position is unvalued."""
        total = Fraction(0)
        for standing in self.holdings:
            for held in standing.open:
                value = mark(self.live, held.contract, held.contracts, "mid")
                if value is None:
                    return None
                total += held.contracts * value
        terms = self.live.row
        return self.cash + money(parts_to_money(round(total), terms.quantum, terms.multiplier))

    @cached_property
    def reserved(self) -> Decimal:
        return sum((standing.reserved for standing in self.holdings), Decimal(0)) + sum(
            (reserve(self.live, order_legs(order)) for order in self.opening_orders), Decimal(0)
        )

    @cached_property
    def opening_orders(self) -> list[DeskOrder]:
        return list(self.account.orders.filter(opens=True, changes=False, state__in=DeskOrder.ALIVE))

    @property
    def free(self) -> Decimal | None:
        return None if self.equity is None else self.equity - self.reserved

    @property
    def session_pnl(self) -> Decimal | None:
        if self.equity is None or self.account.opening_equity is None:
            return None
        return self.equity - self.account.opening_equity


def order_legs(order: DeskOrder) -> list[tuple[ContractKey, int]]:
    """Contracts that are still to be dealt."""
    return [(ContractKey.parse(code), ratio * order.left) for code, ratio in order.legs]


def standings(account: Account, live: Live) -> Standings:
    """Open holdings of an account at the market now."""
    fills: dict[int, list[DeskFill]] = defaultdict(list)
    rows = list(account.holdings.filter(closed_at=None).select_related("deployment__strategy"))
    closing: dict[int, list[DeskOrder]] = defaultdict(list)
    for order in account.orders.filter(DEALS_IN_IT, state__in=DeskOrder.ALIVE, holding__in=rows).order_by("id"):
        assert order.holding_id is not None
        closing[order.holding_id].append(order)
    for fill in DeskFill.objects.filter(holding__in=rows).select_related("order").order_by("id"):
        fills[fill.holding_id].append(fill)
    return Standings(account, live, [Standing(row, fills[row.pk], live, closing[row.pk]) for row in rows])


def standing(row: Holding, live: Live) -> Standing:
    closing = row.orders.filter(DEALS_IN_IT, state__in=DeskOrder.ALIVE).order_by("id")
    return Standing(row, list(row.fills.select_related("order").order_by("id")), live, list(closing))

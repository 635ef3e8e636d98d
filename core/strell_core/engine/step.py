"""One snapshot's work on the book: trades, orders, money moved, and orders that close."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Iterable, Mapping, Sequence
from decimal import Decimal
from types import MappingProxyType
from typing import Any

from strell_core.engine.changed import changed
from strell_core.engine.marks import stretch
from strell_core.engine.pieces import closed_pieces, parted
from strell_core.engine.plan import Plan
from strell_core.engine.record import ALL, none_yet
from strell_core.engine.settlement import expired
from strell_core.engine.state import (
    Advanced,
    ClosedTrade,
    Due,
    EngineState,
    LedgerEntry,
    LegState,
    Need,
    Order,
    OrderLeg,
    Reason,
    TradeState,
    in_lots,
)
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Observation
from strell_core.market.prices import money, parts_to_money
from strell_core.market.timeline import Timeline
from strell_core.measures.frames import HEDGE, TRUE, Stretch
from strell_core.strategy.actions import Close, Consequence

NONE_QUIET: Mapping[int, int] = MappingProxyType({})
LOOK = 0
"""Number in a chain of what is no re-entry but a look of an entry, on the end of a trade."""


def closing_legs(legs: Iterable[LegState]) -> tuple[OrderLeg, ...]:
    return tuple(OrderLeg(leg.leg_id, leg.contract, -leg.contracts) for leg in legs)


class Step:
    """Work of one snapshot: a mutable sheet of paper around frozen values."""

    def __init__(
        self, plan: Plan, state: EngineState, observation: Observation, quiet: Mapping[int, int] = NONE_QUIET
    ) -> None:  # fmt: skip
        self.plan, self.observation, self.quiet = plan, observation, quiet
        self.market, self.index = observation.market, observation.index
        self.timeline = observation.timeline
        """Whose snapshots are the clock."""
        self.cash, self.next_trade = state.cash, state.next_trade
        self.trades = {trade.number: trade for trade in state.trades}
        self.orders = list(state.orders)
        self.due = list(state.due)
        self.entered = {item.entry: item for item in state.entered}
        self.outcomes = {item.entry: item for item in state.outcomes}
        self.record, self.rests = state.record, {item.rule: item for item in state.rests}
        self.memory, self.interest_to = dict(state.memory), state.interest_to
        self.intents: list[Order] = []
        self.reasons: list[Reason] = []
        self.entries_made: list[LedgerEntry] = []
        self.closed: list[ClosedTrade] = []
        self.needs: list[Need] = []
        self.now: dict[int, Stretch] = {}
        self.shortened: dict[str, list[bool]] = {}
        """Orders that lost settled legs on this snapshot: which of the legs they had they still have."""
        self.delivering: dict[int, TradeState] = {}
        """Trades whose contracts were delivered at this session's close, as they were before: nobody knows of it until the
        next session begins (semantics rule 10)."""

    def result(self) -> Advanced:
        return Advanced(
            self.state_now(), tuple(self.intents), tuple(self.reasons), tuple(self.entries_made), tuple(self.closed),
            tuple(self.needs),
        )  # fmt: skip

    def state_now(self) -> EngineState:
        return EngineState(
            self.cash, self.next_trade, tuple(self.trades.values()), tuple(self.orders), tuple(self.due),
            tuple(self.entered[name] for name in sorted(self.entered)),
            tuple(self.outcomes[name] for name in sorted(self.outcomes)), self.record,
            tuple(self.rests[name] for name in sorted(self.rests)), tuple(sorted(self.memory.items(), key=lambda item: item[0])),
            self.interest_to,
        )  # fmt: skip

    def loud(self) -> list[TradeState]:
        """Trades of which something may become on this snapshot."""
        return [trade for number, trade in self.trades.items() if number not in self.quiet]

    def marks(self, number: int) -> Stretch:
        """A trade's marks on this snapshot."""
        if number not in self.now:
            self.now[number] = stretch(self.plan, self.trades[number], self.market, self.index, self.index + 1)
        return self.now[number]

    @property
    def yesterday(self) -> dt.date | None:
        """The session before this one, as recorded."""
        session = self.observation.session
        return self.timeline.dates[session - 1] if session else None

    def replace(self, order: Order, **changes: Any) -> None:
        self.orders[self.orders.index(order)] = changed(order, **changes)

    def at_work(self, trade: int, *purposes: str) -> list[Order]:
        return [order for order in self.orders if order.trade == trade and order.purpose in purposes]

    def say(self, kind: Any, trade: int | None, rule: str, truth: int | None, values: Any) -> None:
        self.reasons.append(Reason(self.observation.instant, kind, trade, rule, truth, values))

    def _book(self, trade: TradeState, kind: Any, leg: Any, contracts: int, parts: int, amount: Decimal) -> TradeState:
        """Move money of a trade: one ledger entry, the account's and the trade's cash with it."""
        self.book(trade.number, kind, leg, contracts, parts, amount)
        costs = trade.costs - amount if kind == "commission" else trade.costs
        return changed(trade, cash=trade.cash + amount, costs=costs)

    def book(self, trade: int, kind: Any, leg: Any, contracts: int, parts: int, amount: Decimal) -> None:
        """Move the account's money; ``trade``: 0 where it is of none."""
        self.record = self.record.booked(self.observation.date, self.yesterday, self.cash)
        self.cash += amount
        self.entries_made.append(LedgerEntry(self.observation.instant, trade, kind, leg, contracts, parts, amount))

    def of(self, traded: TradeState | Order) -> Timeline:
        """The history of the underlying that a trade or order is of, by the clock's snapshots."""
        return self.market.on_clock(traded.symbol)

    def _amount(self, trade: TradeState, contracts: int, parts: int) -> Decimal:
        there = self.of(trade)
        return money(parts_to_money(-contracts * parts, there.underlying.quantum, there.multiplier(trade.opened_on)))

    def _close_leg(self, trade: TradeState, leg: LegState, parts: int, how: Any, contracts: int) -> TradeState:
        """The trade after ``contracts`` of a leg (signed as held) are gone."""
        gone, left = parted(leg, contracts)
        records = closed_pieces(leg, gone, parts, self.observation.instant, how)
        legs = [left if item is leg else item for item in trade.legs]
        return changed(
            trade,
            legs=tuple(item for item in legs if item.contracts),
            realised=trade.realised + contracts * (parts - leg.opened_parts),
            closed_legs=(*trade.closed_legs, *records),
        )

    def _finish(self, trade: TradeState, rule: str, left_at: int, values: Any, also: tuple[str, ...]) -> None:
        del self.trades[trade.number]
        by_leg = self.plan.working.by_leg
        undone = by_leg is not None and rule == by_leg.id
        for name in () if undone else (ALL, trade.entry):
            self.outcomes[name] = self.outcomes.get(name, none_yet(name)).after(self.observation.date, trade.cash)
        if not undone and "enter" in self.plan.acts:
            self._look_after(trade)
        self.orders = [order for order in self.orders if order.trade != trade.number]
        best = trade.realised if trade.best is None else max(trade.best, trade.realised)
        self.closed.append(
            ClosedTrade(
                trade.number, trade.lots, trade.decided_at, trade.opened_at, self.observation.instant,
                trade.closed_legs, trade.opening, trade.realised, best, trade.cash, trade.costs, rule, left_at,
                values, also, trade.entry, trade.reentries, trade.more_lots,
            )
        )  # fmt: skip

    def _look_after(self, trade: TradeState) -> None:
        """Entries that are looked at when a trade has ended are due, each once."""
        for entry in self.plan.entries:
            rule, known = entry.entry.schedule.id, {item.entry for item in self.due if item.number == LOOK}
            if trade.entry in entry.schedule.after and entry.id not in known:
                self.due.append(Due(entry.id, trade.number, rule, LOOK))

    def leave(
        self, trade: TradeState, legs: Sequence[LegState], rule: str, values: Any, also: tuple[str, ...], kind: str,
        then: tuple[Consequence, ...], closes: Close | None = None,
    ) -> None:  # fmt: skip
        """Decide to close legs: all of the position, or some of them beside other orders. Legs that wait for their
        settlement value are left to it."""
        whole = closes == Close()
        taken: set[str] = set()
        if whole:
            for other in self.at_work(trade.number, "open", "close", "adjust"):
                self.replace(other, ending=True)
                if other.purpose == "close":
                    taken |= {leg.leg_id for leg in other.legs}
        for other in self.at_work(trade.number, "adjust") if not whole else ():
            # what it would do to these legs is overtaken, and it is taken whole or not at all
            if {leg.leg_id for leg in other.legs} & {leg.leg_id for leg in legs}:
                self.replace(other, ending=True)
        # an exit of legs is known by its sentence, a partner leg by itself
        which = "" if whole else f"-{rule}" if closes is not None else f"-{legs[0].leg_id}"
        lots = self.lots_held(trade)
        if closes is not None and closes.share is not None:
            lots = max(1, int(closes.share * trade.lots))
        urgent = kind == "loss"
        closing = closing_legs(leg for leg in self.traded(legs) if leg.leg_id not in taken and leg.contracts)
        self.intend(Order(
            f"{trade.number}-close{which}", "close", trade.number, in_lots(lots, closing), closing,
            self.observation.instant, self.observation.date, rule, values, also, entry=trade.entry,
            type="market" if urgent else "limit", urgency="now" if urgent else "patient", whole=whole, then=then,
        ))  # fmt: skip
        self.say("left", trade.number, rule, TRUE, {**values, "also": list(also)})

    def traded(self, legs: Iterable[LegState]) -> list[LegState]:
        """Those of the legs that have not come to their settlement."""
        return [leg for leg in legs if not self.expired(leg)]

    def expired(self, leg: LegState) -> bool:
        """Whether a leg has come to its settlement, its value known or not."""
        return self.over(leg.contract)

    def over(self, contract: ContractKey) -> bool:
        """The same of a contract."""
        return expired(self.market.on_clock(contract.underlying), contract, self.observation.instant)

    def lots_held(self, trade: TradeState) -> int:
        """Whole lots of what is held, of which every leg has as many contracts, a hedge aside: a trade may have been
        closed in part, before splits in fewer contracts, or changed by hand."""
        legs = [leg for leg in trade.legs if leg.leg_id != HEDGE] or list(trade.legs)
        return math.gcd(self._lots_left(trade, legs), *(leg.contracts for leg in legs))

    def in_whole_lots(self, trade: TradeState) -> bool:
        """Whether every leg has as many contracts for each of the lots that are left."""
        legs = [leg for leg in trade.legs if leg.leg_id != HEDGE] or list(trade.legs)
        return self.lots_held(trade) == self._lots_left(trade, legs)

    def _lots_left(self, trade: TradeState, legs: Sequence[LegState]) -> int:
        """The lots of a trade that its first leg has left."""
        gone = sum(
            leg.contracts * self.of(trade).multiplied(leg.closed_at, self.observation.instant)
            for leg in trade.closed_legs
            if leg.leg_id == legs[0].leg_id and leg.how not in ("split", "adjustment", "delivery")
        )
        return trade.lots * legs[0].contracts // (legs[0].contracts + gone)

    def intend(self, order: Order) -> None:
        self.orders.append(order)
        self.intents.append(order)

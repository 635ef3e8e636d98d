"""One snapshot's work on a trade's book: what happened (splits, settlement, fills), and orders that follow from it."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Iterable, Sequence
from decimal import Decimal
from fractions import Fraction
from itertools import compress
from typing import Any

from strell_core.engine.changed import changed
from strell_core.engine.fills import quoted_lots
from strell_core.engine.plan import Plan
from strell_core.engine.record import ALL, none_yet
from strell_core.engine.settlement import expired
from strell_core.engine.state import (
    Advanced,
    ClosedTrade,
    Due,
    EngineState,
    Fill,
    LedgerEntry,
    LegClose,
    LegState,
    LegStop,
    Need,
    Order,
    OrderLeg,
    Reason,
    TradeState,
    in_lots,
    premium_of,
)
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Observation
from strell_core.market.prices import money, parts_to_money
from strell_core.market.timeline import Timeline
from strell_core.measures.frames import TRUE, Stretch
from strell_core.strategy.actions import HEDGE, Close, Consequence, Reenter, StopToEntry

LOOK = 0
"""Number in a chain of what is no re-entry but a look of an entry, on the end of a trade."""


def closing_legs(legs: Iterable[LegState]) -> tuple[OrderLeg, ...]:
    return tuple(OrderLeg(leg.leg_id, leg.contract, -leg.contracts) for leg in legs)


class Step:
    """Work of one snapshot: a mutable sheet of paper around frozen values."""

    def __init__(self, plan: Plan, state: EngineState, observation: Observation) -> None:
        self.plan, self.observation = plan, observation
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
        self.intents: list[Order] = []
        self.reasons: list[Reason] = []
        self.entries_made: list[LedgerEntry] = []
        self.closed: list[ClosedTrade] = []
        self.needs: list[Need] = []
        self.now: dict[int, Stretch] = {}
        self.shortened: dict[str, list[bool]] = {}
        """Orders that lost settled legs on this snapshot: which of the legs they had they still have."""

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
            tuple(self.rests[name] for name in sorted(self.rests)),
        )  # fmt: skip

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
        """Move money: one ledger entry, the account's and the trade's cash with it."""
        self.record = self.record.booked(self.observation.date, self.yesterday, self.cash)
        self.cash += amount
        self.entries_made.append(
            LedgerEntry(self.observation.instant, trade.number, kind, leg, contracts, parts, amount)
        )
        costs = trade.costs - amount if kind == "commission" else trade.costs
        return changed(trade, cash=trade.cash + amount, costs=costs)

    def of(self, traded: TradeState | Order) -> Timeline:
        """The history of the underlying that a trade or order is of, by the clock's snapshots."""
        return self.market.on_clock(traded.symbol)

    def _amount(self, trade: TradeState, contracts: int, parts: int) -> Decimal:
        there = self.of(trade)
        return money(parts_to_money(-contracts * parts, there.underlying.quantum, there.multiplier(trade.opened_on)))

    def _close_leg(self, trade: TradeState, leg: LegState, parts: int, how: Any, contracts: int) -> TradeState:
        """The trade after ``contracts`` of a leg (signed as held) are gone."""
        record = LegClose(
            leg.leg_id, leg.contract, contracts, leg.opened_parts, parts, self.observation.instant, how, leg.opened_at
        )
        left = leg.contracts - contracts
        legs = [changed(item, contracts=left) if item is leg else item for item in trade.legs]
        return changed(
            trade,
            legs=tuple(item for item in legs if item.contracts),
            realised=trade.realised + contracts * (parts - leg.opened_parts),
            closed_legs=(*trade.closed_legs, record),
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
                values, also, trade.entry, trade.reentries,
            )
        )  # fmt: skip

    def _look_after(self, trade: TradeState) -> None:
        """Entries that are looked at when a trade has ended are due, each once."""
        for entry in self.plan.entries:
            rule, known = entry.entry.schedule.id, {item.entry for item in self.due if item.number == LOOK}
            if trade.entry in entry.schedule.after and entry.id not in known:
                self.due.append(Due(entry.id, trade.number, rule, LOOK))

    # (2) fills of earlier orders
    def apply(self, fills: Sequence[Fill]) -> None:
        dealt = {order.id: order for order in self.orders}
        for fill in fills:
            now = next((order for order in self.orders if order.id == fill.order), None)
            if now is None:
                continue
            # a fill is of the order as the market had it: what came to it on this snapshot stays at work
            order = dealt[now.id]
            grown = order != now
            if len(fill.prices) > len(order.legs):
                # a market may have dealt all the legs it had; what has settled is settled
                fill = changed(fill, prices=tuple(compress(fill.prices, self.shortened[order.id])))
            part, rest = order.parted(fill)
            complete = rest is None and not grown
            if rest is not None and not fill.ended:
                dealt[order.id] = rest
                self.orders[self.orders.index(now)] = rest
            elif complete or fill.ended:
                self.orders.remove(now)
            if part.lots == 0:
                self.say("ended", order.trade, order.rule, None, {"kind": order.purpose, "lots": order.lots})
            elif order.purpose == "open":
                self._open(part, fill, order.lots)
            else:
                self.deal(part, fill, complete)
            if fill.ended or complete or grown:
                self._pass_on(order)
            if fill.ended and rest is not None:
                self.given_up(rest)

    def _still_there(self, trade: TradeState) -> None:
        """Exits of legs close no more of them than an adjustment, dealt in part before it ended, has left."""
        held = {(leg.leg_id, leg.contract): leg.contracts for leg in trade.legs}
        for order in self.at_work(trade.number, "close"):
            if order.whole:
                continue
            legs = []
            for leg in order.legs:
                has = held.get((leg.leg_id, leg.contract), 0)
                if has:
                    legs.append(leg if abs(has) >= abs(leg.contracts) else changed(leg, contracts=-has))
            if not legs:
                self.orders.remove(order)
                self.say("ended", trade.number, order.rule, None, {"kind": order.purpose, "lots": order.lots})
            elif tuple(legs) != order.legs:
                self.replace(order, lots=in_lots(order.lots, legs), legs=tuple(legs))

    def _pass_on(self, gone: Order) -> None:
        """Legs of an order that is gone come to the exit that closes the position."""
        trade = self.trades.get(gone.trade)
        whole = next((order for order in self.at_work(gone.trade, "close") if order.whole), None)
        if trade is None or whole is None:
            return
        taken = {
            leg.leg_id
            for order in self.orders
            if order.trade == gone.trade and order is not whole
            for leg in order.legs
        }
        legs = closing_legs(leg for leg in self.traded(trade.legs) if leg.leg_id not in taken)
        if legs != whole.legs:
            self.replace(whole, lots=in_lots(self.lots_held(trade), legs), legs=legs)

    def given_up(self, rest: Order) -> None:
        """An opening order has ended with legs that were not dealt. A trade that lacks them beside others that it has stays,
        or is undone, as the sheet says."""
        trade, by_leg = self.trades.get(rest.trade), self.plan.working.by_leg
        if rest.purpose != "open" or trade is None or by_leg is None or rest.ending:
            return
        held = {leg.leg_id: leg.contracts for leg in trade.legs}
        missing = {leg.leg_id: leg.contracts for leg in rest.legs}
        shares = {
            Fraction(held.get(name, 0), held.get(name, 0) + missing.get(name, 0)) for name in held.keys() | missing
        }
        if len(shares) == 1:
            # so many lots of the whole
            self.trades[trade.number] = changed(trade, lots=int(trade.lots * shares.pop()))
            return
        told = {"legs": list(missing), "message": f"legs that were not dealt: {len(missing)}"}
        self.say("lapsed", trade.number, by_leg.id, None, told)
        if by_leg.params["rest"] == "undo":
            made = self.entered[trade.entry]
            self.entered[trade.entry] = changed(made, times=made.times - (made.on == self.observation.date))
            self.leave(trade, trade.legs, by_leg.id, told, (), "loss", (), Close())

    def _open(self, order: Order, fill: Fill, lots: int) -> None:
        """``lots``: what was left of the order before this part of it."""
        before = self.trades.get(order.trade)
        trade = before or TradeState(
            order.trade, 0, order.decided_at, fill.at, self.observation.date, (), 0, entry=order.entry,
            reentries=int(order.values.get("reentry", 0)),
        )  # fmt: skip
        opening = premium_of(order.legs, fill.prices)
        legs = self._joined(trade, order, fill)
        if self.plan.working.by_leg is None:
            lots = trade.lots + order.lots
        elif before is not None:
            lots = trade.lots
        trade = changed(trade, lots=lots, legs=legs, opening=trade.opening + opening)
        for leg, parts in zip(order.legs, fill.prices, strict=True):
            amount = self._amount(trade, leg.contracts, parts)
            trade = self._book(trade, "premium", leg.contract, leg.contracts, parts, amount)
        trade = self._book(trade, "commission", None, 0, 0, -fill.commission)
        self.trades[trade.number] = trade
        told: dict[str, Any] = {"kind": "open", "premium": opening, **self._beyond(order)}
        if fill.dealt:
            told["legs"] = [name for name, _ in fill.dealt]
        self.say("filled", trade.number, order.rule, None, told)
        # a working exit closes what is held
        for other in self.at_work(trade.number, "close"):
            if other.whole:
                self.replace(other, lots=trade.lots, legs=closing_legs(self.traded(trade.legs)))

    def _beyond(self, order: Order) -> dict[str, int]:
        """Lots dealt and quoted, where more were dealt than the quoted sizes allow."""
        quoted = quoted_lots(self.of(order), self.index, order.legs, order.lots, order.purpose == "close")
        return {} if quoted is None or quoted >= order.lots else {"lots": order.lots, "quoted": quoted}

    @staticmethod
    def _joined(trade: TradeState, order: Order, fill: Fill) -> tuple[LegState, ...]:
        """The trade's legs with a further part of its entry."""
        held = {leg.leg_id: leg for leg in trade.legs}
        for leg, parts in zip(order.legs, fill.prices, strict=True):
            new = LegState(leg.leg_id, leg.contract, leg.contracts, parts, fill.at if trade.legs else 0)
            held[leg.leg_id] = added(held[leg.leg_id], leg.contracts, parts) if leg.leg_id in held else new
        return tuple(held.values())

    def deal(self, order: Order, fill: Fill, complete: bool) -> None:
        """Legs closed, added to, and for an adjustment those that come in their place."""
        before = trade = self.trades[order.trade]
        how = "order" if order.purpose == "close" else "adjustment"
        opened: list[LegState] = []
        for leg, parts in zip(order.legs, fill.prices, strict=True):
            held = next((h for h in trade.legs if h.leg_id == leg.leg_id and h.contract == leg.contract), None)
            if held is None:
                opened.append(LegState(leg.leg_id, leg.contract, leg.contracts, parts, fill.at))
            elif leg.leg_id == HEDGE and order.purpose == "adjust" and held.contracts + leg.contracts:
                # what was held has made what it made until now; the new number of units begins at this price
                trade = self._close_leg(trade, held, parts, how, held.contracts)
                opened.append(LegState(HEDGE, leg.contract, held.contracts + leg.contracts, parts, fill.at))
            elif (held.contracts > 0) == (leg.contracts > 0):
                more = added(held, leg.contracts, parts)
                trade = changed(trade, legs=tuple(more if item is held else item for item in trade.legs))
            else:
                trade = self._close_leg(trade, held, parts, how, -leg.contracts)
            amount = self._amount(trade, leg.contracts, parts)
            trade = self._book(trade, "premium", leg.contract, leg.contracts, parts, amount)
        trade = self._book(trade, "commission", None, 0, 0, -fill.commission)
        if opened:
            trade = changed(trade, legs=_in_place(before.legs, trade.legs, opened))
        if order.purpose == "adjust":
            trade = self._with_lots(before, trade, order, fill)
        if complete and order.purpose == "adjust":
            trade = changed(trade, adjustments=trade.adjustments + 1)
        told: dict[str, Any] = {"kind": order.purpose, "pnl": trade.realised, **self._beyond(order)}
        if fill.dealt:
            told |= {"legs": [name for name, _ in fill.dealt], "more": not complete}
        self.say("filled", trade.number, order.rule, None, told)
        self.trades[trade.number] = trade
        if order.purpose == "adjust":
            self._still_there(trade)
        if not trade.legs:
            self._finish(trade, order.rule, order.decided_at, order.values, order.also)
        if complete:
            self._follow(order, trade)

    def more_lots(self, trade: TradeState, legs: Sequence[OrderLeg]) -> int:
        """By how many lots an order changes a trade, a hedge aside; 0: not by as many of every leg."""
        lots, net = self.lots_held(trade), {leg.leg_id: 0 for leg in trade.legs}
        for leg in legs:
            net[leg.leg_id] = net.get(leg.leg_id, 0) + leg.contracts
        if not net.keys() <= {HEDGE, *(leg.leg_id for leg in trade.legs)}:
            return 0
        shares = {Fraction(net[leg.leg_id] * lots, leg.contracts) for leg in trade.legs if leg.leg_id != HEDGE}
        same = shares.pop() if len(shares) == 1 else Fraction(0)
        return int(same) if same.denominator == 1 else 0

    def _with_lots(self, before: TradeState, trade: TradeState, order: Order, fill: Fill) -> TradeState:
        """An adjusted trade with the lots that it has now. What more of them took in is part of its opening premium."""
        more = self.more_lots(before, order.legs)
        if not more or not trade.legs:
            return trade
        held = {leg.leg_id: leg for leg in before.legs}
        prices = {(leg.leg_id, leg.contract): parts for leg, parts in zip(order.legs, fill.prices, strict=True)}
        new = [
            changed(leg, contracts=leg.contracts - held[leg.leg_id].contracts)
            for leg in trade.legs
            if leg.leg_id != HEDGE
        ]
        opening = premium_of(new, [prices[leg.leg_id, leg.contract] for leg in new]) if more > 0 else 0
        return changed(trade, lots=trade.lots + more, opening=trade.opening + opening)

    def _follow(self, order: Order, trade: TradeState) -> None:
        """What an exit asked to follow it, now that its order is complete (semantics rule 16)."""
        for action in order.then:
            if isinstance(action, Reenter):
                if trade.reentries < action.at_most:
                    entry = action.entry or trade.entry
                    same = self._closed_by(order, trade) if action.same else ()
                    self.due.append(Due(entry, trade.number, order.rule, trade.reentries + 1, action.later, same))
                continue
            leg = next((leg for leg in trade.legs if leg.leg_id == action.leg), None)
            if leg is None or not self.traded([leg]):
                continue
            if isinstance(action, StopToEntry):
                others = tuple(stop for stop in trade.stops if stop.leg_id != leg.leg_id)
                moved = LegStop(leg.leg_id, leg.opened_parts, order.rule)
                trade = changed(trade, stops=(*others, moved))
                self.trades[trade.number] = trade
                self.say("stop moved", trade.number, order.rule, None, {"leg": leg.leg_id, "price": leg.opened_parts})
            elif not any(
                leg.leg_id == item.leg_id for other in self.at_work(trade.number, "close") for item in other.legs
            ):
                # what another exit is closing already is not closed twice
                self.leave(trade, (leg,), order.rule, {"with": order.rule}, (), "loss", ())

    @staticmethod
    def _closed_by(order: Order, trade: TradeState) -> tuple[tuple[str, ContractKey], ...]:
        """What an exit closed, by leg."""
        gone = {leg.leg_id: leg.contract for leg in trade.closed_legs if leg.how == "order" and leg.closed_at >= order.decided_at}  # fmt: skip
        return tuple(gone.items())

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


def added(leg: LegState, contracts: int, parts: int) -> LegState:
    """A leg with more of the same; opened at the average, to the part."""
    total = leg.contracts + contracts
    worth = leg.contracts * leg.opened_parts + contracts * parts
    return changed(leg, contracts=total, opened_parts=round(Fraction(worth, total)))


def _in_place(before: Sequence[LegState], left: Sequence[LegState], opened: Sequence[LegState]) -> tuple[LegState, ...]:
    """Legs after an adjustment: those that came stand where the leg of their name stood, beside what is left of it where
    a market dealt in a part."""
    names = dict.fromkeys([leg.leg_id for leg in (*before, *opened)])
    return tuple(leg for name in names for leg in (*opened, *left) if leg.leg_id == name)

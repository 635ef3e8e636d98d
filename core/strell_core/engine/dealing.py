"""What fills of orders make of trades: legs opened, closed, added to and put in each other's place, and what follows."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from fractions import Fraction
from itertools import compress
from typing import Any

from strell_core.engine.changed import changed
from strell_core.engine.fills import quoted_lots
from strell_core.engine.pieces import added, averaged
from strell_core.engine.state import Due, Fill, LegState, LegStop, Order, OrderLeg, TradeState, in_lots, premium_of
from strell_core.engine.step import Step, closing_legs
from strell_core.market.instruments import ContractKey
from strell_core.measures.frames import HEDGE
from strell_core.strategy.actions import Close, Reenter, StopToEntry


class Dealing(Step):
    """Fills on a snapshot, put into the book."""

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
        before, opening = self.trades.get(order.trade), premium_of(order.legs, fill.prices)
        by_leg = self.plan.working.by_leg is not None
        if before is None:
            trade = opened(order, fill, lots if by_leg else order.lots, self.observation.date)
        else:
            legs, lots = self._joined(before, order, fill), before.lots + (0 if by_leg else order.lots)
            trade = changed(before, lots=lots, legs=legs, opening=before.opening + opening)
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
            new = LegState(leg.leg_id, leg.contract, leg.contracts, parts, fill.at)
            held[leg.leg_id] = averaged(held[leg.leg_id], leg.contracts, parts) if leg.leg_id in held else new
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
                more = added(held, leg.contracts, parts, fill.at)
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
        return changed(trade, lots=trade.lots + more, opening=trade.opening + opening, more_lots=trade.more_lots + more)

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


def opened(order: Order, fill: Fill, lots: int, on: dt.date) -> TradeState:
    """The trade that the first fill of an order opens in a session, its money not moved yet."""
    legs = zip(order.legs, fill.prices, strict=True)
    return TradeState(
        order.trade, lots, order.decided_at, fill.at, on,
        tuple(LegState(leg.leg_id, leg.contract, leg.contracts, parts) for leg, parts in legs),
        premium_of(order.legs, fill.prices), entry=order.entry, reentries=int(order.values.get("reentry", 0)),
    )  # fmt: skip


def _in_place(before: Sequence[LegState], left: Sequence[LegState], opened: Sequence[LegState]) -> tuple[LegState, ...]:
    """Legs after an adjustment: those that came stand where the leg of their name stood, beside what is left of it where
    a market dealt in a part."""
    names = dict.fromkeys([leg.leg_id for leg in (*before, *opened)])
    return tuple(leg for name in names for leg in (*opened, *left) if leg.leg_id == name)

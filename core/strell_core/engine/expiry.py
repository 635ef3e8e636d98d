"""What happens to a trade before anything is decided: splits, dividends, settlement, exercise and assignment (semantics
rules 10, 11 and 20)."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

from strell_core.engine.changed import changed
from strell_core.engine.corporate import due_after, over_split
from strell_core.engine.dealing import Dealing
from strell_core.engine.exercise import exercised, strike_parts
from strell_core.engine.marks import carried
from strell_core.engine.pieces import added
from strell_core.engine.settlement import settlement_parts
from strell_core.engine.state import DELIVERY, Due, LegState, OrderLeg, TradeState
from strell_core.market.instruments import ContractKey, Right, Underlying
from strell_core.market.splits import Split
from strell_core.strategy.actions import Close


class Expiry(Dealing):
    """The part of a snapshot's work that contracts and their underlying bring about by themselves."""

    # (1) corporate actions
    def adjust(self) -> None:
        """Carry trades, and re-entries in the same contracts, over a split that holds from this session's open on
        (semantics rule 11)."""
        self.due = [self._renamed(due) for due in self.due]
        for trade in self.loud():
            split = self.of(trade).splits.get(self.index)
            if split is None:
                continue
            followed = over_split(self.of(trade), trade, split, self.observation.instant)
            if followed is None:
                self._abandon(trade, split)
                continue
            self.trades[trade.number] = followed
            contracts = {leg.leg_id: leg.contract for leg in followed.legs}
            for place, order in enumerate(self.orders):
                if order.trade == trade.number:
                    legs = tuple(
                        OrderLeg(
                            leg.leg_id, contracts.get(leg.leg_id, leg.contract), leg.contracts * (split.whole or 1)
                        )
                        for leg in order.legs
                    )
                    self.orders[place] = changed(order, legs=legs)
            self.say("adjusted", trade.number, "", None, {"split": split.words})

    def _renamed(self, due: Due) -> Due:
        for symbol in {contract.underlying for _, contract in due.contracts}:
            split = self.market.on_clock(symbol).splits.get(self.index)
            if split is not None and split.whole is not None:
                due = due_after(due, symbol, split.whole)
        return due

    def _abandon(self, trade: TradeState, split: Split) -> None:
        """Close a trade whose contracts cannot be followed over a split at its legs' last mids."""
        self.orders = [order for order in self.orders if order.trade != trade.number]
        for leg in trade.legs:
            parts = carried(self.of(trade), trade, leg, self.index - 1)
            trade = self._close_leg(trade, leg, parts, "split", leg.contracts)
            amount = self._amount(trade, -leg.contracts, parts)
            trade = self._book(trade, "settlement", leg.contract, -leg.contracts, parts, amount)
        self.trades[trade.number] = trade
        self.say("adjusted", trade.number, "", None, {"split": split.words})
        self._finish(trade, "split", self.observation.instant, {"split": split.words}, ())

    # (1) expiry
    def settle(self) -> None:
        """Cash-settle legs whose settlement instant has passed, at the official value; while it is missing they wait."""
        for trade in self.loud():
            ended = {leg.contract for leg in trade.legs if self.expired(leg)}
            if not ended:
                continue
            self._without(trade.number, ended)
            due = [(leg, parts) for leg in trade.legs if (parts := self._settled(leg)) is not None]
            before = int(self.timeline.times[self.index - 1]) if self.index else 0
            waits = [leg for leg in trade.legs if leg.contract in ended and leg not in [leg for leg, _ in due]]
            if any(self.of(trade).settles_at(leg.contract) > before for leg in waits):
                told = {"contracts": [leg.contract.code for leg in waits]}
                self.say("waits", trade.number, "", None, told)
            if not due:
                continue
            how, delivered, was = "settlement", 0, trade
            for leg, parts in due:
                if parts and self._terms(trade).delivers:
                    how = "exercise" if leg.contracts > 0 else "assignment"
                    trade = self._deliver(trade, leg, how)
                    delivered += 1
                    if leg.contract.expiration >= self.observation.date:
                        self.delivering[trade.number] = was
                    continue
                trade = self._close_leg(trade, leg, parts, "settlement", leg.contracts)
                trade = self._book(
                    trade, "settlement", leg.contract, -leg.contracts, parts, self._amount(trade, -leg.contracts, parts)
                )
            self.trades[trade.number] = trade
            counts = {"legs": len(due)} | ({"delivered": delivered} if delivered else {})
            self.say("settled", trade.number, "", None, counts)
            self._after_delivery(trade, how)

    def _terms(self, trade: TradeState) -> Underlying:
        return self.of(trade).underlying.on(self.observation.date)

    def assign(self) -> None:
        """Exercise by their holders of American options that were sold, at a session's end (semantics rule 10)."""
        for trade in list(self.trades.values()) if self.timeline.is_last[self.index] else ():
            terms, there = self._terms(trade), self.of(trade)
            if not (terms.american and terms.delivers):
                continue
            due = [
                leg
                for leg in self.traded(trade.legs)
                if leg.contracts < 0 and not leg.contract.is_unit and exercised(there, leg.contract, self.index)
            ]
            if due:
                self._without(trade.number, {leg.contract for leg in due})
                for leg in due:
                    trade = self._deliver(trade, leg, "assignment")
                self.trades[trade.number] = trade
                self._after_delivery(trade, "assignment")

    def _deliver(self, trade: TradeState, leg: LegState, how: Any) -> TradeState:
        """The trade after an option became units of the underlying at its strike: the option is gone for nothing, the
        units come, or leave those that are held."""
        units = leg.contracts if leg.contract.right == Right.CALL else -leg.contracts
        parts, contract = strike_parts(leg.contract, self.of(trade)), ContractKey.unit(leg.contract.underlying)
        trade = self._close_leg(trade, leg, 0, how, leg.contracts)
        trade = self._book(trade, "delivery", contract, units, parts, self._amount(trade, units, parts))
        self.say("delivered", trade.number, "", None, {"contract": leg.contract.code, "units": units, "how": how})
        there = next((held for held in trade.legs if held.contract == contract), None)
        if there is not None and (there.contracts > 0) != (units > 0):
            gone = min(abs(units), abs(there.contracts)) * (1 if there.contracts > 0 else -1)
            trade = self._close_leg(trade, there, parts, "delivery", gone)
            units += gone
        elif there is not None:
            more = added(there, units, parts, self.observation.instant)
            return changed(trade, legs=tuple(more if held is there else held for held in trade.legs))
        if units:
            name = self.plan.entry(trade.entry).entry.keeps or _free_name(trade)
            new = LegState(name, contract, units, parts, self.observation.instant)
            trade = changed(trade, legs=(*trade.legs, new))
        return trade

    def _after_delivery(self, trade: TradeState, how: str) -> None:
        """A trade without legs is over; orders speak of what is still held; units that no rule asks for are closed."""
        if not trade.legs:
            self._finish(trade, how, self.observation.instant, {}, ())
            return
        held = {leg.leg_id: leg for leg in trade.legs}
        for order in self.at_work(trade.number, "close"):
            legs = tuple(
                OrderLeg(leg.leg_id, leg.contract, -held[leg.leg_id].contracts)
                if leg.contract.is_unit and abs(held[leg.leg_id].contracts) < abs(leg.contracts)
                else leg
                for leg in order.legs
                if leg.leg_id in held
            )
            if not legs:
                self.orders.remove(order)
            elif legs != order.legs:
                self.replace(order, legs=legs)
        rules = self.plan.entry(trade.entry).entry
        asks_for_units = bool(rules.keeps) or any(leg.expiry is None for leg in rules.legs)
        if asks_for_units or "leave" not in self.plan.acts:
            return
        asked = {leg.leg_id for order in self.at_work(trade.number, "close") for leg in order.legs}
        units = [leg for leg in trade.legs if leg.contract.is_unit and leg.leg_id not in asked]
        if units:
            alone = len(units) == len(trade.legs)
            closes = Close() if alone else Close(tuple(leg.leg_id for leg in units))
            self.leave(trade, units, DELIVERY, {}, (), "loss", (), closes)

    # (1) dividends
    def pay_dividends(self) -> None:
        """Dividends of units held over the day they go ex, to longs and by shorts: this comes before the day's fills."""
        for trade in self.loud():
            held = {leg.contract: 0 for leg in trade.legs if leg.contract.is_unit}
            for leg in trade.legs if held else ():
                if leg.contract.is_unit:
                    held[leg.contract] += leg.contracts
            for _, paid in self.of(trade).dividends_at.get(self.index, ()):
                total = 0
                for contract, units in held.items():
                    parts = round(Fraction(paid, contract.divisor))
                    trade = self._book(trade, "dividend", contract, units, parts, self._amount(trade, -units, parts))
                    total += units * parts
                if held:
                    self.trades[trade.number] = trade = changed(trade, realised=trade.realised + total)
                    self.say("dividend", trade.number, "", None, {"parts": total})

    def _without(self, trade: int, settled: set[ContractKey]) -> None:
        """What was decided goes on without the contracts that have settled (semantics rule 8): closing orders lose
        these legs and end when none is left, what opens or adjusts ends."""
        for order in [order for order in self.orders if order.trade == trade]:
            kept = tuple(leg for leg in order.legs if leg.contract not in settled)
            if kept == order.legs:
                continue
            if order.purpose != "close" or not kept:
                self.orders.remove(order)
            else:
                self.shortened[order.id] = [leg.contract not in settled for leg in order.legs]
                self.replace(order, legs=kept)

    def _settled(self, leg: LegState) -> int | None:
        there = self.market.on_clock(leg.contract.underlying)
        return settlement_parts(there, leg.contract, self.observation.instant)


def _free_name(trade: TradeState) -> str:
    """What delivered units are called: no leg of the trade has had the name."""
    taken = {leg.leg_id for leg in trade.legs} | {leg.leg_id for leg in trade.closed_legs}
    return next(name for name in ("units", *(f"units {n}" for n in range(2, 100))) if name not in taken)

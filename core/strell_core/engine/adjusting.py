"""What adjustments ask for on a snapshot: proposals, judged on the position as it would be, and orders of them (semantics
rule 17)."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from functools import partial
from typing import Any, Self

from strell_core.engine.changed import changed
from strell_core.engine.fills import price_of
from strell_core.engine.limits import Limits
from strell_core.engine.looks import ActiveAdjustment
from strell_core.engine.marks import stretch, with_best, with_paths
from strell_core.engine.plan import EntryPlan
from strell_core.engine.state import Fill, Order, OrderLeg, TradeState, in_lots, premium_of
from strell_core.engine.step import closing_legs
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS
from strell_core.measures.frames import FALSE, TRUE, PickedLeg
from strell_core.selection.select import select
from strell_core.strategy import adjusting
from strell_core.strategy.actions import Close, Move, OpenLeg, Roll
from strell_core.strategy.kinds import AdjustFrame, EntryFrame

NO_SNAPSHOT_LEFT = "no snapshot was left in the session"
"""Why an order to open or adjust came to nothing."""


class Adjusting(Limits):
    """Marks of trades on a snapshot, and what adjustments make of them."""

    # (3) marks and paths
    def update_paths(self) -> None:
        for number, trade in list(self.trades.items()):
            if number in self.quiet:
                self.trades[number] = with_best(trade, self.quiet[number])
            else:
                self.mark(number)

    def mark(self, number: int) -> None:
        """A trade's marks on this snapshot, and its path with them."""
        trade = self.trades[number]
        now = stretch(self.plan, trade, self.observation.market, self.index, self.index + 1)
        self.now[number] = now
        self.trades[number] = with_paths(self.plan, trade, now)

    def entering(self, trade: TradeState) -> bool:
        """Whether legs of its entry are still to be dealt, one after another."""
        return self.plan.working.by_leg is not None and bool(self.at_work(trade.number, "open"))

    # (5) adjustments
    def adjustments(self) -> None:
        for trade in self.loud():
            entry = self.plan.entry(trade.entry)
            today = self.observation.date
            if not entry.adjustments or self.at_work(trade.number, "close", "adjust") or self.entering(trade):
                continue
            if not self.traded(trade.legs) or trade.number in self.delivering:
                continue
            now = self.now[trade.number]
            for place, item in enumerate(entry.adjustments):
                rule, found = item.rule, item.kind
                if (trade.adjusted_on == today and not item.often) or not item.due(self.market, self.index, trade):
                    continue
                if found.test(now, rule.params)[0] != TRUE:
                    continue
                legs, then = self.proposed(trade, entry.adjustments[place:]), found.otherwise(rule.params)
                values = found.values(now, rule.params, 0)
                made = bool(legs) and self._move(trade, legs, rule.id, values, item.often)
                if not made and then is not None:
                    self.leave(trade, trade.legs, rule.id, values, (), "other", then, Close())
                elif not legs:
                    continue
                break

    def proposed(self, trade: TradeState, asked: Sequence[ActiveAdjustment]) -> tuple[OrderLeg, ...]:
        """The legs of the one order that the first adjustment asks for now, whether or not its condition holds, with what
        it wants of those behind it; none: nothing fits."""
        rule, frame = asked[0].rule, self._adjusting(trade)
        legs = _moved(trade, asked[0].kind.moves(frame, rule.params))
        if any(self.over(leg.contract) for leg in legs):
            # what has come to its settlement is left to it, and the rest with it
            return ()
        further, provided = rule.params.get("further"), adjusting.provided(rule.params)
        if not legs or not (further or provided):
            return legs
        then = self._dealt(trade, legs)
        if further:
            more = then.proposed_next(trade.number, asked[1:]) if then is not None else ()
            if more:
                legs = _merged((*legs, *more))
                then = self._dealt(trade, legs)
            elif further == "must":
                return ()
        deal = partial(self.credit, trade, legs)
        if provided and (then is None or not then.holds(trade.number, provided, deal)):
            return ()
        return legs

    def proposed_next(self, number: int, asked: Sequence[ActiveAdjustment]) -> tuple[OrderLeg, ...]:
        """What the first adjustment proposes for a trade if its condition holds of it."""
        trade = self.trades.get(number)
        if trade is None or not asked or asked[0].kind.test(self.now[number], asked[0].rule.params)[0] != TRUE:
            return ()
        return self.proposed(trade, asked)

    def holds(self, number: int, conditions: Sequence[Mapping[str, Any]], deal: Callable[[], float]) -> bool:
        """Whether conditions hold of a lot of a trade now that was made by dealing which brought so much, in points."""
        trade = self.trades.get(number)
        if trade is None:
            return False
        frame = self._adjusting(trade)
        view = frame.view
        if view is None:
            return False
        where = adjusting.structure(frame, view, trade.legs_held, deal=deal)
        return all(adjusting.holds(condition, where) for condition in conditions)

    def _adjusting(self, trade: TradeState) -> AdjustFrame:
        entry, now = self.plan.entry(trade.entry), self.now[trade.number]
        pick = partial(self._picked, entry, trade)
        deal = partial(self._credit_of, trade)
        return AdjustFrame(
            self.observation, now, entry.entry.underlying, self.lots_held(trade), pick, deal, self.unit_of(trade)
        )

    def unit_of(self, trade: TradeState) -> ContractKey:
        """As what a trade deals in the underlying itself: in single units where a market deals in them."""
        if not self.plan.single_units:
            return ContractKey.unit(trade.symbol)
        return self.of(trade).single_unit(trade.opened_on)

    def credit(self, trade: TradeState, legs: Sequence[OrderLeg]) -> float:
        """What legs of an order bring together now, in points, a debit negative; NaN where one cannot be dealt."""
        prices = [price for price in self.prices(trade, legs) if price is not None]
        if len(prices) < len(legs):
            return math.nan
        return premium_of(legs, prices) * float(self.of(trade).underlying.quantum) / PARTS

    def _credit_of(self, trade: TradeState, wanted: Sequence[tuple[str, ContractKey, int]]) -> float:
        """The same of what makes these legs of those that are held."""
        gone = [OrderLeg(name, contract, -contracts) for name, contract, contracts in trade.legs_held]
        return self.credit(trade, _merged((*gone, *(OrderLeg(*leg) for leg in wanted))))

    def prices(self, trade: TradeState, legs: Sequence[OrderLeg]) -> tuple[int | None, ...]:
        """What legs of an order would be dealt at now, in parts; ``None``: at nothing."""
        view, share = self.of(trade).view(self.index), self.plan.strategy.orders["fill_model"]["share"]
        held = {(leg.leg_id, leg.contract) for leg in trade.legs}
        return tuple(
            price_of(self.plan, view, leg.contract, leg.contracts, share, closes=(leg.leg_id, leg.contract) in held)
            for leg in legs
        )

    def _dealt(self, trade: TradeState, legs: Sequence[OrderLeg]) -> Self | None:
        """This snapshot as it would be if these legs had been dealt at its prices; ``None``: one has none."""
        prices = [price for price in self.prices(trade, legs) if price is not None]
        if len(prices) < len(legs):
            return None
        would_be = type(self)(self.plan, self.state_now(), self.observation)
        order = self._adjusts(trade, tuple(legs), "", {})
        would_be.trades[trade.number] = trade
        would_be.deal(order, Fill(order.id, self.observation.instant, tuple(prices), Decimal(0)), complete=True)
        if trade.number in would_be.trades:
            would_be.mark(trade.number)
        return would_be

    def _adjusts(self, trade: TradeState, legs: tuple[OrderLeg, ...], rule: str, told: Any) -> Order:
        # a part of it changes whole lots too
        lots = math.gcd(in_lots(self.lots_held(trade), legs), self.more_lots(trade, legs))
        return Order(
            f"{trade.number}-adjust-{rule}", "adjust", trade.number, lots, legs,
            self.observation.instant, self.observation.date, rule, told, entry=trade.entry,
        )  # fmt: skip

    def _picked(self, entry: EntryPlan, trade: TradeState, name: str, aside: str) -> PickedLeg | None:
        """What a leg's own picks come to now, beside the legs that are held but one."""
        rule = next((leg for leg in (*entry.entry.legs, *entry.entry.later) if leg.id == name), None)
        view = self.observation.view(entry.entry.underlying)
        if rule is None or view is None:
            return None
        frame = EntryFrame(self.observation, self.account(entry.id), entry.entry.underlying).frame()
        frame = replace(frame, position=self.now[trade.number])
        held = [(leg.leg_id, leg.contract, leg.contracts) for leg in self.traded(trade.legs) if leg.leg_id != aside]
        return next(iter(select([rule], frame, view, 0, entry.allows, held).legs), None)

    def _move(self, trade: TradeState, legs: tuple[OrderLeg, ...], rule: str, values: Any, often: bool) -> bool:
        """A proposal of one order that closes and opens legs together, if capital covers what it would make (semantics
        rules 17 and 18); whether it does."""
        refused = self.unaffordable(trade, legs)
        if refused is not None:
            self.say("no adjustment", trade.number, rule, FALSE, refused)
            return False
        if not often:
            self.trades[trade.number] = changed(trade, adjusted_on=self.observation.date)
        told = {**values, "contracts": [leg.contract.code for leg in legs if leg.contracts]}
        self.say("moved", trade.number, rule, TRUE, told)
        if self.timeline.last_of_several[self.index]:
            self.say("lapsed", trade.number, rule, None, {"message": NO_SNAPSHOT_LEFT})
            return True
        self.intend(self._adjusts(trade, legs, rule, told))
        return True


def _merged(legs: Iterable[OrderLeg]) -> tuple[OrderLeg, ...]:
    """Legs of several steps as those of one order: what one opens and the next closes again is none."""
    found: dict[tuple[str, ContractKey], int] = {}
    for leg in legs:
        found[leg.leg_id, leg.contract] = found.get((leg.leg_id, leg.contract), 0) + leg.contracts
    return tuple(OrderLeg(*key, contracts) for key, contracts in found.items() if contracts)


def _moved(trade: TradeState, moves: Sequence[Move]) -> tuple[OrderLeg, ...]:
    """Moves as the legs of one order; moves that speak of a leg that is gone make no proposal."""
    held = {leg.leg_id: leg for leg in trade.legs}
    legs: list[OrderLeg] = []
    for move in moves:
        if isinstance(move, OpenLeg):
            legs.append(OrderLeg(move.leg, move.contract, move.contracts))
            continue
        names = (move.leg,) if isinstance(move, Roll) else move.legs or tuple(held)
        if not set(names) <= set(held):
            return ()
        legs += closing_legs(held[name] for name in names)
        if isinstance(move, Roll):
            legs.append(OrderLeg(move.leg, move.to, held[move.leg].contracts))
    return tuple(legs)

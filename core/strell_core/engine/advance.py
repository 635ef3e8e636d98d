"""One snapshot at a time: the specification of what every rule does.

``advance(plan, state, observation, fills)`` is what replay, paper and live run, and what blocks must
agree with byte for byte. The order of its steps is semantics rule 7.
"""

from __future__ import annotations

import dataclasses
import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from typing import Any

from strell_core.engine.corporate import last_mid, over_split
from strell_core.engine.marks import NEVER, stretch
from strell_core.engine.plan import DUE, MISSED, Plan
from strell_core.engine.settlement import settlement_parts
from strell_core.engine.state import (
    Advanced,
    ClosedTrade,
    EngineState,
    Fill,
    LedgerEntry,
    LegClose,
    LegState,
    Order,
    OrderLeg,
    Reason,
    TradeState,
)
from strell_core.market.prices import money, parts_to_money
from strell_core.market.splits import Split
from strell_core.market.timeline import Timeline
from strell_core.selection.select import Selection, select
from strell_core.strategy import kinds
from strell_core.strategy.kinds import FALSE, TRUE, EntryContext, PickedLeg, Stretch, Verdict


@dataclass(frozen=True)
class Observation:
    """What is known at one snapshot: the recorded timeline up to and including ``index``."""

    timeline: Timeline
    index: int

    @property
    def instant(self) -> int:
        return int(self.timeline.times[self.index])

    @property
    def session(self) -> int:
        return int(self.timeline.session_of[self.index])

    @property
    def date(self) -> dt.date:
        return self.timeline.dates[self.session]


@dataclass(frozen=True)
class EntryDecision:
    """What the entry rules said at an instant, rule by rule, until the first that was not true."""

    verdicts: tuple[tuple[str, Verdict], ...]
    selection: Selection | None
    lots: int

    @property
    def entered(self) -> bool:
        return self.lots > 0 and all(verdict.truth == TRUE for _, verdict in self.verdicts)


def advance(plan: Plan, state: EngineState, observation: Observation, fills: Sequence[Fill]) -> Advanced:
    """The state after one snapshot, with what was decided and why."""
    step = _Step(plan, state, observation)
    step.adjust()
    step.settle()
    step.apply(fills)
    step.lapse()
    step.update_paths()
    step.exits()
    step.entries()
    return step.result()


def apply_fills(plan: Plan, state: EngineState, observation: Observation, fills: Sequence[Fill]) -> Advanced:
    """Fills that arrive on the snapshot of their decision (sessions with a single one)."""
    step = _Step(plan, state, observation)
    step.apply(fills)
    step.update_paths()
    return step.result()


def decide_entry(
    plan: Plan, timeline: Timeline, index: int, open_trades: int, runners_up: int = 0, thorough: bool = False
) -> EntryDecision:
    """Judge the entry rules at a snapshot. ``thorough`` goes on after the first that says no."""
    strategy = plan.strategy
    session = int(timeline.session_of[index])
    context = EntryContext(open_trades, timeline.daily.before(session))
    verdicts: list[tuple[str, Verdict]] = []
    for rule in strategy.enter:
        if rule.kind == "decision_times":
            continue
        verdicts.append((rule.id, kinds.enter_conditions[rule.kind].judge(context, rule.params)))
        if verdicts[-1][1].truth != TRUE and not thorough:
            return EntryDecision(tuple(verdicts), None, 0)
    selection = select(strategy, timeline.view(index), timeline.dates[session], runners_up)
    failed = selection.failed
    if failed is not None:
        verdicts.append((failed.leg_id, Verdict(FALSE, {"message": failed.message})))
        return EntryDecision(tuple(verdicts), selection, 0)
    for rule in strategy.conditions:
        verdicts.append((rule.id, kinds.structure_conditions[rule.kind].judge(selection.legs, rule.params)))
        if verdicts[-1][1].truth != TRUE and not thorough:
            return EntryDecision(tuple(verdicts), selection, 0)
    lots = kinds.size_rules[strategy.size.kind].lots(strategy.size.params)
    if lots == 0:
        verdicts.append((strategy.size.id, Verdict(FALSE, {"lots": 0})))
    return EntryDecision(tuple(verdicts), selection, lots)


def _closing_legs(trade: TradeState) -> tuple[OrderLeg, ...]:
    return tuple(OrderLeg(leg.leg_id, leg.contract, -leg.contracts) for leg in trade.legs)


class _Step:
    """Work of one snapshot: a mutable sheet of paper around frozen values."""

    def __init__(self, plan: Plan, state: EngineState, observation: Observation) -> None:
        self.plan, self.observation = plan, observation
        self.timeline, self.index = observation.timeline, observation.index
        self.cash, self.next_trade = state.cash, state.next_trade
        self.trades = {trade.number: trade for trade in state.trades}
        self.orders = list(state.orders)
        self.intents: list[Order] = []
        self.reasons: list[Reason] = []
        self.entries_made: list[LedgerEntry] = []
        self.closed: list[ClosedTrade] = []
        self.now: dict[int, Stretch] = {}

    def result(self) -> Advanced:
        state = EngineState(self.cash, self.next_trade, tuple(self.trades.values()), tuple(self.orders))
        return Advanced(state, tuple(self.intents), tuple(self.reasons), tuple(self.entries_made), tuple(self.closed))

    def _say(self, kind: Any, trade: int | None, rule: str, truth: int | None, values: Any) -> None:
        self.reasons.append(Reason(self.observation.instant, kind, trade, rule, truth, values))

    def _book(self, trade: TradeState, kind: Any, leg: Any, contracts: int, parts: int, amount: Decimal) -> TradeState:
        """Move money: one ledger entry, the account's and the trade's cash with it."""
        self.cash += amount
        self.entries_made.append(
            LedgerEntry(self.observation.instant, trade.number, kind, leg, contracts, parts, amount)
        )
        costs = trade.costs - amount if kind == "commission" else trade.costs
        return dataclasses.replace(trade, cash=trade.cash + amount, costs=costs)

    def _amount(self, trade: TradeState, contracts: int, parts: int) -> Decimal:
        multiplier = self.plan.multiplier(trade.opened_on)
        return money(parts_to_money(-contracts * parts, self.plan.quantum, multiplier))

    # (1) corporate actions
    def adjust(self) -> None:
        """Carry trades over a split that holds from this session's open on (semantics rule 11)."""
        split = self.timeline.splits.get(self.index)
        if split is None:
            return
        for trade in list(self.trades.values()):
            followed = over_split(self.timeline, trade, split, self.observation.instant)
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
                    self.orders[place] = dataclasses.replace(order, legs=legs)
            self._say("adjusted", trade.number, "", None, {"split": split.words})

    def _abandon(self, trade: TradeState, split: Split) -> None:
        """Close a trade whose contracts cannot be followed over a split at its legs' last mids."""
        self.orders = [order for order in self.orders if order.trade != trade.number]
        for leg in trade.legs:
            parts = last_mid(self.timeline, leg, self.index)
            trade = self._close_leg(trade, leg, parts, "split", leg.contracts)
            amount = self._amount(trade, -leg.contracts, parts)
            trade = self._book(trade, "settlement", leg.contract, -leg.contracts, parts, amount)
        self.trades[trade.number] = trade
        self._say("adjusted", trade.number, "", None, {"split": split.words})
        self._finish(trade, "split", self.observation.instant, {"split": split.words}, ())

    # (1) expiry
    def settle(self) -> None:
        """Cash-settle legs whose settlement instant has passed, at the official value."""
        for trade in list(self.trades.values()):
            due = [(leg, parts) for leg in trade.legs if (parts := self._settled(leg)) is not None]
            if not due:
                continue
            self.orders = [order for order in self.orders if order.trade != trade.number]
            for leg, parts in due:
                trade = self._close_leg(trade, leg, parts, "settlement", leg.contracts)
                trade = self._book(
                    trade, "settlement", leg.contract, -leg.contracts, parts, self._amount(trade, -leg.contracts, parts)
                )
            self.trades[trade.number] = trade
            self._say("settled", trade.number, "", None, {"legs": len(due)})
            if not trade.legs:
                self._finish(trade, "settlement", self.observation.instant, {}, ())

    def _settled(self, leg: LegState) -> int | None:
        return settlement_parts(self.timeline, leg.contract, self.observation.instant)

    def _close_leg(self, trade: TradeState, leg: LegState, parts: int, how: Any, contracts: int) -> TradeState:
        """The trade after ``contracts`` of a leg (signed as held) are gone."""
        record = LegClose(
            leg.leg_id, leg.contract, contracts, leg.opened_parts, parts, self.observation.instant, how, leg.opened_at
        )
        left = leg.contracts - contracts
        legs = [dataclasses.replace(item, contracts=left) if item is leg else item for item in trade.legs]
        return dataclasses.replace(
            trade,
            legs=tuple(item for item in legs if item.contracts),
            realised=trade.realised + contracts * (parts - leg.opened_parts),
            closed_legs=(*trade.closed_legs, record),
        )

    def _finish(self, trade: TradeState, rule: str, left_at: int, values: Any, also: tuple[str, ...]) -> None:
        del self.trades[trade.number]
        best = trade.realised if trade.best is None else max(trade.best, trade.realised)
        self.closed.append(
            ClosedTrade(
                trade.number, trade.lots, trade.decided_at, trade.opened_at, self.observation.instant,
                trade.closed_legs, trade.opening, trade.realised, best, trade.cash, trade.costs, rule, left_at,
                values, also,
            )
        )  # fmt: skip

    # (2) fills of earlier orders
    def apply(self, fills: Sequence[Fill]) -> None:
        for fill in fills:
            place = next((i for i, order in enumerate(self.orders) if order.id == fill.order), None)
            if place is None:
                continue
            order = self.orders[place]
            lots = order.lots if fill.lots is None else fill.lots
            left = order.lots - lots
            if left > 0 and not fill.ended:
                self.orders[place] = order.of_lots(left)
            else:
                del self.orders[place]
            if lots == 0:
                self._say("ended", order.trade, order.rule, None, {"kind": order.kind, "lots": order.lots})
            elif order.kind == "open":
                self._open(order.of_lots(lots), fill)
            else:
                self._close(order.of_lots(lots), fill)

    def _open(self, order: Order, fill: Fill) -> None:
        before = self.trades.get(order.trade)
        trade = before or TradeState(order.trade, 0, order.decided_at, fill.at, self.observation.date, (), 0)
        opening = -sum(leg.contracts * parts for leg, parts in zip(order.legs, fill.prices, strict=True))
        legs = self._joined(trade, order, fill)
        trade = dataclasses.replace(trade, lots=trade.lots + order.lots, legs=legs, opening=trade.opening + opening)
        for leg, parts in zip(order.legs, fill.prices, strict=True):
            amount = self._amount(trade, leg.contracts, parts)
            trade = self._book(trade, "premium", leg.contract, leg.contracts, parts, amount)
        trade = self._book(trade, "commission", None, 0, 0, -fill.commission)
        self.trades[trade.number] = trade
        self._say("filled", trade.number, order.rule, None, {"kind": "open", "premium": opening})
        # a working exit closes what is held
        for place, other in enumerate(self.orders):
            if other.kind == "close" and other.trade == trade.number:
                self.orders[place] = dataclasses.replace(other, lots=trade.lots, legs=_closing_legs(trade))

    @staticmethod
    def _joined(trade: TradeState, order: Order, fill: Fill) -> tuple[LegState, ...]:
        """The trade's legs with a further part of its entry; opened at their average, to the part."""
        held = {leg.leg_id: leg for leg in trade.legs}
        for leg, parts in zip(order.legs, fill.prices, strict=True):
            old = held.get(leg.leg_id)
            total = leg.contracts + (old.contracts if old else 0)
            worth = leg.contracts * parts + (old.contracts * old.opened_parts if old else 0)
            held[leg.leg_id] = LegState(leg.leg_id, leg.contract, total, round(Fraction(worth, total)))
        return tuple(held.values())

    def _close(self, order: Order, fill: Fill) -> None:
        trade = self.trades[order.trade]
        for leg, parts in zip(order.legs, fill.prices, strict=True):
            held = next(item for item in trade.legs if item.leg_id == leg.leg_id)
            trade = self._close_leg(trade, held, parts, "order", -leg.contracts)
            amount = self._amount(trade, leg.contracts, parts)
            trade = self._book(trade, "premium", leg.contract, leg.contracts, parts, amount)
        trade = self._book(trade, "commission", None, 0, 0, -fill.commission)
        self._say("filled", trade.number, order.rule, None, {"kind": "close", "pnl": trade.realised})
        self.trades[trade.number] = trade
        if not trade.legs:
            self._finish(trade, order.rule, order.decided_at, order.values, order.also)

    def lapse(self) -> None:
        """Opening orders end with their session (semantics rule 8)."""
        last = self.timeline.is_last[self.index] and not self.timeline.is_single[self.index]
        for order in list(self.orders):
            if order.kind == "open" and (last or order.session != self.observation.date):
                self.orders.remove(order)
                if order.trade in self.trades:
                    continue
                self._say(
                    "lapsed", order.trade, order.rule, None, {"message": "no usable quotes until the session ended"}
                )

    # (3) marks and paths
    def update_paths(self) -> None:
        for number, trade in self.trades.items():
            now = stretch(self.plan, trade, self.timeline, self.index, self.index + 1)
            self.now[number] = now
            best = int(now.best[0])
            if best > NEVER:
                self.trades[number] = dataclasses.replace(trade, best=best)

    # (5) exits
    def exits(self) -> None:
        for trade in list(self.trades.values()):
            if any(order.trade == trade.number and order.kind == "close" for order in self.orders):
                continue
            now = self.now[trade.number]
            true = [(rule, found) for rule, found in self.plan.exits if found.test(now, rule.params)[0] == TRUE]
            if not true:
                continue
            rule, found = true[0]
            values = found.values(now, rule.params, 0)
            also = tuple(other.id for other, _ in true[1:])
            self._intend(Order(
                f"{trade.number}-close", "close", trade.number, self._lots_held(trade), _closing_legs(trade),
                self.observation.instant, self.observation.date, rule.id, values, also,
            ))  # fmt: skip
            for place, order in enumerate(self.orders):
                if order.kind == "open" and order.trade == trade.number:
                    self.orders[place] = dataclasses.replace(order, ending=True)
            self._say("left", trade.number, rule.id, TRUE, {**values, "also": list(also)})

    def _lots_held(self, trade: TradeState) -> int:
        """Whole lots of what is held: a trade may have been closed in part, before splits in fewer contracts."""
        gone = sum(
            leg.contracts * self.timeline.multiplied(leg.closed_at, self.observation.instant)
            for leg in trade.closed_legs
            if leg.leg_id == trade.legs[0].leg_id and leg.how != "split"
        )
        return trade.lots * trade.legs[0].contracts // (trade.legs[0].contracts + gone)

    def _intend(self, order: Order) -> None:
        self.orders.append(order)
        self.intents.append(order)

    # (8) entries
    def entries(self) -> None:
        status = self.plan.decision(self.timeline, self.index)
        if status is None:
            return
        when = self.plan.strategy.decision_times
        if status != DUE:
            message = "no snapshot near the decision time" if status == MISSED else "single-snapshot session"
            self._say("skipped", None, when.id, None, {"message": message})
            return
        open_count = EngineState(self.cash, self.next_trade, tuple(self.trades.values()), tuple(self.orders)).open_count
        decision = decide_entry(self.plan, self.timeline, self.index, open_count)
        if not decision.entered or decision.selection is None:
            rule, verdict = decision.verdicts[-1]
            self._say("no entry", None, rule, verdict.truth, verdict.values)
            return
        self._enter(decision.selection.legs, decision.lots, when.id)

    def _enter(self, picked: Sequence[PickedLeg], lots: int, rule: str) -> None:
        number = self.next_trade
        self.next_trade += 1
        legs = tuple(OrderLeg(leg.leg_id, leg.contract, leg.contracts * lots) for leg in picked)
        codes = {"contracts": [leg.contract.code for leg in legs]}
        self._say("entry", number, rule, TRUE, codes)
        last = self.timeline.is_last[self.index] and not self.timeline.is_single[self.index]
        if last:
            self._say("lapsed", number, rule, None, {"message": "no snapshot was left in the session"})
            return
        self._intend(Order(
            f"{number}-open", "open", number, lots, legs, self.observation.instant, self.observation.date, rule, codes,
        ))  # fmt: skip

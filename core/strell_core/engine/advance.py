"""One snapshot at a time: the specification of what every rule does.

``advance(plan, state, observation, fills)`` is what replay, paper and live run, and what blocks must
agree with byte for byte. The order of its steps is semantics rule 7.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from functools import partial
from typing import Any

from strell_core.engine.changed import changed
from strell_core.engine.exits import ExitWish, waiting, wishes
from strell_core.engine.fills import price_of
from strell_core.engine.limits import Limits
from strell_core.engine.looks import ActiveAdjustment
from strell_core.engine.marks import stretch, with_paths
from strell_core.engine.plan import EntryPlan, Plan
from strell_core.engine.state import (
    Advanced,
    EngineState,
    Entered,
    Fill,
    Order,
    OrderLeg,
    TradeState,
    in_lots,
)
from strell_core.engine.step import LOOK, closing_legs
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Observation
from strell_core.market.timeline import ChainView
from strell_core.measures.frames import (
    FALSE,
    TRUE,
    UNVALUED,
    Account,
    PickedLeg,
    Stretch,
    Verdict,
)
from strell_core.selection.select import Selection, exhausted, select, selected
from strell_core.strategy import adjusting, kinds
from strell_core.strategy.actions import Close, Move, OpenLeg, Roll
from strell_core.strategy.kinds import AdjustFrame, EntryFrame
from strell_core.strategy.schedule import DUE, MISSED, POLICY_SKIP

SKIPPED = {MISSED: "no snapshot near the decision time", POLICY_SKIP: "single-snapshot session"}
"""Why an entry is not looked at, by its schedule's status."""
NO_SNAPSHOT_LEFT, NO_QUOTES = "no snapshot was left in the session", "no usable quotes"
NOT_REACHED, UNTIL_THE_END = "its limit was not reached", " until the session ended"
"""Why an order to open or adjust came to nothing."""


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
    step = Decisions(plan, state, observation)
    step.adjust()
    step.pay_dividends()
    step.settle()
    step.apply(fills)
    step.lapse()
    step.update_paths()
    step.watch_capital()
    step.watch_limits()
    if "leave" in plan.acts:
        step.exits()
    if "adjust" in plan.acts:
        step.adjustments()
    if "enter" in plan.acts:
        step.reentries()
        step.entries()
    if not step.timeline.is_single[step.index]:
        step.assign()
    return step.result()


def apply_fills(plan: Plan, state: EngineState, observation: Observation, fills: Sequence[Fill]) -> Advanced:
    """Fills that arrive on the snapshot of their decision (sessions with a single one)."""
    step = Decisions(plan, state, observation)
    step.apply(fills)
    step.update_paths()
    step.note_equity()
    if step.timeline.is_single[step.index]:
        step.assign()
    return step.result()


Afford = Callable[[Sequence[PickedLeg], int], Verdict]
"""Whether so many lots of picked legs can be paid for."""


def decide_entry(
    entry: EntryPlan, observation: Observation, account: Account, runners_up: int = 0, thorough: bool = False,
    afford: Afford | None = None, again: bool = False, same: Mapping[str, ContractKey] | None = None,
) -> EntryDecision:  # fmt: skip
    """Judge an entry's rules at a snapshot. ``thorough`` goes on after the first that says no; ``afford`` is asked
    last, and speaks for the sentence on size. ``again``: it is a re-entry, which waits for no crossing; ``same``: the
    contracts of its legs, which are not picked anew."""
    rules, symbol = entry.entry, entry.entry.underlying
    frame = EntryFrame(observation, account, symbol, again)
    verdicts: list[tuple[str, Verdict]] = []
    for rule in rules.conditions:
        verdicts.append((rule.id, kinds.enter_conditions[rule.kind].judge(frame, rule.params)))
        if verdicts[-1][1].truth != TRUE and not thorough:
            return EntryDecision(tuple(verdicts), None, 0)
    view = observation.view(symbol)
    if view is None:
        verdicts.append((rules.legs[0].id, Verdict(UNVALUED, {"message": f"{symbol} has no snapshot near now"})))
        return EntryDecision(tuple(verdicts), None, 0)
    same = same or (None if again else _kept(entry, frame))
    if same:
        found = _judged(entry, frame, view, selected(rules.legs, same, view), thorough)
    else:
        found = _picked(entry, frame, view, runners_up, thorough)
    selection, checked, good = found
    verdicts += checked
    if selection.failed is not None or not (good or thorough):
        return EntryDecision(tuple(verdicts), selection, 0)
    lots = kinds.size_rules[rules.size.kind].lots(frame, selection.legs, rules.size.params)
    if lots == 0:
        verdicts.append((rules.size.id, Verdict(FALSE, {"lots": 0})))
    elif afford is not None:
        paid = afford(selection.legs, lots)
        if paid.truth != TRUE:
            verdicts.append((rules.size.id, paid))
    return EntryDecision(tuple(verdicts), selection, lots)


Checked = tuple[Selection, list[tuple[str, Verdict]], bool]
"""A structure, what is said of it, and whether nothing stands in its way."""


def _picked(entry: EntryPlan, frame: EntryFrame, view: ChainView, runners_up: int, thorough: bool) -> Checked:
    """The structure with its checks. Where a leg walks out: with the first expiration with which all of them hold; with
    the nearest where there is none."""
    nearest = found = _checked(entry, frame, view, runners_up, thorough, 0)
    walked = 0
    while not found[2] and entry.walks and not exhausted(entry.entry.legs, found[0]):
        walked += 1
        found = _checked(entry, frame, view, runners_up, thorough, walked)
    return found if found[2] else nearest


def _kept(entry: EntryPlan, now: EntryFrame) -> dict[str, ContractKey] | None:
    """By leg, what was picked before in this session where its sheet keeps that; ``None``: it is picked now."""
    if not entry.schedule.keeps:
        return None
    market, index = now.observation.market, now.observation.index
    first = int(market.main.first[now.observation.session])
    for at in entry.schedule.looks(market, first, index).tolist() if index > first else ():
        frame = EntryFrame(Observation(market, at), now.account, now.symbol)
        view = frame.observation.view(now.symbol)
        if view is None or entry.schedule.status(market, at) != DUE:
            continue
        selection = _picked(entry, frame, view, 0, False)[0]
        if selection.failed is None:
            return {leg.leg_id: leg.contract for leg in selection.legs}
    return None


def _checked(
    entry: EntryPlan, frame: EntryFrame, view: ChainView, runners_up: int, thorough: bool, walked: int
) -> Checked:
    selection = select(entry.entry.legs, frame.frame(), view, runners_up, entry.allows, walked=walked)
    return _judged(entry, frame, view, selection, thorough)


def _judged(entry: EntryPlan, frame: EntryFrame, view: ChainView, selection: Selection, thorough: bool) -> Checked:
    """A structure with its checks."""
    failed = selection.failed
    if failed is not None:
        return selection, [(failed.leg_id, Verdict(FALSE, {"message": failed.message}))], False
    options = [leg for leg in selection.legs if not leg.contract.is_unit]
    verdicts: list[tuple[str, Verdict]] = []
    good = True
    for rule in entry.entry.checks:
        verdict = kinds.structure_conditions[rule.kind].judge(frame, options, view, rule.params)
        verdicts.append((rule.id, verdict))
        good = good and verdict.truth == TRUE
        if not good and not thorough:
            break
    return selection, verdicts, good


class Decisions(Limits):
    """What rules decide on one snapshot, after what happened on it."""

    def lapse(self) -> None:
        """Opening and adjusting orders end with their session (semantics rule 8)."""
        last = self.timeline.last_of_several[self.index]
        patient = self.plan.working.patience is not None
        for order in list(self.orders):
            if order.purpose == "close":
                continue
            given_up = self.plan.working.given_up_at(self.timeline, order)
            over = given_up is not None and self.index >= given_up
            if not (last or over or order.session != self.observation.date):
                continue
            self.orders.remove(order)
            if order.purpose == "open" and order.trade in self.trades:
                self.given_up(order)
                continue
            told = (NOT_REACHED if patient else NO_QUOTES) + ("" if over else UNTIL_THE_END)
            self.say("lapsed", order.trade, order.rule, None, {"message": told})

    # (3) marks and paths
    def update_paths(self) -> None:
        for number in self.trades:
            self.mark(number)

    def mark(self, number: int) -> None:
        """A trade's marks on this snapshot, and its path with them."""
        trade = self.trades[number]
        now = stretch(self.plan, trade, self.observation.market, self.index, self.index + 1)
        self.now[number] = now
        self.trades[number] = with_paths(self.plan, trade, now)

    # (5) exits
    def exits(self) -> None:
        now_at = self.observation.instant
        for trade in list(self.trades.values()):
            busy = self.at_work(trade.number, "close")
            if any(order.whole for order in busy) or not self.traded(trade.legs):
                continue
            now = self.now[trade.number]
            working = {leg.leg_id for order in busy for leg in order.legs} | waiting(self.of(trade), trade, now_at)
            entering = self.entering(trade)
            true = [
                wish
                for wish in wishes(self.plan, trade, working)
                if (wish.kind == "loss" or not entering) and wish.test(now)[0] == TRUE
            ]
            acting: list[ExitWish] = []
            for wish in true:
                whole = any(other.closes == Close() for other in acting)
                if not whole and not any(set(wish.legs) & set(other.legs) for other in acting):
                    acting.append(wish)
            for wish in acting:
                also = tuple(other.rule for other in true if other is not wish and other not in acting)
                self._leave_by(trade, wish, now, also)

    def _leave_by(self, trade: TradeState, wish: ExitWish, now: Stretch, also: tuple[str, ...]) -> None:
        trade = self.trades[trade.number]
        # a leg of which a part is rolled is two contracts
        legs = [leg for leg in trade.legs if leg.leg_id in wish.legs]
        if wish.closes.share is not None:
            self.trades[trade.number] = trade = changed(trade, acted=(*trade.acted, wish.rule))
            lots = max(1, int(wish.closes.share * trade.lots))
            if self.in_whole_lots(trade):
                legs = [changed(leg, contracts=leg.contracts // self.lots_held(trade) * lots) for leg in legs]
            else:
                legs = [changed(leg, contracts=_share(leg.contracts, wish.closes.share)) for leg in legs]
        self.leave(trade, legs, wish.rule, wish.values(now), also, wish.kind, wish.then, wish.closes)

    def entering(self, trade: TradeState) -> bool:
        """Whether legs of its entry are still to be dealt, one after another."""
        return self.plan.working.by_leg is not None and bool(self.at_work(trade.number, "open"))

    def adjustments(self) -> None:
        for trade in list(self.trades.values()):
            entry = self.plan.entry(trade.entry)
            today = self.observation.date
            if not entry.adjustments or self.at_work(trade.number, "close", "adjust") or self.entering(trade):
                continue
            if not self.traded(trade.legs):
                continue
            now = self.now[trade.number]
            for place, item in enumerate(entry.adjustments):
                rule, found = item.rule, item.kind
                if (trade.adjusted_on == today and not found.often) or not item.due(self.market, self.index, trade):
                    continue
                if found.test(now, rule.params)[0] != TRUE:
                    continue
                legs, then = self.proposed(trade, entry.adjustments[place:]), found.otherwise(rule.params)
                values = found.values(now, rule.params, 0)
                made = bool(legs) and self._move(trade, legs, rule.id, values, found.often)
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
        further, provided = rule.params.get("further"), rule.params.get("provided")
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
        if provided and (then is None or not then.holds(trade.number, provided)):
            return ()
        return legs

    def proposed_next(self, number: int, asked: Sequence[ActiveAdjustment]) -> tuple[OrderLeg, ...]:
        """What the first adjustment proposes for a trade if its condition holds of it."""
        trade = self.trades.get(number)
        if trade is None or not asked or asked[0].kind.test(self.now[number], asked[0].rule.params)[0] != TRUE:
            return ()
        return self.proposed(trade, asked)

    def holds(self, number: int, condition: Mapping[str, Any]) -> bool:
        """Whether a condition holds of a lot of a trade now."""
        trade = self.trades.get(number)
        if trade is None:
            return False
        frame = self._adjusting(trade)
        view = frame.view
        return view is not None and adjusting.holds(condition, adjusting.structure(frame, view, trade.legs_held))

    def _adjusting(self, trade: TradeState) -> AdjustFrame:
        entry, now = self.plan.entry(trade.entry), self.now[trade.number]
        pick = partial(self._later, entry, trade)
        return AdjustFrame(self.observation, now, entry.entry.underlying, self.lots_held(trade), pick)

    def prices(self, trade: TradeState, legs: Sequence[OrderLeg]) -> tuple[int | None, ...]:
        """What legs of an order would be dealt at now, in parts; ``None``: at nothing."""
        view, share = self.of(trade).view(self.index), self.plan.strategy.orders["fill_model"]["share"]
        held = {(leg.leg_id, leg.contract) for leg in trade.legs}
        return tuple(
            price_of(self.plan, view, leg.contract, leg.contracts, share, closes=(leg.leg_id, leg.contract) in held)
            for leg in legs
        )

    def _dealt(self, trade: TradeState, legs: Sequence[OrderLeg]) -> Decisions | None:
        """This snapshot as it would be if these legs had been dealt at its prices; ``None``: one has none."""
        prices = [price for price in self.prices(trade, legs) if price is not None]
        if len(prices) < len(legs):
            return None
        would_be = Decisions(self.plan, self.state_now(), self.observation)
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

    def _later(self, entry: EntryPlan, trade: TradeState, name: str) -> PickedLeg | None:
        """What a leg that is opened later would be now, beside those that are held."""
        rule = next((leg for leg in entry.entry.later if leg.id == name), None)
        view = self.observation.view(entry.entry.underlying)
        if rule is None or view is None or any(leg.leg_id == name for leg in trade.legs):
            return None
        frame = EntryFrame(self.observation, self.account(entry.id), entry.entry.underlying).frame()
        held = [(leg.leg_id, leg.contract, leg.contracts) for leg in self.traded(trade.legs)]
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

    # (7) re-entries
    def reentries(self) -> None:
        due, self.due = self.due, []
        for item in due:
            entry = self.plan.entry(item.entry)
            if item.later and entry.schedule.status(self.market, self.index) != DUE:
                self.due.append(item)
                continue
            if item.number == LOOK:
                self._look(entry)
                continue
            barred = self.barred(entry)
            if barred is not None:
                self.say("re-entry given up", item.trade, item.rule, barred[1], {**barred[2], "said_no": barred[0]})
                continue
            account, same = self.account(entry.id), dict(item.contracts)
            decision = decide_entry(entry, self.observation, account, afford=self.afford, again=True, same=same)
            if decision.entered and decision.selection is not None:
                self._enter(entry, decision, item.rule, item.number)
            else:
                rule, verdict = decision.verdicts[-1]
                told = {**verdict.values, "said_no": rule}
                self.say("re-entry given up", item.trade, item.rule, verdict.truth, told)

    # (8) entries
    def entries(self) -> None:
        for entry in self.plan.entries:
            status = entry.schedule.status(self.market, self.index)
            if status is None:
                continue
            if status != DUE:
                self.say("skipped", None, entry.entry.schedule.id, None, {"message": SKIPPED[status]})
                continue
            self._look(entry)

    def _look(self, entry: EntryPlan) -> None:
        """An entry is judged, and made where nothing says no."""
        barred = self.barred(entry)
        if barred is not None:
            # what holds is what bars: of the entry it is a no
            self.say("no entry", None, *barred)
            return
        decision = decide_entry(entry, self.observation, self.account(entry.id), afford=self.afford)
        if not decision.entered or decision.selection is None:
            rule, verdict = decision.verdicts[-1]
            self.say("no entry", None, rule, verdict.truth, verdict.values)
            return
        self._enter(entry, decision, entry.entry.schedule.id, 0)

    def _enter(self, entry: EntryPlan, decision: EntryDecision, rule: str, reentry: int) -> None:
        assert decision.selection is not None
        number = self.next_trade
        self.next_trade += 1
        lots, today = decision.lots, self.observation.date
        before = self.entered.get(entry.id)
        times = before.times + 1 if before is not None and before.on == today else 1
        self.entered[entry.id] = Entered(entry.id, today, times)
        legs = tuple(OrderLeg(leg.leg_id, leg.contract, leg.contracts * lots) for leg in decision.selection.legs)
        told: dict[str, Any] = {"contracts": [leg.contract.code for leg in legs]}
        if reentry:
            told["reentry"] = reentry
        self.say("entry", number, rule, TRUE, told)
        last = self.timeline.last_of_several[self.index]
        if last:
            self.say("lapsed", number, rule, None, {"message": NO_SNAPSHOT_LEFT})
            return
        self.intend(Order(
            f"{number}-open", "open", number, lots, legs, self.observation.instant, self.observation.date, rule, told,
            entry=entry.id, least=self.plan.least(entry),
        ))  # fmt: skip


def _share(contracts: int, share: Fraction) -> int:
    """A share of a leg's contracts, signed, rounded down, at least one."""
    return int(math.copysign(max(1, int(share * abs(contracts))), contracts))


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

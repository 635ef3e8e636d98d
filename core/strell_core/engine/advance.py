"""One snapshot at a time: the specification of what every rule does.

``advance(plan, state, observation, fills)`` is what replay, paper and live run, and what blocks must
agree with byte for byte. The order of its steps is semantics rule 7.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from fractions import Fraction
from typing import Any

from strell_core.engine.adjusting import NO_SNAPSHOT_LEFT, Adjusting
from strell_core.engine.changed import changed
from strell_core.engine.entering import EntryDecision, decide_entry
from strell_core.engine.exits import ExitWish, waiting, wishes
from strell_core.engine.plan import EntryPlan, Plan
from strell_core.engine.state import Advanced, EngineState, Entered, Fill, Order, OrderLeg, TradeState
from strell_core.engine.step import LOOK, NONE_QUIET
from strell_core.market.market import Observation
from strell_core.measures.frames import TRUE, Stretch
from strell_core.strategy.actions import Close
from strell_core.strategy.schedule import DUE, MISSED, POLICY_SKIP

SKIPPED = {MISSED: "no snapshot near the decision time", POLICY_SKIP: "single-snapshot session"}
"""Why an entry is not looked at, by its schedule's status."""
NO_QUOTES = "no usable quotes"
NOT_REACHED, UNTIL_THE_END = "its limit was not reached", " until the session ended"
"""Why an order to open or adjust came to nothing."""


def advance(
    plan: Plan, state: EngineState, observation: Observation, fills: Sequence[Fill],
    quiet: Mapping[int, int] = NONE_QUIET,
) -> Advanced:  # fmt: skip
    """The state after one snapshot, with what was decided and why. ``quiet``: trades of which is known that neither their
    exits nor their contracts make anything of them here, each with its highest P/L by now: it is the same as without, in less
    time."""
    step = Decisions(plan, state, observation, quiet)
    step.adjust()
    step.pay_dividends()
    step.settle()
    step.apply(fills)
    step.lapse()
    step.update_paths()
    step.watch_capital()
    step.remember()
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


class Decisions(Adjusting):
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
                if self.plan.working.by_leg is None:
                    left = "1 lot was" if order.lots == 1 else f"{order.lots} lots were"
                    told = f"{left} not dealt{'' if over else UNTIL_THE_END}"
                    self.say("lapsed", order.trade, order.rule, None, {"message": told})
                self.given_up(order)
                continue
            told = (NOT_REACHED if patient else NO_QUOTES) + ("" if over else UNTIL_THE_END)
            self.say("lapsed", order.trade, order.rule, None, {"message": told})

    # (4) exits
    def exits(self) -> None:
        now_at = self.observation.instant
        for trade in self.loud():
            busy = self.at_work(trade.number, "close")
            if any(order.whole for order in busy) or not self.traded(trade.legs) or trade.number in self.delivering:
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

    # (6) re-entries
    def reentries(self) -> None:
        due, self.due = self.due, []
        for item in due:
            entry = self.plan.entry(item.entry)
            if item.trade in self.delivering:
                self.due.append(item)
                continue
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

    # (7) entries
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

"""What adjustments make of a trade that lives by itself (:mod:`strell_core.engine.lives`): from the fill of one order to that of the
next it is a stage, whose exits and end are those of a trade that was opened with its legs.

The engine's own rooms decide and deal, on the snapshots at which anything may come of it; nothing is said here of what a rule
does. An account that is refused nothing is behind it: what each adjustment would have taken is told, for whoever has the real one.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Sequence
from typing import NamedTuple, cast

import numpy as np
import numpy.typing as npt

from strell_core.engine.advance import Decisions
from strell_core.engine.changed import changed
from strell_core.engine.fills import commission, first_event, match
from strell_core.engine.known import STAYS
from strell_core.engine.lives import PLENTY, Beyond, Lives, Opening, cents_of, moment
from strell_core.engine.marks import carried_at, with_best
from strell_core.engine.plan import EntryPlan, Plan
from strell_core.engine.settlement import expired
from strell_core.engine.state import EngineState, Fill, LegState, Order, OrderLeg, TradeState
from strell_core.engine.watched import Nobody
from strell_core.market.market import Observation
from strell_core.measures.frames import TRUE, Account, Stretch
from strell_core.strategy.actions import Reenter

Ints = npt.NDArray[np.int64]
NOBODY = cast(Account, Nobody(Beyond))


class Asked(NamedTuple):
    """What an adjustment asks of the account when it is decided."""

    at: int
    needed: float
    """Capital that the trade needs with it, money."""


class Turn(NamedTuple):
    """How a stage of a trade's life ends by adjustments."""

    stage: Opening | None
    """The next one; none: no adjustment makes anything of it."""
    left: int
    """Snapshot at which an adjustment that cannot be made closes it; never."""
    asked: Sequence[Asked]


def are_simple(entry: EntryPlan) -> bool:
    """Whether an entry's adjustments leave its trades lives by themselves: none deals in the underlying, enters again, or
    needs more of a trade's past than its best P/L."""
    again = (found for item in entry.adjustments if (found := item.kind.otherwise(item.rule.params)))
    return (
        not any(item.often for item in entry.adjustments)
        and not (entry.adjustments and entry.remembers)
        and not any(isinstance(then, Reenter) for found in again for then in found)
        and all(leg.strike is not None for leg in entry.entry.later)
    )


def says(plan: Plan, entry: EntryPlan) -> str:
    """The same for all entries whose trades are adjusted in the same way; nothing, where they are not."""
    if not entry.adjustments:
        return ""
    rules = entry.entry
    looks = tuple(sorted(entry.schedule.times.items())), entry.schedule.decides_single, entry.schedule.series
    return repr((
        [item.rule.says for item in entry.adjustments], [leg.says for leg in (*rules.legs, *rules.later)],
        [rule.says for rule in rules.checks] if entry.allows else (), looks, plan.orders_say,
    ))  # fmt: skip


def turned(lives: Lives, plan: Plan, entry: EntryPlan, made: Opening, observed: Callable[[int], Observation]) -> Turn:
    """What the adjustments of an entry make of a trade, or of a stage of its life, first. ``observed``: what is seen at a
    snapshot."""
    timeline, asked = lives.timeline, list[Asked]()
    assert made.trade is not None
    ahead, trade = lives.stretch(plan, made), changed(made.trade, entry=entry.id)
    for at in _may_act(lives, plan, entry, made).tolist():
        if trade.adjusted_on == timeline.dates[int(timeline.session_of[at])]:
            continue
        place = at - made.index
        now = with_best(trade, int(ahead.best[place - 1])) if place else trade
        step = _Alone(plan, EngineState(PLENTY, 2, (now,)), observed(at))
        step.mark(trade.number)
        step.adjustments()
        asked += step.asked
        if step.at_work(trade.number, "close"):
            return Turn(None, at, asked)
        trade = changed(trade, adjusted_on=step.trades[trade.number].adjusted_on)
        orders = step.at_work(trade.number, "adjust")
        stage = _dealt(lives, plan, made, trade, orders[0], observed(at)) if orders else None
        if stage is not None:
            return Turn(stage, STAYS, asked)
    return Turn(None, STAYS, asked)


def _may_act(lives: Lives, plan: Plan, entry: EntryPlan, made: Opening) -> Ints:
    """Snapshots of a stage's longest life at which an adjustment is looked at and its condition holds."""
    ahead, timeline = lives.stretch(plan, made), lives.timeline
    here = slice(made.index, made.stop)
    may = np.zeros(made.stop - made.index, np.bool_)
    for item in entry.adjustments:
        if item.further_only:
            continue
        # a leg that is gone ends the whole life, so that only times and every snapshot are looks
        due = np.zeros(len(may), np.bool_)
        if item.every:
            due[:] = True if item.schedule.decides_single else ~timeline.is_single[here]
        looks = item.schedule.due(lives.market, lives.begin, lives.end)
        low, high = np.searchsorted(looks, (made.index, made.stop))
        due[looks[low:high] - made.index] = True
        if due.any():
            may |= due & (item.kind.test(ahead, item.rule.params) == TRUE)
    may[: made.moment & 1] = False
    return made.index + np.flatnonzero(may)


def _dealt(
    lives: Lives, plan: Plan, made: Opening, trade: TradeState, order: Order, seen: Observation
) -> Opening | None:  # fmt: skip
    """The stage that an order brings about that was decided on what was ``seen``; ``None``: it lapses."""
    timeline, market, decided = lives.timeline, lives.market, seen.index
    if timeline.is_single[decided]:
        fills = match(plan, [order], market, decided, same=True)
        return _staged(lives, plan, made, trade, order, decided, decided, fills) if fills else None
    last = int(timeline.first[int(timeline.session_of[decided]) + 1]) - 1
    stop, at = min(last + 1, made.stop), decided + 1
    while at < stop:
        # most are filled at once
        fills = match(plan, [order], market, at)
        if fills:
            return _staged(lives, plan, made, trade, order, decided, at, fills)
        at = first_event(plan, market, order, at + 1, lives.end)
    return None


def _staged(
    lives: Lives, plan: Plan, made: Opening, trade: TradeState, order: Order, decided: int, at: int, fills: Sequence[Fill]
) -> Opening:  # fmt: skip
    timeline, late = lives.timeline, at == decided
    # what was marked before the fill has had its best
    marked = at if late else at - 1
    before = with_best(trade, int(lives.stretch(plan, made).best[marked - made.index]))
    step = _Alone(plan, EngineState(PLENTY, 2, (before,), (order,)), Observation(lives.market, at))
    step.apply(fills)
    now = step.trades.get(trade.number)
    if now is None or any(expired(timeline, leg.contract, int(timeline.times[at])) for leg in now.legs):
        raise Beyond
    closing = commission(plan, [(leg.contract, leg.contracts) for leg in now.legs])
    stage = dataclasses.replace(
        made, asked=order, moment=moment(at, late), decided=decided, trade=now, index=at,
        amounts=[cents_of(entry.amount) for entry in step.entries_made], costs=cents_of(closing), before=made,
        carry=_carry(lives.stretch(plan, made), made, now.legs, at), ends=None,
    )  # fmt: skip
    lives.live(plan, stage)
    return stage


def _carry(ahead: Stretch, made: Opening, legs: Sequence[LegState], at: int) -> list[int]:
    """The mids of legs before a snapshot, in parts; what those were opened for that were not there."""
    before = {
        (leg.leg_id, leg.contract): carried_at(leg.bid, leg.ask, leg.valid, carry, at - 1 - made.index)
        for leg, carry in zip(ahead.legs, made.carry, strict=True)
    }
    return [int(before.get((leg.leg_id, leg.contract), leg.opened_parts)) for leg in legs]


class _Alone(Decisions):
    """Work of one snapshot on one trade, as though nothing else were there."""

    def __init__(self, plan: Plan, state: EngineState, observation: Observation) -> None:
        super().__init__(plan, state, observation)
        self.asked: list[Asked] = []

    def account(self, entry: str) -> Account:
        return NOBODY

    def unaffordable(self, trade: TradeState, legs: Sequence[OrderLeg]) -> None:
        self.asked.append(Asked(self.index, self.needed_with(trade, legs)))

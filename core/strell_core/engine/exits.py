"""What a trade's exits would close, each as one question over a stretch: sentences, and stops that were set."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

import numpy as np

from strell_core.engine.plan import ActiveExit, Plan
from strell_core.engine.settlement import expired
from strell_core.engine.state import LegStop, TradeState
from strell_core.market.timeline import Timeline
from strell_core.measures.frames import FALSE, TRUE, Stretch, Truths
from strell_core.strategy.actions import Close, Consequence


@dataclass(frozen=True)
class ExitWish:
    """An exit that may act on a trade now: its legs are held, and none of them is being closed."""

    rule: str
    kind: str
    closes: Close
    legs: tuple[str, ...]
    then: tuple[Consequence, ...]
    by: ActiveExit | LegStop

    def test(self, stretch: Stretch) -> Truths:
        """Truths ``(n,)`` over a stretch of the whole position."""
        if isinstance(self.by, LegStop):
            return _stopped(stretch, self.by)
        return self.by.kind.test(self._own(stretch), self.by.rule.params)

    def first_true(self, stretch: Stretch) -> int:
        """The first place at which it is true over a stretch of the whole position; -1: at none."""
        if isinstance(self.by, LegStop):
            hits = np.flatnonzero(self.test(stretch) == TRUE)
            return int(hits[0]) if len(hits) else -1
        return self.by.kind.first_true(self._own(stretch), self.by.rule.params)

    def values(self, stretch: Stretch) -> dict[str, Any]:
        """The numbers at the stretch's first snapshot."""
        if isinstance(self.by, LegStop):
            leg = stretch.leg(self.by.leg_id)
            assert leg is not None
            mid = (int(leg.bid[0]) + int(leg.ask[0])) // 2
            return {"leg": self.by.leg_id, "price": mid, "stop": self.by.parts}
        return self.by.kind.values(self._own(stretch), self.by.rule.params, 0)

    def _own(self, stretch: Stretch) -> Stretch:
        asks_all = isinstance(self.by, ActiveExit) and self.by.kind.asks_all
        return stretch.narrow(self.legs) if self.closes.legs and not asks_all else stretch


def waiting(timeline: Timeline, trade: TradeState, instant: int) -> set[str]:
    """Legs that have come to their settlement and wait for its value: nothing closes them any more."""
    return {leg.leg_id for leg in trade.legs if expired(timeline, leg.contract, instant)}


def wishes(plan: Plan, trade: TradeState, working: Collection[str]) -> tuple[ExitWish, ...]:
    """Exits of a trade in their order of precedence; ``working``: legs that an order is closing already, or that wait
    for their settlement value.

    An exit of legs of which one is gone or being closed asks nothing; neither does one of a share that has acted.
    """
    entry, held = plan.entry(trade.entry), tuple([leg.leg_id for leg in trade.legs])
    # most trades most of the time: they ask the same again
    usual = not (working or trade.stops or trade.acted)
    if usual and held in entry.wishes:
        found: tuple[ExitWish, ...] = entry.wishes[held]
        return found
    out, of_legs = [], []
    for item in entry.exits:
        legs = item.closes.legs or held
        if item.closes == Close():
            out.append(ExitWish(item.rule.id, item.way, item.closes, held, item.then, item))
        elif set(legs) <= set(held) and not set(legs) & set(working) and item.rule.id not in trade.acted:
            of_legs.append(ExitWish(item.rule.id, item.way, item.closes, legs, item.then, item))
    for stop in trade.stops:
        if stop.leg_id in held and stop.leg_id not in working:
            of_legs.append(ExitWish(stop.rule, "loss", Close((stop.leg_id,)), (stop.leg_id,), (), stop))
    made = (*out, *sorted(of_legs, key=lambda wish: wish.kind != "loss"))
    if usual:
        entry.wishes[held] = made
    return made


def _stopped(stretch: Stretch, stop: LegStop) -> Truths:
    """A short leg's mid at or above its stop, a long leg's at or below it."""
    leg = stretch.leg(stop.leg_id)
    if leg is None:
        return np.full(len(stretch.mid), FALSE, np.int8)
    mid = (leg.bid + leg.ask) // 2
    reached = mid >= stop.parts if leg.contracts < 0 else mid <= stop.parts
    truths: Truths = stretch.judged(reached, leg.valid)
    return truths


def first_true(plan: Plan, trade: TradeState, stretch: Stretch, working: Collection[str]) -> int | None:
    """Place in a stretch of the first snapshot at which an exit is true; ``None``: at none."""
    found = (wish.first_true(stretch) for wish in wishes(plan, trade, working))
    return min((place for place in found if place >= 0), default=None)

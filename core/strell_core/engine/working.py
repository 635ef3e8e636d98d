"""How limit orders are worked: whose turn of an order's legs it is, and how far its limit has gone (semantics rule 8)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

from strell_core.engine.state import Order, OrderLeg
from strell_core.market.prices import PARTS
from strell_core.market.timeline import Timeline
from strell_core.measures.frames import Params
from strell_core.strategy.document import Rule, Strategy


@dataclass(frozen=True)
class Patience:
    """A limit that starts at a share of the way from mid to the other side, in percent, and goes further in steps of so
    many seconds of sessions."""

    start: int
    step: int
    seconds: int
    most: int
    entry: str
    exit: str

    @classmethod
    def of(cls, params: Params) -> Patience:
        return cls(
            params["start"], params["step"], 60 * params["minutes"], params["most"], params["entry"], params["exit"]
        )

    @cached_property
    def steps(self) -> int:
        """After the first limit."""
        way = self.most - self.start
        return -(-way // self.step) if way > 0 and self.step > 0 else 0

    @cached_property
    def whole(self) -> int:
        """Seconds from its first limit to the end of its last one."""
        return (self.steps + 1) * self.seconds

    def stood(self, elapsed: int | None) -> int:
        """The share of the limit that stood until ``elapsed`` seconds after it was first set; ``None``: it has had all
        its time."""
        return self._share(self.steps if elapsed is None else -(-elapsed // self.seconds) - 1)

    def stands(self, elapsed: int) -> int:
        """The share of the limit that stands from ``elapsed`` seconds on."""
        return self._share(self.reached(elapsed))

    def reached(self, elapsed: int) -> int:
        """The step that stands from ``elapsed`` seconds on; one more than all of them: its time is over."""
        return min(elapsed // self.seconds, self.steps + 1)

    def _share(self, step: int) -> int:
        step = max(0, min(step, self.steps))
        return self.start if step == 0 else min(self.most, self.start + step * self.step)

    def crosses(self, order: Order) -> bool:
        """Whether an order takes the other side in the end."""
        return (self.exit if order.purpose == "close" else self.entry) == "cross"

    def gives_up(self, order: Order) -> bool:
        return order.purpose != "close" and order.type == "limit" and self.entry == "give_up"


@dataclass(frozen=True)
class Working:
    """What a sheet says of working its orders."""

    patience: Patience | None
    by_leg: Rule | None

    @classmethod
    def of(cls, strategy: Strategy) -> Working:
        patience, by_leg = strategy.working.get("patience"), strategy.working.get("leg_by_leg")
        return cls(None if patience is None else Patience.of(patience.params), by_leg)

    @property
    def plain(self) -> bool:
        """All legs at once, on the first quotes."""
        return self.patience is None and self.by_leg is None

    def turn(self, order: Order, legs: Sequence[OrderLeg]) -> Sequence[OrderLeg]:
        """Those of the legs that are left of an order which are dealt next: what is bought before what is sold."""
        if self.by_leg is None or order.type == "market" or order.purpose == "adjust":
            return legs
        found = [leg for leg in legs if leg.contracts > 0] or legs
        return found[:1] if self.by_leg.params["how"] == "each" else found

    def given_up_at(self, clock: Timeline, order: Order) -> int | None:
        """First snapshot of the clock at which an order has had all its time and is given up; ``None``: it never is."""
        if self.patience is None or not self.patience.gives_up(order):
            return None
        return clock.after_trading(order.turn, self.patience.whole)


def waited(clock: Timeline, order: Order, index: int) -> int | None:
    """Seconds of sessions that an order, or the legs whose turn it is, has been at work at a snapshot; ``None``: a
    session that has but one snapshot, which is all the time there is."""
    decided = clock.at_or_before(order.turn)
    if clock.is_single[decided] or clock.is_single[index]:
        return None
    return clock.traded_between(decided, index)


def limit_of(legs: Sequence[OrderLeg], lots: int, prices: Sequence[int]) -> int:
    """What dealing at prices in parts costs at most, in parts times contracts (taken in: negative): a lot's in whole
    quanta, rounded so that it costs no more."""
    cost = cost_of(legs, prices)
    return cost // (lots * PARTS) * PARTS * lots


def cost_of(legs: Sequence[OrderLeg], prices: Sequence[int]) -> int:
    """What dealing costs, parts times contracts; the underlying itself included."""
    return sum(leg.contracts * price for leg, price in zip(legs, prices, strict=True))

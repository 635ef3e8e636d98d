"""The life of a trade by itself: what comes of an order to open, and of leaving at any snapshot after it.

A trade that no limit, assignment or split touches lives the same life in whatever company: its fill follows
from its order, each of its exits is first true at some snapshot, the earliest of them closes it at the next usable
quotes. So what variants of rules have in common is computed once (:mod:`strell_core.engine.variants`). Whatever is not
so simple raises :class:`Beyond`, and the run itself has to tell (:func:`strell_core.engine.run.run_blocks`), which stays
the specification.
"""

from __future__ import annotations

import dataclasses
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from fractions import Fraction
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt

from strell_core.engine import capital
from strell_core.engine.ahead import settlement_index
from strell_core.engine.changed import changed
from strell_core.engine.dealing import opened
from strell_core.engine.fills import fill_price, first_event, match
from strell_core.engine.known import STAYS
from strell_core.engine.marks import carried_over, stretch
from strell_core.engine.pieces import closed_pieces
from strell_core.engine.plan import Plan
from strell_core.engine.run import History, step
from strell_core.engine.settlement import expired
from strell_core.engine.state import EngineState, Fill, Order, OrderLeg, TradeState
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Market
from strell_core.market.prices import PARTS, cent_of_part, cents
from strell_core.market.view import Quote
from strell_core.measures.frames import Params, Stretch
from strell_core.strategy.kinds import Exit

Ints = npt.NDArray[np.int64]
Floats = npt.NDArray[np.float64]
PLENTY = Decimal(10) ** 15
"""Cash with which a trade by itself is never called."""
STRETCHES_MB = 64
"""Memory for the last stretches, in which exits are looked for."""


class Beyond(Exception):
    """A trade's life depends on more than its own rules and quotes."""


def moment(index: int, late: bool) -> int:
    """When something happened on a snapshot: before its decisions, or after them (sessions with a single snapshot)."""
    return 2 * index + late


@dataclass(frozen=True)
class End:
    """How a trade ended."""

    index: int
    moment: int
    settles: bool
    """It was not dealt."""
    held: int
    """At so many of its session ends it was there, as marked; ..."""
    watched: int
    """... and at so many as capital was compared, before fills on the same snapshot."""
    amounts: Sequence[int]
    """Cents that its end moved, as they are booked."""


class Values(NamedTuple):
    """What a trade is worth at some snapshots."""

    by_leg: Floats
    """Each of its legs, money ``(legs, n)``."""
    worth: Floats
    """All of it, as capital is compared with it, ``(n,)``."""
    needed: Floats
    """Capital that it needs, money ``(n,)``."""


Ends = tuple[Values, dict[ContractKey, Ints]]
"""Of a trade at its session ends, with the mids of its contracts there."""


@dataclass(eq=False)
class Opening:
    """What came of an order to open."""

    asked: Order
    moment: int
    """When it was filled; where it lapsed, when it was gone; never, where the run ended before."""
    decided: int
    """Snapshot at which it was."""
    trade: TradeState | None = None
    index: int = 0
    amounts: Sequence[int] = ()
    """Cents that were moved, as they are booked, its commission last."""
    stop: int = 0
    """Snapshot at which it settles, or the end."""
    usable: npt.NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, np.bool_))
    """By snapshot from the fill on, whether all legs can be dealt."""
    closes: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    """Last snapshots of sessions in its longest life."""
    unwatched: int = 0
    """How many of these come before its fill: the one on which it was filled after decisions."""
    first_session: int = 0
    costs: int = 0
    """Cents that dealing in all of it again costs."""
    carry: Sequence[int] = ()
    """By leg, its mid before the fill in parts; what it was opened for, where it was opened by it."""
    ends: Ends | None = None
    before: Opening | None = None
    """What an adjustment made this of: a stage of the same trade's life, which ``moment``, ``decided``, ``index`` and ``amounts``
    are those of."""

    @property
    def stages(self) -> list[Opening]:
        """All stages up to this one."""
        return [*(self.before.stages if self.before else ()), self]


class Lives:
    """Trades of one market over timeline indices ``[begin, end)``. ``plan`` is that of any variant: of an opening's plan
    only its orders and its exits matter."""

    def __init__(self, market: Market, begin: int, end: int) -> None:
        self.market, self.timeline, self.begin, self.end = market, market.main, begin, end
        self._stretches: OrderedDict[Opening, Stretch] = OrderedDict()
        self._held = 0
        self._worths: dict[int, Fraction] = {}

    def opened(
        self, plan: Plan, least: int | None, index: int, legs: Sequence[OrderLeg], lots: int, filled: int | None = None
    ) -> Opening:  # fmt: skip
        """What comes of an order decided at a snapshot that is not the last of several of its session, for which a fill has to bring
        at ``least`` so much; ``filled``: where that is known to be."""
        timeline = self.timeline
        order = Order(
            "1-open", "open", 1, lots, tuple(legs), int(timeline.times[index]),
            timeline.dates[int(timeline.session_of[index])], "", {}, least=least,
        )  # fmt: skip
        if timeline.is_single[index]:
            fills = match(plan, [order], self.market, index, same=True)
            return (
                self._filled(plan, order, index, index, fills) if fills else Opening(order, moment(index, True), index)
            )
        last = int(timeline.first[int(timeline.session_of[index]) + 1]) - 1
        if filled is not None:
            return self._filled(plan, order, index, filled, match(plan, [order], self.market, filled))
        at = index + 1
        while (at := first_event(plan, self.market, order, at, self.end)) <= last and at < self.end:
            fills = match(plan, [order], self.market, at)
            if fills:
                return self._filled(plan, order, index, at, fills)
            at += 1
        return Opening(order, moment(last, False) if last < self.end else STAYS, index)

    def _filled(self, plan: Plan, order: Order, decided: int, at: int, fills: Sequence[Fill]) -> Opening:
        timeline = self.timeline
        fill, day = fills[0], timeline.dates[int(timeline.session_of[at])]
        worth, costs = self._worth(timeline.multiplier(day)), cents_of(fill.commission)
        premiums = [cents(-leg.contracts * parts, worth) for leg, parts in zip(order.legs, fill.prices, strict=True)]
        trade = changed(opened(order, fill, order.lots, day), costs=fill.commission)
        if any(expired(timeline, leg.contract, int(timeline.times[at])) for leg in trade.legs):
            raise Beyond
        made = Opening(
            order, moment(at, at == decided), decided, trade, at, [*premiums, -costs], costs=costs,
            carry=fill.prices,
        )  # fmt: skip
        self.live(plan, made)
        return made

    def live(self, plan: Plan, made: Opening) -> None:
        """What follows for a trade, or a stage of its life, from its legs."""
        timeline, began = self.timeline, made.stages[0]
        assert made.trade is not None
        made.stop = min(self.end, settlement_index(timeline, made.trade, made.index + 1))
        made.usable = self.stretch(plan, made).valued
        first, last = int(timeline.session_of[began.index]), int(timeline.session_of[made.stop - 1])
        closes = (timeline.first[first + 1 : last + 2] - 1).astype(np.int64)
        made.first_session, made.closes = first, closes[closes < made.stop]
        made.unwatched = int(len(made.closes) > 0 and began.moment > moment(int(made.closes[0]), False))

    def values(self, plan: Plan, made: Opening, at: Ints) -> Values:
        """What a trade, or a stage of its life, is worth, and the capital that it needs, at snapshots from its fill on."""
        return self._values(made, at, self._mids(plan, made, at))

    def _values(self, made: Opening, at: Ints, parts: npt.NDArray[Any]) -> Values:
        timeline, trade = self.timeline, made.trade
        assert trade is not None
        multiplier = timeline.multiplier(trade.opened_on)
        point = float(timeline.underlying.quantum)
        contracts = np.array([leg.contracts for leg in trade.legs], np.int64)
        backed = [capital.Backed(leg.contract, leg.contracts, 0) for leg in trade.legs]
        return Values(
            contracts[:, None] * parts * (point * multiplier / PARTS),
            (contracts @ parts) * (point / PARTS) * multiplier,
            capital.needed_over(timeline, at, backed, parts, multiplier),
        )

    def _mids(self, plan: Plan, made: Opening, at: Ints) -> npt.NDArray[Any]:
        """Every leg's mid in parts at snapshots of a stage, its last valid one where there is none: ``(legs, n)``."""
        legs, places = self.stretch(plan, made).legs, at - made.index
        carried = zip(legs, made.carry, strict=True)
        return np.array([carried_over(leg.bid, leg.ask, leg.valid, carry)[places] for leg, carry in carried])

    def at_closes(self, plan: Plan, made: Opening) -> Values:
        """The same at a trade's session ends, by whatever legs it had: in the order in which they go, where a stage is its last."""
        return self._ends(plan, made)[0]

    def _ends(self, plan: Plan, made: Opening) -> Ends:
        """With mids by contract; remembered."""
        if made.ends is None:
            now, trade, closes = np.searchsorted(made.closes, made.index), made.trade, made.closes
            assert trade is not None
            parts = self._mids(plan, made, closes[now:])
            found = self._values(made, closes[now:], parts)
            mids = {leg.contract: row for leg, row in zip(trade.legs, parts, strict=True)}
            made.ends = found, mids
            if made.before is not None:
                made.ends = self._with_before(made, self._ends(plan, made.before), int(now), found, mids)
        return made.ends

    def _with_before(self, made: Opening, before: Ends, now: int, found: Values, mids: dict[ContractKey, Ints]) -> Ends:
        """A stage's values from its fill on, the place ``now`` of session ends, behind those of the stage ``before``."""
        timeline, trade, closes = self.timeline, made.trade, made.closes
        assert trade is not None
        until = int(np.searchsorted(2 * closes, made.moment))
        whole = {contract: np.zeros(len(closes), np.int64) for contract in (*before[1], *mids)}
        for contract, row in before[1].items():
            whole[contract][:now] = row[:now]
        for contract, row in mids.items():
            whole[contract][now:] = row
        held = [closed for leg in trade.legs for closed in closed_pieces(leg, leg.came, 0, STAYS, "order")]
        scale = float(timeline.underlying.quantum) * timeline.multiplier(trade.opened_on) / PARTS
        by_leg = np.zeros((len(trade.closed_legs) + len(held), len(closes)))
        for place, leg in enumerate((*trade.closed_legs, *held)):
            begin, end = timeline.times.searchsorted((leg.opened_at or trade.opened_at, leg.closed_at))
            here = slice(*closes.searchsorted((begin, end)))
            by_leg[place, here] = leg.contracts * whole[leg.contract][here] * scale
        return Values(
            by_leg,
            np.concatenate([before[0].worth[:until], found.worth[until - now :]]),
            np.concatenate([before[0].needed[:until], found.needed[until - now :]]),
        ), whole

    def stretch(self, plan: Plan, made: Opening) -> Stretch:
        """A trade's marks from its fill to its settlement, remembered for a while."""
        found = self._stretches.get(made)
        if found is None:
            assert made.trade is not None
            found = stretch(plan, made.trade, self.market, made.index, made.stop)
            self._held += _bytes(found)
            while self._stretches and self._held > STRETCHES_MB * 2**20:
                self._held -= _bytes(self._stretches.popitem(last=False)[1])
        self._stretches[made] = found
        self._stretches.move_to_end(made)
        return found

    def first_true(self, plan: Plan, made: Opening, exits: Sequence[tuple[Exit, Params]]) -> list[int]:
        """Of exits the first snapshot at which each is true of a trade; never, where it is none."""
        ahead = self.stretch(plan, made)
        # what was opened after its snapshot's decisions is asked about from the next one on
        found = [exit.first_true(ahead, params, made.moment & 1) for exit, params in exits]
        return [STAYS if at < 0 else made.index + at for at in found]

    def ended(self, plan: Plan, made: Opening, left: int, urgent: bool) -> End | None:
        """How a trade ends that is left at a snapshot (never: it is not); ``None``: it is open at the end."""
        return self._dealt(plan, made, left, urgent) if left < STAYS else self._settled(plan, made)

    def _dealt(self, plan: Plan, made: Opening, left: int, urgent: bool) -> End | None:
        timeline, trade, same = self.timeline, made.trade, bool(self.timeline.is_single[left])
        assert trade is not None
        at = left if same and made.usable[left - made.index] else self._next_usable(made, left + 1)
        if at >= made.stop:
            return self._settled(plan, made)
        share = 100 if urgent else plan.strategy.orders["fill_model"]["share"]
        place, worth, amounts = at - made.index, self._worth(timeline.multiplier(trade.opened_on)), []
        for leg in self.stretch(plan, made).legs:
            quote = Quote(int(leg.bid[place]) // PARTS, int(leg.ask[place]) // PARTS, None, None)
            price = fill_price(quote, -leg.contracts, share, closes=True)
            assert price is not None
            amounts.append(cents(leg.contracts * price, worth))
        return self._end(made, at, moment(at, at == left), False, [*amounts, -made.costs])

    def _worth(self, multiplier: int) -> Fraction:
        """Cents of a part of a contract."""
        if multiplier not in self._worths:
            self._worths[multiplier] = cent_of_part(self.timeline.underlying.quantum, multiplier)
        return self._worths[multiplier]

    @staticmethod
    def _end(made: Opening, index: int, when: int, settles: bool, amounts: Sequence[int]) -> End:
        held, watched = int(made.closes.searchsorted(index)), int(made.closes.searchsorted((when + 1) // 2))
        return End(index, when, settles, held, watched, amounts)

    @staticmethod
    def _next_usable(made: Opening, index: int) -> int:
        """The first snapshot from ``index`` on at which all legs can be dealt; the stop without one."""
        ahead = made.usable[index - made.index :]
        at = int(ahead.argmax()) if len(ahead) else 0
        return index + at if len(ahead) and ahead[at] else made.stop

    def _settled(self, plan: Plan, made: Opening) -> End | None:
        trade, at = made.trade, made.stop
        assert trade is not None
        if at >= self.end:
            return None
        if len({self.timeline.settles_at(leg.contract) for leg in trade.legs}) > 1:
            raise Beyond
        alone = dataclasses.replace(plan, acts=frozenset({"leave"}))
        out = History(EngineState(PLENTY, 2, (trade,)))
        step(alone, self.market, at, out)
        if not out.closed or out.state.trades:
            raise Beyond
        return self._end(made, at, moment(at, False), True, [cents_of(entry.amount) for entry in out.entries])


def _bytes(held: Stretch) -> int:
    """About what a stretch takes: quotes of its legs, marks, masks."""
    return len(held.mid) * (17 * len(held.legs) + 26)


def cents_of(amount: Decimal) -> int:
    return int(amount * 100)

"""What the rules of open trades say at an instant: how far every exit and adjustment is, and what the latter would do."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from strell_core.engine import capital
from strell_core.engine.advance import Decisions
from strell_core.engine.exits import ExitWish, waiting, wishes
from strell_core.engine.fills import commission
from strell_core.engine.plan import EntryPlan, Plan
from strell_core.engine.state import EngineState, OrderLeg, TradeState
from strell_core.market.market import Observation
from strell_core.market.prices import money, parts_to_money
from strell_core.measures.frames import UNVALUED, Values
from strell_core.strategy.actions import Consequence
from strell_core.strategy.document import Rule


@dataclass(frozen=True)
class ExitNow:
    """An exit of a trade, what it says, and the numbers it says it of."""

    wish: ExitWish
    truth: int
    values: Values


@dataclass(frozen=True)
class Proposal:
    """An adjustment as the order it would be now."""

    legs: tuple[OrderLeg, ...]
    """Closing ones first."""
    prices: tuple[int | None, ...]
    """Of each leg, parts, where it would fill by the sheet; ``None``: it cannot be dealt now."""
    cash: float | None
    """What it brings, or costs where negative, commission included, money; ``None``: it cannot be dealt whole."""
    after: tuple[capital.Backed, ...]
    """What the trade would hold then."""
    needed: tuple[float, float]
    """Capital of the trade before and after, money."""
    refused: str
    """Why there is not the capital for it; empty: there is."""


@dataclass(frozen=True)
class AdjustmentNow:
    """An adjustment of a trade, what its condition says, and what it would do now whether or not that holds."""

    rule: Rule
    truth: int
    values: Values
    proposal: Proposal | None
    """``None``: nothing fits."""
    asked: bool
    """Whether it is looked at on this snapshot: it is one of its entry's looks, and no other acted today."""
    otherwise: tuple[Consequence, ...] | None
    """What follows after closing the position, where it cannot be done; ``None``: it is held."""


@dataclass(frozen=True)
class TradeNow:
    """An open trade at an instant."""

    trade: TradeState
    leaves_by: str | None
    """The rule by which all of it is being closed already."""
    exits: tuple[ExitNow, ...]
    """In the order in which they act."""
    adjustments: tuple[AdjustmentNow, ...]


def outlook(plan: Plan, state: EngineState, observation: Observation) -> tuple[TradeNow, ...]:
    """Of every open trade what :func:`~strell_core.engine.advance.advance` would ask on this snapshot, without doing it.

    ``state`` is the one after the snapshot, or one on the way to it. A trade of which a leg is listed no more says
    nothing of itself."""
    work = Decisions(plan, state, observation)
    out = []
    for number, trade in work.trades.items():
        try:
            work.mark(number)
        except ValueError:
            out.append(TradeNow(trade, None, (), ()))
            continue
        out.append(_of_trade(work, trade))
    return tuple(out)


def _of_trade(work: Decisions, trade: TradeState) -> TradeNow:
    busy, now = work.at_work(trade.number, "close"), work.now[trade.number]
    whole = next((order.rule for order in busy if order.whole), None)
    working = {leg.leg_id for order in busy for leg in order.legs}
    working |= waiting(work.of(trade), trade, work.observation.instant)
    exits = tuple(ExitNow(wish, int(wish.test(now)[0]), wish.values(now)) for wish in wishes(work.plan, trade, working))
    entry = work.plan.entry(trade.entry)
    return TradeNow(trade, whole, exits, _adjustments(work, trade, entry))


def _adjustments(work: Decisions, trade: TradeState, entry: EntryPlan) -> tuple[AdjustmentNow, ...]:
    now, out = work.now[trade.number], []
    busy = bool(work.at_work(trade.number, "close", "adjust")) or not work.traded(trade.legs)
    adjusted = trade.adjusted_on == work.observation.date
    for place, item in enumerate(entry.adjustments):
        rule, found = item.rule, item.kind
        due = item.due(work.market, work.index, trade) and not busy
        truth = int(found.test(now, rule.params)[0])
        legs = work.proposed(trade, entry.adjustments[place:])
        values = {} if truth == UNVALUED else found.values(now, rule.params, 0)
        proposal = _proposal(work, trade, legs) if legs else None
        out.append(
            AdjustmentNow(
                rule, truth, values, proposal, due and (item.often or not adjusted), found.otherwise(rule.params)
            )
        )
    return tuple(out)


def _proposal(work: Decisions, trade: TradeState, legs: Sequence[OrderLeg]) -> Proposal:
    plan, there = work.plan, work.of(trade)
    prices, cash = work.prices(trade, legs), None
    if None not in prices:
        parts = -sum(leg.contracts * (price or 0) for leg, price in zip(legs, prices, strict=True))
        brought = money(parts_to_money(parts, there.underlying.quantum, there.multiplier(trade.opened_on)))
        cash = float(brought - commission(plan, ((leg.contract, leg.contracts) for leg in legs)))
    refused = work.unaffordable(trade, legs)
    return Proposal(
        tuple(legs), prices, cash, tuple(work.with_legs(trade, legs)),
        (capital.of_trade(work.market, trade, work.index), work.needed_with(trade, legs)),
        "" if refused is None else str(refused["message"]),
    )  # fmt: skip

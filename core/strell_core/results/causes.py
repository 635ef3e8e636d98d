"""Where a trade's P/L came from: price, time, volatility, interest and carry, what dealing cost, and the rest.

Between two snapshots a leg's value is taken apart by revaluing it with one of its inputs moved at a time, once in the
order price, time, volatility, carry and once the other way round, and the mean of both is taken, so that no cause is
favoured by its place. Its volatility is the one that its own mid implies (Black-76 on the recorded forward), so that the
causes of a step add up to the change of its mid; what has no volatility is told as rest.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from strell_core.engine.exercise import strike_parts
from strell_core.engine.state import ClosedTrade, LegClose
from strell_core.market.instruments import Right
from strell_core.market.prices import PARTS, SPOT_SCALE
from strell_core.market.timeline import Timeline
from strell_core.market.view import valid_quotes
from strell_core.pricing.black import YEAR_SECONDS, price_many
from strell_core.pricing.implied import NO_TIME_VALUE, OK, implied_many
from strell_core.results.equity import HeldLeg, held_legs

Floats = npt.NDArray[np.float64]
CAUSES = ("price", "time", "volatility", "carry", "rest")
"""Of a leg's mid; beside them ``dealing`` (from mid to what was paid, at both ends) and ``costs`` (commissions)."""


DELIVERED = ("assignment", "exercise")
SETTLED = ("settlement", *DELIVERED)
"""How a leg ends at what its payoff says."""


@dataclass(frozen=True)
class Causes:
    """A trade's P/L in money by cause."""

    begin: int
    """Timeline index of its entry."""
    legs: Floats
    """``(legs, causes)`` over its whole life, in the order of CAUSES."""
    dealing: Floats
    """``(legs,)``: what lay between mid and the prices at which it was opened and closed. An option that was exercised is
    gone for nothing and its units come, or go, at the strike: what it was worth then stands with it and, the other way
    round, with them."""
    costs: float
    """Commissions, and where a trade has them dividends and what else is no price of a leg; signed."""
    course: Floats
    """``(causes, n)``: sums over all legs up to each snapshot from the entry to the exit."""
    vols: Floats
    """``(legs, n)``: volatility that each leg's mid implies, NaN where it has none or is not held."""

    @property
    def total(self) -> dict[str, float]:
        """By cause, adding up to the trade's net P/L."""
        sums = dict(zip(CAUSES, self.legs.sum(axis=0).tolist(), strict=True))
        return {**sums, "dealing": float(self.dealing.sum()), "costs": self.costs}


def causes(timeline: Timeline, trade: ClosedTrade) -> Causes:
    begin = int(np.searchsorted(timeline.times, trade.opened_at))
    end = int(np.searchsorted(timeline.times, trade.closed_at)) + 1
    held = held_legs(timeline, trade.legs, trade.opened_at)
    parts, dealing = np.zeros((len(held), len(CAUSES))), np.zeros(len(held))
    course, vols = np.zeros((len(CAUSES), end - begin)), np.full((len(held), end - begin), np.nan)
    for number, item in enumerate(held):
        worth = float(timeline.underlying.quantum) * timeline.underlying.on(item.opened_on).multiplier / PARTS
        found, vol, paid = _leg(timeline, item)
        parts[number] = item.leg.contracts * worth * found.sum(axis=1)
        dealing[number] = item.leg.contracts * worth * paid
        first = item.begin - begin
        last = first + 1 + found.shape[1]
        course[:, first + 1 : last] += item.leg.contracts * worth * np.cumsum(found, axis=1)
        course[:, last:] += parts[number][:, None]
        vols[number, first:last] = vol
    costs = float(trade.pnl) - float(parts.sum() + dealing.sum())
    return Causes(begin, parts, dealing, costs, course, vols)


def _leg(timeline: Timeline, held: HeldLeg) -> tuple[Floats, Floats, float]:
    """Of one contract in parts: every step's change by cause ``(causes, steps)``, its volatilities ``(steps + 1,)``, and
    what its two prices lay off its mids. The last step leads to the snapshot at which it was closed, or to its
    settlement."""
    leg = held.leg
    stop = min(held.end + 1, len(timeline.times))
    worth = _worth(timeline, leg, stop - 1) if leg.how in SETTLED else None
    bid, ask = timeline.quotes(leg.contract, held.begin, stop)
    valid = valid_quotes(bid, ask)
    mid = np.where(valid, (bid + ask) / 2.0, np.nan)
    if worth is not None:
        mid[-1] = worth
    first = mid[0] if valid[0] else float(leg.opened_parts)
    last = np.maximum.accumulate(np.where(np.isnan(mid), 0, np.arange(len(mid))))
    mid = np.where(np.isnan(mid[last]), first, mid[last])
    paid = (mid[0] - leg.opened_parts) + (leg.closed_parts - mid[-1])
    steps = np.zeros((len(CAUSES), len(mid) - 1))
    if leg.contract.is_unit:
        steps[0] = np.diff(mid)
        return steps, np.full(len(mid), np.nan), float(paid)
    inputs = _inputs(timeline, held, stop, mid, valid, worth)
    if inputs is None:
        steps[-1] = np.diff(mid)
        return steps, np.full(len(mid), np.nan), float(paid)
    known = _known(inputs)
    value = _value(timeline, held, inputs)
    for order in ((0, 1, 2, 3), (3, 2, 1, 0)):
        now, before = [item[:-1] for item in inputs], value[:-1]
        for cause in order:
            now[cause] = inputs[cause][1:]
            after = _value(timeline, held, now)
            steps[cause] += np.where(known, after - before, 0.0) / 2.0
            before = after
    steps[-1] = np.diff(mid) - steps[:-1].sum(axis=0)
    shown = np.where(valid, inputs[2], np.nan)
    if worth is not None:
        shown[-1] = np.nan
    return steps, shown, float(paid)


def _known(inputs: Sequence[Floats]) -> npt.NDArray[np.bool_]:
    """Steps of which both ends have every input."""
    good = np.logical_and.reduce([np.isfinite(item) for item in inputs])
    return good[:-1] & good[1:]


def _inputs(
    timeline: Timeline, held: HeldLeg, stop: int, mid: Floats, valid: npt.NDArray[np.bool_], worth: float | None
) -> list[Floats] | None:
    """Price of the underlying, years left, volatility, and what carry makes of the price (forward ÷ price), each
    ``(n,)``. The last two are carried on where a snapshot has none. ``worth``: in parts what it ended at, of a leg that
    ended at its payoff."""
    contract = held.leg.contract
    cube = timeline.cubes.get(contract.expiration)
    if cube is None:
        return None
    here = np.arange(held.begin, stop)
    spot = timeline.spot[here] / SPOT_SCALE
    years = np.maximum(timeline.settles_at(contract) - timeline.times[here], 0) / YEAR_SECONDS
    at = np.clip(here - cube.start, 0, cube.end - cube.start - 1)
    recorded = (here >= cube.start) & (here < cube.end)
    carry = np.where(recorded, cube.forward[at] / spot, np.nan)
    discount = np.exp(-_rate(timeline, held) * years)
    prices = mid * float(timeline.underlying.quantum) / PARTS / discount
    good = valid & np.isfinite(carry) & (years > 0)
    sign = np.full(len(here), Right(contract.right).sign, np.int64)
    vol = np.full(len(here), np.nan)
    if good.any():
        strike = np.full(int(good.sum()), float(contract.strike))
        found, state = implied_many(prices[good], (carry * spot)[good], strike, years[good], sign[good])
        vol[good] = np.where((state == OK) | (state == NO_TIME_VALUE), found, np.nan)
    if worth is not None:
        years[-1], carry[-1], spot[-1] = 0.0, 1.0, _settled_at(timeline, held, worth, spot)
    return [spot, years, _carried(vol), _carried(carry)]


def _worth(timeline: Timeline, leg: LegClose, index: int) -> float:
    """In parts what a leg ended at: the cash that came of it, or, where units did, what exercising it was worth at the
    snapshot at which they came."""
    if leg.how not in DELIVERED:
        return float(leg.closed_parts)
    price = int(timeline.spot[index]) * timeline.spot_parts
    return float(max(0, Right(leg.contract.right).sign * (price - strike_parts(leg.contract, timeline))))


def _settled_at(timeline: Timeline, held: HeldLeg, worth: float, spot: Floats) -> float:
    """The underlying's price that a leg was settled at, as far as what it was worth tells it: in the money exactly, else
    the one recorded then or last before."""
    if worth > 0:
        points = worth * float(timeline.underlying.quantum) / PARTS
        return float(held.leg.contract.strike) + Right(held.leg.contract.right).sign * points
    then = held.end < len(timeline.times) and int(timeline.times[held.end]) == held.leg.closed_at
    return float(spot[-1] if then or len(spot) < 2 else spot[-2])


def _carried(values: Floats) -> Floats:
    last = np.maximum.accumulate(np.where(np.isnan(values), 0, np.arange(len(values))))
    return values[last]


def _rate(timeline: Timeline, held: HeldLeg) -> float:
    """Interest for the leg as known when it was opened."""
    return timeline.underlying.interest(
        timeline.dates[int(timeline.session_of[held.begin])], held.leg.contract.expiration
    )


def _value(timeline: Timeline, held: HeldLeg, inputs: Sequence[Floats]) -> Floats:
    """Black-76 value in parts."""
    spot, years, vol, carry = inputs
    n = len(spot)
    sign = np.full(n, Right(held.leg.contract.right).sign, np.int64)
    strike = np.full(n, float(held.leg.contract.strike))
    clean = [np.nan_to_num(item, nan=0.0) for item in (spot * carry, years, vol)]
    clean[0] = np.maximum(clean[0], 1e-9)
    made = price_many(clean[0], strike, clean[1], clean[2], _rate(timeline, held), sign)
    return np.asarray(made * PARTS / float(timeline.underlying.quantum), np.float64)

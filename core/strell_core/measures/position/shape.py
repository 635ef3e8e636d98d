"""What a position is made of now: the capital it takes, its sides, its break-evens, how wide it is quoted."""

import math
from collections.abc import Callable

import numpy as np

from strell_core.margin import strategy_based as margin
from strell_core.market.instruments import Right
from strell_core.market.prices import PARTS, SPOT_SCALE
from strell_core.measures.declaration import Declaration
from strell_core.measures.frames import PositionLeg, Stretch
from strell_core.measures.measure import Params, PositionMeasure, Series, measures
from strell_core.pricing.payoff import crossings

CAPITAL = Declaration(
    id="position_capital", usual=("above", 10000), section="measure", title="Capital of the position", sentence="the capital the position takes", params=(),
    explains="By the strategy-based rules with its legs at mid, in money. Unvalued while a leg has no valid quote.",
    example="the capital the position takes", words=("margin", "buying power", "requirement"), scope="position", clock="snapshot", unit="money",
    grid=0.01, price_basis="mid",
)  # fmt: skip
BALANCE = Declaration(
    id="position_balance", usual=("at least", 0.8), section="measure", title="Balance of the sides", sentence="the balance of calls and puts", params=(),
    explains="Net value of the calls against that of the puts at mid: the smaller divided by the larger, both taken without sign; 1 is even. "
    "Unvalued without both sides, while the larger is nothing, and while a leg has no valid quote.",
    example="the balance of calls and puts", words=("side balance", "call side", "put side", "straddle"), scope="position", clock="snapshot",
    grid=0.0001, price_basis="mid",
)  # fmt: skip
BREAK_EVEN = Declaration(
    id="break_even_distance", usual=("below", 0), section="measure", title="Distance to a break-even", sentence="the distance to the nearest break-even", params=(),
    explains="From the underlying's price to the nearest price at which the whole trade, realised parts included and costs not, breaks even at "
    "expiration, in percent of the price: positive while it would end in profit at today's price, negative beyond. Unvalued for "
    "legs that expire apart, and for a trade that has no break-even.",
    example="the distance to the nearest break-even", words=("breakeven", "tent", "profit zone"), scope="position", clock="snapshot", unit="%",
    grid=0.01,
)  # fmt: skip
WIDTH = Declaration(
    id="position_width", usual=("above", 30), section="measure", title="Width of the quotes", sentence="the width of the quotes in % of the premium", params=(),
    explains="Asks less bids of all options together, in percent of the opening premium without sign. Unvalued when that was zero, and "
    "while a leg has no valid quote.",
    example="the width of the quotes in % of the premium", words=("spread", "bid–ask", "liquidity"), scope="position", clock="snapshot",
    unit="%", grid=0.01,
)  # fmt: skip


def _options(stretch: Stretch) -> list[PositionLeg]:
    return [leg for leg in stretch.legs if not leg.contract.is_unit]


def _point(stretch: Stretch) -> float:
    """Points of one part."""
    return float(stretch.timeline.underlying.quantum) / PARTS


def _required(stretch: Stretch) -> tuple[list[margin.Leg], float, float]:
    """What the margin rules take: options without their marks, contracts of units, the share of the underlying's value."""
    timeline = stretch.timeline
    legs = [margin.Leg.of(leg.contract, leg.contracts, timeline.settles_at) for leg in _options(stretch)]
    units = sum(leg.contracts / leg.contract.divisor for leg in stretch.legs if leg.contract.is_unit)
    return legs, units, margin.share_of(timeline.underlying.kind)


def capital(stretch: Stretch, params: Params) -> Series:
    (legs, units, share), point, n = _required(stretch), _point(stretch), len(stretch.mid)
    marks = np.array([(leg.bid + leg.ask) // 2 * point for leg in _options(stretch)]).reshape(len(legs), n)
    spot = stretch.spot.astype(np.float64) / SPOT_SCALE
    if units:
        found = np.full(n, np.nan)
        for row in np.flatnonzero(stretch.valued).tolist():
            now = [leg._replace(mark=mark) for leg, mark in zip(legs, marks[:, row].tolist(), strict=True)]
            found[row] = margin.capital(now, float(spot[row]), share, units)
    else:
        found = np.where(stretch.valued, margin.capital_over(legs, marks, spot, share), np.nan)
    return found * (stretch.worth / point)


def capital_as_opened(stretch: Stretch) -> float:
    """What the legs that are held took, in money: at the prices they were opened at and the underlying's price at the
    first fill. NaN where that is not recorded, and where they take none."""
    if stretch.opened_place is None:
        return math.nan
    (legs, units, share), point = _required(stretch), _point(stretch)
    timeline = stretch.timeline
    spot = float(timeline.spot[stretch.opened_place]) / SPOT_SCALE * float(stretch.since(stretch.opened_place)[0])
    paid = [leg._replace(mark=held.opened_parts * point) for leg, held in zip(legs, _options(stretch), strict=True)]
    return margin.capital(paid, spot, share, units) * stretch.worth / point or math.nan


def most(stretch: Stretch) -> float:
    """The most a trade can make from here to the expiration of its legs, in money, realised parts included and costs
    not. NaN where it is unbounded, for legs that expire apart, and where there is none."""
    found = _ending(stretch)
    if found is None:
        return math.nan
    grid, value = found
    ups = [leg for leg in stretch.legs if leg.contract.is_unit or leg.contract.right == "call"]
    if sum(leg.contracts / leg.contract.divisor for leg in ups) > 0:
        return math.nan
    points = float(value(grid).max())
    return points * stretch.worth / _point(stretch) if points > 0 else math.nan


def _ending(stretch: Stretch) -> tuple[Series, Callable[[Series], Series]] | None:
    """Prices between which what the whole trade makes in points is straight, and what it makes when the underlying
    ends there; ``None`` for legs that expire apart, and for none."""
    options = _options(stretch)
    if len({leg.contract.expiration for leg in options}) != 1:
        return None
    # what was made and paid, whatever quotes say now
    now = sum(leg.contracts * ((int(leg.bid[0]) + int(leg.ask[0])) >> 1) for leg in stretch.legs)
    made = (int(stretch.mid[0]) - now) * _point(stretch)
    strikes = [float(leg.contract.strike) for leg in options]

    def value(end: Series) -> Series:
        total = np.full(len(end), made)
        for leg in stretch.legs:
            if leg.contract.is_unit:
                total += leg.contracts / leg.contract.divisor * end
            else:
                sign = Right(leg.contract.right).sign
                total += leg.contracts * np.maximum(0.0, sign * (end - float(leg.contract.strike)))
        return total

    # straight pieces between the strikes, and far beyond them
    far = 4 * max(*strikes, float(stretch.spot.max()) / SPOT_SCALE)
    return np.unique(np.array([0.0, *strikes, far])), value


def balance(stretch: Stretch, params: Params) -> Series:
    side = {right: np.zeros(len(stretch.mid)) for right in ("call", "put")}
    for leg in _options(stretch):
        side[leg.contract.right] += leg.contracts * (leg.bid + leg.ask)
    found = np.full(len(stretch.mid), np.nan)
    if len({leg.contract.right for leg in _options(stretch)}) == 2:
        calls, puts = (np.abs(value) for value in side.values())
        large = np.maximum(calls, puts)
        there = stretch.valued & (large > 0)
        found[there] = np.minimum(calls, puts)[there] / large[there]
    return found


def break_even(stretch: Stretch, params: Params) -> Series:
    found, nowhere = _ending(stretch), np.full(len(stretch.mid), np.nan)
    if found is None:
        return nowhere
    grid, value = found
    spot = stretch.spot.astype(np.float64) / SPOT_SCALE
    places = crossings(grid, value(grid))
    if not places:
        return nowhere
    away = np.abs(spot[:, None] - np.array(places)).min(axis=1)
    distance: Series = np.where(value(spot) > 0, 1, -1) * away / spot * 100
    return distance


def width(stretch: Stretch, params: Params) -> Series:
    total = np.zeros(len(stretch.mid))
    for leg in _options(stretch):
        total += abs(leg.contracts) * (leg.ask - leg.bid)
    premium = abs(stretch.opening) or math.nan
    return np.where(stretch.valued, 100 * total / premium, np.nan)


for _declaration, _series in ((CAPITAL, capital), (BALANCE, balance), (BREAK_EVEN, break_even), (WIDTH, width)):
    measures.register(PositionMeasure(_declaration, _series))

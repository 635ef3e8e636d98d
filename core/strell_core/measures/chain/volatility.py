"""Implied volatility of the chain now: its level at a maturity, its slope over time, its skew, the move it expects."""

import math

from strell_core.market.prices import SPOT_SCALE
from strell_core.market.view import ChainView
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.measure import ChainMeasure, Params, measures
from strell_core.measures.smiles import Smile, at_the_money, by_delta, mixed, nearest, straddle

LEVEL = Declaration(
    id="iv_now", usual=("above", 20), section="measure", title="At-the-money IV now", sentence="at-the-money IV over {days} days",
    params=(Param("days", "integer", "Days", 30, 1, 730),),
    explains="Implied volatility in percent at the forward, mixed between the two expirations around so many days linearly "
    "in total variance; outside of the listed ones that of the nearest. At this snapshot.",
    example="at-the-money IV over 30 days", words=("implied volatility", "constant maturity", "level"), clock="snapshot", unit="%", grid=0.01, needs=("chain",),
)  # fmt: skip
SLOPE = Declaration(
    id="term_slope", usual=("above", 0), section="measure", title="Slope of the term structure", sentence="IV over {near} days less IV over {far} days",
    params=(Param("near", "integer", "Near", 10, 1, 730), Param("far", "integer", "Far", 45, 1, 730)),
    explains="At-the-money IV at the near maturity less that at the far one, in points of volatility: above 0 the front is the "
    "dearer.",
    example="IV over 10 days less IV over 45 days", words=("term structure", "backwardation", "contango", "front IV", "back IV"),
    clock="snapshot", unit="vol. points", grid=0.01, needs=("chain",),
)  # fmt: skip
SKEW = Declaration(
    id="skew", usual=("above", 5), section="measure", title="Skew", sentence="the {delta}-delta skew over {days} days",
    params=(Param("delta", "integer", "Delta", 25, 5, 45, 5), Param("days", "integer", "Days", 30, 1, 730)),
    explains="IV of the put of so many hundredths of delta less that of the call, in points of volatility, mixed linearly between "
    "the two expirations around so many days.",
    example="the 25-delta skew over 30 days", words=("risk reversal", "smile", "put skew"), clock="snapshot", unit="vol. points", grid=0.01,
    needs=("chain",),
)  # fmt: skip
MOVE = Declaration(
    id="expected_move", usual=("above", 3), section="measure", title="Expected move", sentence="the expected move over {days} days ({by}) in {unit}",
    params=(
        Param("days", "integer", "Days", 30, 1, 730),
        Param("by", "choice", "By", "straddle", choices={"straddle": "straddle", "deviation": "one standard deviation"}),
        Param("unit", "choice", "In", "percent", choices={"percent": "%", "points": "points"}),
    ),
    explains="Straddle: mid of call and put at the strike nearest to the forward, in the expiration nearest to so many days. "
    "One standard deviation: spot × at-the-money IV over so many days × √(days ÷ 365). In points, or in percent of spot.",
    example="the expected move over 30 days (straddle) in %", words=("straddle price", "implied move", "standard deviation"), clock="snapshot",
    grid=0.01, needs=("chain",),
)  # fmt: skip


def level(view: ChainView, params: Params) -> float:
    return mixed(view, params["days"], at_the_money, True)


def slope(view: ChainView, params: Params) -> float:
    return mixed(view, params["near"], at_the_money, True) - mixed(view, params["far"], at_the_money, True)


def skew(view: ChainView, params: Params) -> float:
    delta = params["delta"] / 100

    def of(found: Smile) -> float:
        return by_delta(view, found.expiration, "put", delta) - by_delta(view, found.expiration, "call", delta)

    return mixed(view, params["days"], of, False)


def expected_move(view: ChainView, params: Params) -> float:
    spot = view.spot / SPOT_SCALE
    days, expiration = params["days"], nearest(view, params["days"])
    if params["by"] == "straddle":
        points = math.nan if expiration is None else straddle(view, expiration)
    else:
        points = spot * mixed(view, days, at_the_money, True) / 100 * math.sqrt(days / 365)
    return points if params["unit"] == "points" else 100 * points / spot


for _declaration, _value in ((LEVEL, level), (SLOPE, slope), (SKEW, skew), (MOVE, expected_move)):
    measures.register(ChainMeasure(_declaration, _value))

"""Strikes by a value of the market or of the legs that were picked before: at a level, at a premium, so many points out."""

import math
from collections.abc import Callable

import numpy as np

from strell_core.market.prices import SPOT_SCALE
from strell_core.market.view import ChainView, ExpirationSlice
from strell_core.measures import values
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Ints, Params
from strell_core.strategy.condition_truths import MARKET
from strell_core.strategy.kinds import Picking, StrikePick, strike_picks
from strell_core.strategy.strike_picks.levels import ROUND, WITHIN, away_from_spot, nearest, points_within

SCOPES = (*MARKET, "leg", "structure", "position")
OF_LEGS = (
    "Of legs it may speak of those that stand before it on the sheet, of the position where it is picked in a trade that is open: a leg that is "
    "opened later. None while it is unvalued."
)
LEVEL = Declaration(
    id="at_value", section="strike pick", title="at a value", sentence="at {value}, rounded {round} (± {within})",
    params=(Param("value", "value", "Value", {"measure": "price"}, scopes=SCOPES), ROUND, WITHIN),
    explains="Any value in points, such as an average, yesterday's close, today's high or the strike of a leg less what it costs. "
    f"{OF_LEGS}",
    example="Sell 1 put at the simple average over 50 sessions, rounded away from the money (± 5.0 %)",
    words=("level", "moving average", "support", "general"), unit="points",
)  # fmt: skip
OUT = Declaration(
    id="value_out", section="strike pick", title="a value away from spot", sentence="out of the money by {value}, rounded {round} (± {within})",
    params=(Param("value", "value", "Points", {"measure": "expected_move", "unit": "points"}, scopes=SCOPES), ROUND, WITHIN),
    explains=f"Spot plus (calls) or minus (puts) so many points, at the listed strike. {OF_LEGS}",
    example="Buy 1 put out of the money by the expected move over 30 days in points, rounded to the nearest (± 5.0 %)",
    words=("distance", "expected move", "general"), unit="points",
)  # fmt: skip
FROM_LEG = Declaration(
    id="value_from_leg", section="strike pick", title="a value from a leg",
    sentence="further out of the money than {leg} by {value}, rounded {round} (± {within})",
    params=(Param("value", "value", "Points", {"measure": "expected_move", "unit": "points"}, scopes=SCOPES), Param("leg", "leg", "Leg", ""), ROUND, WITHIN),
    explains="So many points from the strike of another leg, outward (calls up, puts down), such as what a straddle costs: wings as far away as "
    f"its price. {OF_LEGS}",
    example="Buy 1 put further out of the money than leg 3 by the expected move over 30 days in points, rounded to the nearest (± 5.0 %)",
    words=("wing", "width", "distance", "body", "general"), unit="points",
)  # fmt: skip
PREMIUM = Declaration(
    id="premium_value", section="strike pick", title="by a premium that is a value", sentence="nearest to a premium of {value} (± {within})",
    params=(
        Param("value", "value", "Premium", {"measure": "scaled", "of": {"measure": "expected_move", "unit": "points"}, "times": 0.1, "plus": 0}, scopes=SCOPES),
        Param("within", "integer", "At most away", 75, 1, 1000, 1, "%"),
    ),
    explains="Distance of the mid from a value in points of the option's price, such as half of what another leg costs; one farther away than "
    f"allowed, in percent of the value, is not taken. {OF_LEGS}",
    example="Sell 1 put nearest to a premium of 0.1 × the expected move over 30 days in points (± 75 %)",
    words=("price", "credit", "premium", "share of", "general"), unit="points",
)  # fmt: skip


def _value(picking: Picking, params: Params) -> float:
    found = values.over(params["value"], picking.frame_of_legs)
    return math.nan if found is None else round(float(found[0]), 6)


def by_level(chain: ExpirationSlice, picking: Picking, params: Params) -> Ints:
    return nearest(chain, _value(picking, params), params["round"])


def by_distance(chain: ExpirationSlice, picking: Picking, params: Params) -> Ints:
    wanted = away_from_spot(chain, picking.view.spot / SPOT_SCALE, _value(picking, params))
    return nearest(chain, round(wanted, 6) if math.isfinite(wanted) else wanted, params["round"])


def by_leg(chain: ExpirationSlice, picking: Picking, params: Params) -> Ints:
    contract = picking.legs.get(params["leg"])
    start = math.nan if contract is None else float(contract.strike)
    wanted = away_from_spot(chain, start, _value(picking, params))
    return nearest(chain, round(wanted, 6) if math.isfinite(wanted) else wanted, params["round"])


PREMIUM_SCALE = 1_000_000
"""Distances of premiums are told in so many parts of what is wanted."""


def by_premium(chain: ExpirationSlice, picking: Picking, params: Params) -> Ints:
    wanted = _value(picking, params)
    if not math.isfinite(wanted) or wanted <= 0:
        return np.full(len(chain.strikes), -1, np.int64)
    mid = (chain.bid.astype(np.int64) + chain.ask) / 2 * float(picking.view.underlying.quantum)
    return np.where(chain.valid, np.rint(np.abs(mid - wanted) / wanted * PREMIUM_SCALE).astype(np.int64), -1)


def premium_within(view: ChainView, params: Params) -> int:
    return int(params["within"]) * PREMIUM_SCALE // 100


Distance = Callable[[ExpirationSlice, Picking, Params], Ints]
_EVERY: tuple[tuple[Declaration, Distance, Callable[[ChainView, Params], int]], ...] = (
    (LEVEL, by_level, points_within), (OUT, by_distance, points_within), (FROM_LEG, by_leg, points_within), (PREMIUM, by_premium, premium_within),
)  # fmt: skip
for _declaration, _distance, _tolerance in _EVERY:
    strike_picks.register(StrikePick(_declaration, _distance, _tolerance))

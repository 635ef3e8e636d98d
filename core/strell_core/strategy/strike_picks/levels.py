"""Strikes at a level in points: a share of spot, expected moves away, max pain, a fixed strike."""

import math
from collections.abc import Callable

import numpy as np

from strell_core.market.prices import SPOT_SCALE
from strell_core.market.view import ChainView, ExpirationSlice
from strell_core.measures.chain.interest import pain_of
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Ints, Params
from strell_core.measures.smiles import deviation, straddle
from strell_core.strategy.kinds import Picking, StrikePick, strike_picks

ROUNDED = {"nearest": "to the nearest", "outward": "away from the money", "inward": "toward the money"}
ROUND = Param("round", "choice", "Rounded", "nearest", choices=ROUNDED)
WITHIN = Param("within", "number", "At most away", 5.0, 0.1, 40, 0.1, "%")
PERCENT = Declaration(
    id="percent_rounded", section="strike pick", title="away from spot, rounded",
    sentence="{percent}, rounded {round} (± {within})",
    params=(Param("percent", "number", "Away from spot", 1.0, -20, 40, 0.1, "%", by_sign=("{n} out of the money", "at the money", "{n} in the money")), ROUND, WITHIN),
    explains="Spot plus (calls) or minus (puts) the share of spot, at the listed strike that is nearest, or the next one away from "
    "or toward the money. A strike farther away than allowed, in percent of spot, is not taken.",
    example="Sell 1 put 1.0 % out of the money, rounded away from the money (± 5.0 %)", words=("percent", "rounded outward", "moneyness"), unit="%",
)  # fmt: skip
MOVES = Declaration(
    id="expected_moves", section="strike pick", title="by the expected move",
    sentence="{moves} ({by}), rounded {round} (± {within})",
    params=(
        Param("moves", "number", "Moves", 1.0, -4, 6, 0.05, by_sign=("{n|expected move|expected moves} out of the money", "at the money", "{n|expected move|expected moves} in the money")),
        Param("by", "choice", "By", "straddle", choices={"straddle": "straddle", "deviation": "one standard deviation"}), ROUND, WITHIN,
    ),
    explains="Spot plus (calls) or minus (puts) so many expected moves of the leg's own expiration: the mid of its at-the-money "
    "straddle, or spot × its at-the-money IV × √time. None when it has none.",
    example="Buy 1 call 1.00 expected move out of the money (straddle), rounded to the nearest (± 5.0 %)",
    words=("expected move", "implied move", "standard deviation", "wings"),
)  # fmt: skip
PAIN = Declaration(
    id="at_max_pain", section="strike pick", title="at max pain", sentence="at max pain of its expiration", params=(),
    explains="The listed strike at which all open options of the leg's expiration together pay their holders least. None without open "
    "interest.",
    example="Sell 1 call at max pain of its expiration", words=("pin", "open interest"),
)  # fmt: skip
FIXED = Declaration(
    id="fixed_strike", section="strike pick", title="a fixed strike", sentence="at strike {strike} (± {within})",
    params=(Param("strike", "amount", "Strike", 2500.0, 0.001, 1e7, 0.001), WITHIN),
    explains="The listed strike nearest to it; one farther away than allowed, in percent of spot, is not taken.",
    example="Sell 1 put at strike 2 500 (± 5.0 %)", words=("strike", "absolute"), unit="points",
)  # fmt: skip
SCALE = 1_000_000
"""Distances are told in so many parts of a point."""


def nearest(chain: ExpirationSlice, wanted: float, rounded: str) -> Ints:
    """Distance of every quoted strike from a level, of those on its wanted side."""
    if not math.isfinite(wanted):
        return np.full(len(chain.strikes), -1, np.int64)
    outward = chain.strikes - wanted if chain.right == "call" else wanted - chain.strikes
    side = np.ones(len(outward), np.bool_)
    if rounded == "outward":
        side = outward >= -1e-9
    elif rounded == "inward":
        side = outward <= 1e-9
    return np.where(chain.valid & side, np.rint(np.abs(outward) * SCALE).astype(np.int64), -1)


def points_within(view: ChainView, params: Params) -> int:
    """How far away a strike may be, in percent of spot, as a distance."""
    return round(view.spot * params["within"] / 100 / SPOT_SCALE * SCALE)


def away_from_spot(chain: ExpirationSlice, spot: float, points: float) -> float:
    """The level so many points out of the money from a price, or from another level."""
    return spot + points if chain.right == "call" else spot - points


def by_percent(chain: ExpirationSlice, picking: Picking, params: Params) -> Ints:
    spot = picking.view.spot
    # whole numbers, so that a level on a strike is on it
    points = spot * round(params["percent"] * 10) / 1000 / SPOT_SCALE
    return nearest(chain, round(away_from_spot(chain, spot / SPOT_SCALE, points), 6), params["round"])


def by_moves(chain: ExpirationSlice, picking: Picking, params: Params) -> Ints:
    view = picking.view
    size = straddle(view, chain.expiration) if params["by"] == "straddle" else deviation(view, chain.expiration)
    return nearest(
        chain, round(away_from_spot(chain, view.spot / SPOT_SCALE, params["moves"] * size), 6), params["round"]
    )


def by_pain(chain: ExpirationSlice, picking: Picking, params: Params) -> Ints:
    return nearest(chain, pain_of(picking.view, chain.expiration), "nearest")


def by_strike(chain: ExpirationSlice, picking: Picking, params: Params) -> Ints:
    return nearest(chain, float(params["strike"]), "nearest")


def _nowhere_else(view: ChainView, params: Params) -> int:
    return 2**40


Distance = Callable[[ExpirationSlice, Picking, Params], Ints]
_EVERY: tuple[tuple[Declaration, Distance, Callable[[ChainView, Params], int]], ...] = (
    (PERCENT, by_percent, points_within), (MOVES, by_moves, points_within), (PAIN, by_pain, _nowhere_else), (FIXED, by_strike, points_within),
)  # fmt: skip
for _declaration, _distance, _tolerance in _EVERY:
    strike_picks.register(StrikePick(_declaration, _distance, _tolerance))

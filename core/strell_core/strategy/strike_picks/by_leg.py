"""Strikes that go by another leg: the same, so many listed strikes or points further out."""

import numpy as np

from strell_core.market.prices import SPOT_SCALE
from strell_core.market.view import ChainView, ExpirationSlice
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Ints, Params
from strell_core.strategy.kinds import Picking, StrikePick, strike_picks
from strell_core.strategy.strike_picks.levels import SCALE

LEG = Param("leg", "leg", "Leg", "")
STRIKES = Declaration(
    id="strikes_from_leg", section="strike pick", title="strikes from a leg",
    sentence="{strikes} {leg} (± {within})",
    params=(Param("strikes", "integer", "Strikes", 2, -40, 40, by_sign=("{n|strike|strikes} further out of the money than", "at the strike of", "{n|strike|strikes} nearer to the money than")), LEG, Param("within", "integer", "At most away", 3, 0, 30)),
    explains="Starts at the strike of another leg and counts listed strikes outward (calls up, puts down); 0 is the same strike, "
    "negative values lie toward the money. Where that strike has no valid quote the nearest one is taken, so many listed "
    "strikes away at most.",
    example="Buy 1 put 2 strikes further out of the money than leg 3 (± 3)", words=("wing", "width", "vertical", "same strike"),
)  # fmt: skip
POINTS = Declaration(
    id="points_from_leg", section="strike pick", title="points from a leg",
    sentence="{points} {leg} (± {within})",
    params=(Param("points", "number", "Points", 50.0, -100_000, 100_000, 0.01, by_sign=("{n} points further out of the money than", "at the strike of", "{n} points nearer to the money than")), LEG, Param("within", "number", "At most away", 2.0, 0.1, 40, 0.1, "%")),
    explains="So many points from the strike of another leg, outward (calls up, puts down), negative ones toward the money. The listed "
    "strike nearest to that; one farther away than allowed, in percent of spot, is not taken.",
    example="Buy 1 put 50.00 points further out of the money than leg 3 (± 2.0 %)", words=("wing", "width", "vertical", "spread"), unit="points",
)  # fmt: skip


def _outward(chain: ExpirationSlice) -> int:
    return 1 if chain.right == "call" else -1


def by_strikes(chain: ExpirationSlice, picking: Picking, params: Params) -> Ints:
    out = np.full(len(chain.strikes), -1, np.int64)
    contract = picking.legs.get(params["leg"])
    listed = np.flatnonzero(chain.ask > 0)
    if contract is None or len(listed) == 0:
        return out
    # the other leg's strike need not be listed in this expiration: then the nearest one is where it starts
    start = int(np.argmin(np.abs(chain.strikes[listed] - float(contract.strike))))
    at = start + _outward(chain) * params["strikes"]
    if 0 <= at < len(listed):
        out[listed] = np.where(chain.valid[listed], np.abs(np.arange(len(listed)) - at), -1)
    return out


def by_points(chain: ExpirationSlice, picking: Picking, params: Params) -> Ints:
    contract = picking.legs.get(params["leg"])
    if contract is None:
        return np.full(len(chain.strikes), -1, np.int64)
    wanted = float(contract.strike) + _outward(chain) * params["points"]
    return np.where(chain.valid, np.rint(np.abs(chain.strikes - wanted) * SCALE).astype(np.int64), -1)


def strikes_away(view: ChainView, params: Params) -> int:
    return int(params["within"])


def points_away(view: ChainView, params: Params) -> int:
    return round(view.spot * params["within"] / 100 / SPOT_SCALE * SCALE)


strike_picks.register(StrikePick(STRIKES, by_strikes, strikes_away))
strike_picks.register(StrikePick(POINTS, by_points, points_away))

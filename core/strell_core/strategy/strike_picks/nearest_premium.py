"""The strike whose mid is nearest to a premium."""

import numpy as np

from strell_core.market.prices import points_to_quanta
from strell_core.market.view import ChainView, ExpirationSlice
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Ints, Params
from strell_core.strategy.kinds import Picking, StrikePick, strike_picks

DECLARATION = Declaration(
    id="nearest_premium", section="strike pick", title="by premium", sentence="nearest to a premium of {points} points (± {within})",
    params=(
        Param("points", "number", "Premium", 10.0, 0.01, 1000, 0.01, ""),
        Param("within", "integer", "At most away", 75, 1, 1000, 1, "%"),
    ),
    explains="Distance of the mid from the premium, in points of the option's price; one farther away than allowed is "
    "not taken.",
    example="Sell 1 put nearest to a premium of 10.00 points (± 75 %)", words=("price", "credit", "premium"), unit="points",
)  # fmt: skip


def distance(chain: ExpirationSlice, picking: Picking, params: Params) -> Ints:
    wanted = 2 * points_to_quanta(params["points"], picking.view.underlying.quantum)
    away = np.abs(chain.bid.astype(np.int64) + chain.ask - wanted)
    return np.where(chain.valid, away, -1)


def tolerance(view: ChainView, params: Params) -> int:
    # bid and ask together, as the distance
    return 2 * points_to_quanta(params["points"], view.underlying.quantum) * int(params["within"]) // 100


strike_picks.register(StrikePick(DECLARATION, distance, tolerance))

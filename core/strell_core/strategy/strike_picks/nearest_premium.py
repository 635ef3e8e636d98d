"""The strike whose mid is nearest to a premium."""

from decimal import Decimal

import numpy as np

from strell_core.market.prices import points_to_quanta
from strell_core.market.view import ChainView, ExpirationSlice
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Ints, Params
from strell_core.strategy import compiled
from strell_core.strategy.compiled import Numbers
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
    wanted = _wanted(params, picking.view.underlying.quantum)
    away = compiled.away.py_func(chain.bid.astype(np.int64) + chain.ask, wanted)
    return np.where(chain.valid, away, -1)


def tolerance(view: ChainView, params: Params) -> int:
    return numbers(params, view.underlying.quantum).within


def _wanted(params: Params, quantum: Decimal) -> int:
    """Bid and ask together, quanta."""
    return 2 * points_to_quanta(params["points"], quantum)


def numbers(params: Params, quantum: Decimal) -> Numbers:
    wanted = _wanted(params, quantum)
    return Numbers(compiled.PREMIUM, wanted, within=wanted * int(params["within"]) // 100)


strike_picks.register(StrikePick(DECLARATION, distance, tolerance, numbers))

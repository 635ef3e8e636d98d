"""The strike whose delta is nearest to a value."""

from decimal import Decimal

import numpy as np

from strell_core.market.view import NO_DELTA, ChainView, ExpirationSlice
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Ints, Params
from strell_core.strategy import compiled
from strell_core.strategy.compiled import Numbers
from strell_core.strategy.kinds import Picking, StrikePick, strike_picks

DECLARATION = Declaration(
    id="nearest_delta", section="strike pick", title="nearest delta", sentence="nearest to delta {delta} (± {within})",
    params=(
        Param("delta", "number", "Delta", 0.20, 0.01, 0.99, 0.01),
        Param("within", "number", "At most away", 0.15, 0.01, 0.99, 0.01),
    ),
    explains="Distance of the delta's size (a put's sign is ignored) from the value, both on a grid of 0.0001. "
    "Strikes without a valid quote or without a delta are passed over; one farther away than allowed is not taken.",
    example="Sell 1 call nearest to delta 0.20 (± 0.15)", words=("delta", "probability"),
    unit="delta", grid=0.0001,
)  # fmt: skip


def distance(chain: ExpirationSlice, picking: Picking, params: Params) -> Ints:
    delta = chain.delta.astype(np.int64)
    away = compiled.away.py_func(np.abs(delta), round(params["delta"] * 10_000))
    return np.where(chain.valid & (delta != NO_DELTA), away, -1)


def tolerance(view: ChainView, params: Params) -> int:
    return int(round(params["within"] * 10_000))


def numbers(params: Params, quantum: Decimal) -> Numbers:
    within = int(round(params["within"] * 10_000))
    return Numbers(compiled.DELTA, round(params["delta"] * 10_000), within=within)


strike_picks.register(StrikePick(DECLARATION, distance, tolerance, numbers))

"""The strike whose delta is nearest to a value."""

from decimal import Decimal

import numpy as np

from strell_core.market.view import NO_DELTA, ChainView, ExpirationSlice
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Ints, Params
from strell_core.measures.params import tolerance_of
from strell_core.strategy import compiled
from strell_core.strategy.compiled import Numbers
from strell_core.strategy.kinds import Picking, StrikePick, strike_picks
from strell_core.strategy.upgrades import DELTA_WITHIN

DECLARATION = Declaration(
    id="nearest_delta", section="strike pick", title="nearest delta", sentence="nearest to delta {delta} (± {within})",
    params=(
        Param("delta", "number", "Delta", 0.20, 0.01, 0.99, 0.01),
        Param("within", "tolerance", "At most away", "50 %", 0.01, 0.99, 0.01, earlier_default=DELTA_WITHIN),
    ),
    explains="Distance of the delta's size (a put's sign is ignored) from the value, both on a grid of 0.0001. "
    "Strikes without a valid quote or without a delta are passed over; one farther away than allowed is not taken: a share of "
    "the value (50 % of 0.20 is 0.10), or a delta (0.05).",
    example="Sell 1 call nearest to delta 0.20 (± 50 %)", words=("delta", "probability"),
    unit="delta", grid=0.0001,
)  # fmt: skip


def distance(chain: ExpirationSlice, picking: Picking, params: Params) -> Ints:
    delta = chain.delta.astype(np.int64)
    away = compiled.away.py_func(np.abs(delta), round(params["delta"] * 10_000))
    return np.where(chain.valid & (delta != NO_DELTA), away, -1)


def tolerance(view: ChainView, params: Params) -> int:
    return _within(params)


def _within(params: Params) -> int:
    return round(tolerance_of(params["within"], params["delta"]) * 10_000)


def numbers(params: Params, quantum: Decimal) -> Numbers:
    return Numbers(compiled.DELTA, round(params["delta"] * 10_000), within=_within(params))


strike_picks.register(StrikePick(DECLARATION, distance, tolerance, numbers))

"""Strikes inside a range of deltas or premiums; none where the range holds none."""

from decimal import Decimal

import numpy as np
import numpy.typing as npt

from strell_core.market.prices import points_to_quanta
from strell_core.market.view import NO_DELTA, ChainView, ExpirationSlice
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Ints, Params
from strell_core.strategy import compiled
from strell_core.strategy.compiled import Numbers
from strell_core.strategy.kinds import Picking, StrikePick, strike_picks

DELTA = Declaration(
    id="delta_range", section="strike pick", title="delta in a range", sentence="with a delta from {from} to {to}",
    params=(Param("from", "number", "From", 0.15, 0.01, 0.99, 0.01), Param("to", "number", "To", 0.25, 0.01, 0.99, 0.01)),
    explains="The strike whose delta (its size) lies in the range and nearest to the middle of it. None where no quoted strike "
    "has such a delta: the leg is not found.",
    example="Sell 1 call with a delta from 0.15 to 0.25", words=("delta", "range", "between"), unit="delta", grid=0.0001,
)  # fmt: skip
PREMIUM = Declaration(
    id="premium_range", section="strike pick", title="premium in a range", sentence="with a premium from {from} to {to} points",
    params=(Param("from", "number", "From", 4.0, 0.01, 1000, 0.01), Param("to", "number", "To", 8.0, 0.01, 1000, 0.01)),
    explains="The strike whose mid lies in the range and nearest to the middle of it, in points of the option's price. None where "
    "no quoted strike has such a price: the leg is not found.",
    example="Sell 1 put with a premium from 4.00 to 8.00 points", words=("price", "credit", "range", "between"), unit="points",
)  # fmt: skip


def _inside(value: Ints, low: int, high: int, good: npt.NDArray[np.bool_]) -> Ints:
    """Twice the distance from the middle, of what lies in the range."""
    return np.where(good & (value >= low) & (value <= high), compiled.from_middle.py_func(value, low, high), -1)


def of_delta(params: Params, quantum: Decimal) -> Numbers:
    low, high = sorted((round(params["from"] * 10_000), round(params["to"] * 10_000)))
    return Numbers(compiled.DELTA_RANGE, low, high)


def of_premium(params: Params, quantum: Decimal) -> Numbers:
    low, high = sorted(2 * points_to_quanta(params[name], quantum) for name in ("from", "to"))
    return Numbers(compiled.PREMIUM_RANGE, low, high)


def by_delta(chain: ExpirationSlice, picking: Picking, params: Params) -> Ints:
    _, low, high, _ = of_delta(params, picking.view.underlying.quantum)
    delta = np.abs(chain.delta.astype(np.int64))
    return _inside(delta, low, high, chain.valid & (chain.delta != NO_DELTA))


def by_premium(chain: ExpirationSlice, picking: Picking, params: Params) -> Ints:
    _, low, high, _ = of_premium(params, picking.view.underlying.quantum)
    return _inside(chain.bid.astype(np.int64) + chain.ask, low, high, chain.valid)


def anything(view: ChainView, params: Params) -> int:
    """What lies in the range is near enough."""
    return compiled.ANYTHING


strike_picks.register(StrikePick(DELTA, by_delta, anything, of_delta))
strike_picks.register(StrikePick(PREMIUM, by_premium, anything, of_premium))

"""What moves a position: its net Greeks, and how far the underlying has come since it was opened."""

import numpy as np

from strell_core.market.prices import PARTS, SPOT_SCALE
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Stretch
from strell_core.measures.measure import Params, PositionMeasure, Series, measures
from strell_core.measures.sensitivities import NAMES, greek

GREEK = Declaration(
    id="net_greek", usual=("above", 20), section="measure", title="Greek of the position", sentence="the position's {greek}",
    params=(Param("greek", "choice", "Greek", "delta", choices={name: name for name in NAMES}),),
    explains="Of all legs together in money: delta for a point of the underlying, gamma the change of that, theta a day, vega a "
    "point of volatility. Unvalued while a leg has none.",
    example="the position's delta", words=("delta", "gamma", "theta", "vega", "exposure", "neutral"), scope="position", clock="snapshot", grid=0.0001,
)  # fmt: skip
MOVED = Declaration(
    id="move_since_entry", usual=("below", -2), section="measure", title="Move since entry", sentence="the underlying's move since entry", params=(),
    explains="The underlying's price now against its price at the last snapshot not after the first fill, in percent, both "
    "in today's units.",
    example="the underlying's move since entry", words=("spot change", "since opening"), scope="position", clock="snapshot", unit="%", grid=0.01,
)  # fmt: skip


def net_greek(stretch: Stretch, params: Params) -> Series:
    timeline, begin = stretch.timeline, stretch.begin
    total = np.zeros(len(stretch.mid))
    for leg in stretch.legs:
        own = greek(timeline, leg.contract, params["greek"], begin, begin + len(stretch.mid))
        total += leg.contracts * own
    # money of a point of one contract
    point = stretch.worth * PARTS / float(timeline.underlying.quantum)
    return total * point


def moved(stretch: Stretch, params: Params) -> Series:
    place = stretch.opened_place
    if place is None:
        return np.full(len(stretch.mid), np.nan)
    made: Series = 100 * (
        stretch.spot / SPOT_SCALE / (stretch.since(place) * int(stretch.timeline.spot[place]) / SPOT_SCALE) - 1
    )
    return made


measures.register(PositionMeasure(GREEK, net_greek))
measures.register(PositionMeasure(MOVED, moved))

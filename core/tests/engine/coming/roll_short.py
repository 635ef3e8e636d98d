"""An adjustment that rolls a leg: while the underlying is past a level, the leg moves one listed strike away."""

from collections.abc import Sequence

import numpy as np

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Params, Stretch, Truths, Values
from strell_core.strategy.actions import Move, Roll
from strell_core.strategy.kinds import AdjustFrame, Adjustment

DECLARATION = Declaration(
    id="roll_short", section="adjust", title="Roll a leg away",
    sentence="While the underlying is above {level}, leg {leg} rolls up to the next listed strike.",
    params=(Param("leg", "sentence", "Leg", ""), Param("level", "number", "Level", 3100, 0, 100_000, 0.01)),
    explains="Looked at when the entry is; the leg is closed and opened again one listed strike higher, as one order.",
    example="While the underlying is above 3100.00, leg s3 rolls up to the next listed strike.", scope="position",
    when_true="the underlying at {spot}", when_false="the underlying at {spot}",
)  # fmt: skip


def test(stretch: Stretch, params: Params) -> Truths:
    above = stretch.spot > round(100 * params["level"])
    return stretch.judged(above, np.ones(len(above), np.bool_))


def values(stretch: Stretch, params: Params, i: int) -> Values:
    return {"spot": int(stretch.spot[i]) / 100}


def moves(frame: AdjustFrame, params: Params) -> Sequence[Move]:
    leg, view = frame.now.leg(params["leg"]), frame.view
    if leg is None or view is None:
        return ()
    chain = view.slice(leg.contract.expiration, leg.contract.right)
    higher = chain.strikes[chain.valid & (chain.strikes > leg.contract.strike)]
    if len(higher) == 0:
        return ()
    return (Roll(leg.leg_id, leg.contract._replace(strike=int(higher[0]))),)


ADJUSTMENT = Adjustment(DECLARATION, test, values, moves)

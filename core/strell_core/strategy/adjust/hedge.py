"""Hedging with the underlying: as many units as bring the position's delta nearest to what is wanted."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from strell_core.market.prices import PARTS
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import HEDGE, Params, Stretch, Truths, Values
from strell_core.measures.measure import Series
from strell_core.measures.position.exposure import net_greek
from strell_core.strategy import adjusting
from strell_core.strategy.actions import Move, OpenLeg
from strell_core.strategy.kinds import AdjustFrame, Adjustment, adjustments

DECLARATION = Declaration(
    id="hedge", section="adjust", title="Hedge with the underlying",
    sentence="When the position's delta is more than {band}{of} away from {to}, bring it nearest to {to} with the underlying itself{daily}{upon}.",
    params=(
        Param("band", "amount", "Further than", 50.0, 0.0, 1e9, 0.01),
        Param(
            "of", "choice", "In % of its options' deltas", None, choices={"options": "% of its options' deltas"}, optional=True, begins="options",
        ),
        Param("to", "amount", "From", 0.0, -1e9, 1e9, 0.01), *adjusting.LOOKS,
    ),
    explains="Delta of all legs together in money for a point of the underlying, the units that are held as a hedge among them. Looked at when "
    "the entry is or as the sentence says, every time: units are bought or sold at half of their own spread from the price, one by one (at the desk, "
    "and where prices are kept too coarsely for that, in contracts of as many as one option delivers), for the capital there is. In percent: of the "
    "deltas of the options that are held, added up without their signs. They are paid dividends, and go with the position. Unvalued while an option has no delta; "
    "an index cannot be dealt in.",
    example="When the position's delta is more than 50 away from 0, bring it nearest to 0 with the underlying itself.",
    words=("delta", "neutral", "gamma scalping", "shares", "units", "balance", "stock"), scope="position",
    tells=("delta",), when_true="delta {delta}, more than {band} from {to}", when_false="delta {delta}, within {band} of {to}",
    when_unvalued="an option has no delta",
)  # fmt: skip
GRID = 4
"""Decimal places of a delta that is compared."""


def _delta(stretch: Stretch) -> Series:
    return np.round(net_greek(stretch, {"greek": "delta"}), GRID)


def _band(stretch: Stretch, params: Params) -> Series:
    """How far away from what is wanted is far enough, in money for a point ``(n,)``."""
    if params.get("of") is None:
        return np.full(len(stretch.mid), float(params["band"]))
    total = np.zeros(len(stretch.mid))
    for name in dict.fromkeys(leg.leg_id for leg in stretch.legs if not leg.contract.is_unit):
        # of one leg, for what is bought and what is sold would cancel
        total += np.abs(net_greek(stretch.narrow([name]), {"greek": "delta"}))
    return np.round(total * params["band"] / 100, GRID)


def test(stretch: Stretch, params: Params) -> Truths:
    delta = _delta(stretch)
    away = np.round(np.abs(delta - params["to"]), GRID)
    return stretch.judged(away > _band(stretch, params), np.isfinite(delta))


def values(stretch: Stretch, params: Params, i: int) -> Values:
    delta = float(_delta(stretch)[i])
    return {
        "delta": round(delta, 2) if math.isfinite(delta) else None,
        "band": round(float(_band(stretch, params)[i]), 2),
        "to": params["to"],
    }


def moves(frame: AdjustFrame, params: Params) -> Sequence[Move]:
    view = frame.view
    delta = float(_delta(frame.now)[0])
    if view is None or not view.underlying.dealt or not math.isfinite(delta):
        return ()
    point = frame.now.worth * PARTS / float(view.underlying.quantum)
    wanted = round((params["to"] - delta) * frame.unit.divisor / point, GRID)
    # of two that come as near, the smaller deal
    contracts = int(math.copysign(math.ceil(abs(wanted) - 0.5), wanted))
    return (OpenLeg(HEDGE, frame.unit, contracts),) if contracts else ()


adjustments.register(Adjustment(DECLARATION, test, values, moves, often=True))

"""Opening a leg beside those that are held: the call against shares that were delivered, a hedge, the second half of a
structure."""

from __future__ import annotations

from collections.abc import Sequence

from strell_core.measures.declaration import Param
from strell_core.measures.frames import Params
from strell_core.strategy import adjusting, conditions
from strell_core.strategy.actions import Move, OpenLeg
from strell_core.strategy.adjust.rolls import SCOPES, test, values
from strell_core.strategy.kinds import AdjustFrame, Adjustment, adjustments

OPEN = conditions.declared(
    "adjusts", id="open_leg", section="adjust", title="Open a leg",
    sentence="When {left} is {is} {right}{looks}{also}{until}, open {what}{further}{provided}{daily}{upon}.",
    params=(
        *conditions.params(SCOPES, {"measure": "leg_contracts"}, "above", 0.0), Param("what", "leg", "Leg", ""), adjusting.PROVIDED, adjusting.FURTHER,
        *adjusting.LOOKS,
    ),
    explains="A leg that is opened later, by its own picks at that time and as often as there are lots, if it is not there already: "
    f"it can be opened again once it is gone. {adjusting.WHEN_LOOKED_AT}For the capital there is; at most one adjustment a session and "
    f"trade. Nothing is done where nothing fits. {adjusting.WHOLE}".rstrip(),
    example="When the contracts held of leg 3 is above 0, open leg 4.",
    words=("adjust", "add", "wheel", "cycle", "sell again", "cover", "hedge", "leg in"), scope="position",
)  # fmt: skip


def opened(frame: AdjustFrame, params: Params) -> Sequence[Move]:
    found = frame.pick(params["what"])
    return () if found is None else (OpenLeg(found.leg_id, found.contract, found.contracts * frame.lots),)


adjustments.register(Adjustment(OPEN, test, values, opened))

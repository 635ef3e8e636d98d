"""Opening a leg beside those that are held, or closing one of them: the call against shares that were delivered, a hedge, the second half of a
structure."""

from __future__ import annotations

from collections.abc import Sequence

from strell_core.measures.declaration import Param
from strell_core.measures.frames import Params
from strell_core.strategy import adjusting, conditions
from strell_core.strategy.actions import Close, Move, OpenLeg
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
CLOSE = conditions.declared(
    "adjusts", id="close_leg", section="adjust", title="Close a leg as an adjustment",
    sentence="When {left} is {is} {right}{looks}{also}{until}, buy back or sell {what}{further}{provided}{daily}{upon}.",
    params=(
        *conditions.params(SCOPES, {"measure": "leg_price"}, "at most", 0.5), Param("what", "leg", "Leg", ""), adjusting.PROVIDED, adjusting.FURTHER,
        *adjusting.LOOKS,
    ),
    explains="A leg is closed as a change of the position, patiently, and not as an exit: at the looks of adjustments, in one order with the next "
    "adjustment if the sentence says so, such as the opening of another leg, and only where what is provided holds. "
    f"{adjusting.WHEN_LOOKED_AT}At most one adjustment a session and trade. {adjusting.WHOLE}".rstrip(),
    example="When the price of leg 3 at mid is at most 0.5, buy back or sell leg 3.",
    words=("adjust", "buy back", "take off", "cycle", "replace", "leg out"), scope="position",
)  # fmt: skip


def closed(frame: AdjustFrame, params: Params) -> Sequence[Move]:
    # the last leg is left by exits: a trade without legs is no change of it
    others = any(leg.leg_id != params["what"] for leg in frame.now.legs)
    return (Close((params["what"],)),) if others and frame.now.leg(params["what"]) is not None else ()


def opened(frame: AdjustFrame, params: Params) -> Sequence[Move]:
    found = frame.pick(params["what"]) if frame.now.leg(params["what"]) is None else None
    return () if found is None else (OpenLeg(found.leg_id, found.contract, found.contracts * frame.lots),)


adjustments.register(Adjustment(OPEN, test, values, opened))
adjustments.register(Adjustment(CLOSE, test, values, closed))

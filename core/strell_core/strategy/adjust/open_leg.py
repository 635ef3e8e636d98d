"""Opening a leg beside those that are held, or closing one of them: the call against shares that were delivered, a hedge, the second half of a
structure."""

from __future__ import annotations

from collections.abc import Sequence

from strell_core.measures.frames import Params
from strell_core.strategy import adjusting, conditions
from strell_core.strategy.actions import Close, Move, OpenLeg
from strell_core.strategy.kinds import AdjustFrame, Adjustment, adjustments

OPEN = adjusting.declared(
    "open_leg", "Open a leg", "open {what}",
    (*conditions.params(adjusting.SCOPES, {"measure": "leg_contracts"}, "above", 0.0), adjusting.WHAT),
    "A leg that is opened later, by its own picks at that time and as often as there are lots, if it is not there already: "
    f"it can be opened again once it is gone. {adjusting.WHEN_LOOKED_AT}For the capital there is; at most one adjustment a session and "
    "trade. Nothing is done where nothing fits. ",
    "When the contracts held of leg 3 is above 0, open leg 4.", ("add", "wheel", "cycle", "sell again", "cover", "hedge", "leg in"), or_else=False,
)  # fmt: skip
CLOSE = adjusting.declared(
    "close_leg", "Close a leg as an adjustment", "buy back or sell {what}",
    (*conditions.params(adjusting.SCOPES, {"measure": "leg_price"}, "at most", 0.5), adjusting.WHAT),
    "A leg is closed as a change of the position, patiently, and not as an exit: at the looks of adjustments, in one order with the next "
    "adjustment if the sentence says so, such as the opening of another leg, and only where what is provided holds. "
    f"{adjusting.WHEN_LOOKED_AT}At most one adjustment a session and trade. ",
    "When the price of leg 3 at mid is at most 0.5, buy back or sell leg 3.", ("buy back", "take off", "cycle", "replace", "leg out"), or_else=False,
)  # fmt: skip


def closed(frame: AdjustFrame, params: Params) -> Sequence[Move]:
    # the last leg is left by exits: a trade without legs is no change of it
    others = any(leg.leg_id != params["what"] for leg in frame.now.legs)
    return (Close((params["what"],)),) if others and frame.now.leg(params["what"]) is not None else ()


def opened(frame: AdjustFrame, params: Params) -> Sequence[Move]:
    found = frame.pick(params["what"], params["what"]) if frame.now.leg(params["what"]) is None else None
    return () if found is None else (OpenLeg(found.leg_id, found.contract, found.contracts * frame.lots),)


for _declaration, _moves in ((OPEN, opened), (CLOSE, closed)):
    adjustments.register(Adjustment(_declaration, adjusting.test, adjusting.values, _moves))

"""More or fewer contracts of what is held: lots of all legs, or of one leg as many as bring something nearest to a value."""

from __future__ import annotations

import math
from collections.abc import Sequence

from strell_core.measures import compare
from strell_core.measures.declaration import Param
from strell_core.measures.frames import HEDGE, Params
from strell_core.measures.values import over as values_of
from strell_core.strategy import adjusting, conditions
from strell_core.strategy.actions import Move, OpenLeg
from strell_core.strategy.kinds import AdjustFrame, Adjustment, adjustments

LOTS = adjusting.declared(
    "change_lots", "More or fewer lots", "{way} {lots|lot|lots}, at {bound} in all",
    (
        *conditions.params(adjusting.SCOPES, {"measure": "pnl", "unit": "premium"}, "at least", 25.0),
        Param("way", "choice", "Way", "open", choices={"open": "open", "close": "close"}), Param("lots", "integer", "Lots", 1, 1, 1_000),
        Param("bound", "integer", "Lots in all", 3, 1, 10_000),
    ),
    "Of every leg as many contracts as a lot has, of the same contracts; a hedge with the underlying is left as it is. Lots are opened "
    "while no more than so many are held then, and closed while no fewer remain. What more lots take in or cost counts to the opening premium. "
    f"{adjusting.WHEN_LOOKED_AT}One order, for the capital there is; at most once a session and trade. ",
    "When P/L at mid in % of the premium is at least 25, open 1 lot, at 3 in all.", ("scale in", "pyramid", "add", "average", "reduce", "double"),
)  # fmt: skip
BALANCE = adjusting.declared(
    "balance", "Balance with a leg", "bring {goal} nearest to {to} by more or fewer contracts of {what}, at most {most} at a time",
    (
        *conditions.params(adjusting.SCOPES, {"measure": "net_greek"}, "above", 20.0),
        Param("goal", "value", "What", {"measure": "structure_greek"}, scopes=adjusting.GOAL_SCOPES),
        Param("to", "value", "To", 0.0, scopes=adjusting.GOAL_SCOPES), adjusting.WHAT, Param("most", "integer", "At most", 5, 1, 40),
    ),
    "Every number of contracts of the leg is tried, up to so many more or fewer; it stays bought or sold, with at least one. What is to be "
    "brought near is asked of the position as one lot, as it would be; of two that come as near, the smaller deal. "
    f"{adjusting.WHEN_LOOKED_AT}For the capital there is; at most once a session and trade. ",
    "When the position's delta is above 20, bring the structure's delta a lot nearest to 0 by more or fewer contracts of leg 3, at most 5 at a time.",
    ("delta", "neutral", "quantity", "ratio", "hedge"),
)  # fmt: skip


def change_lots(frame: AdjustFrame, params: Params) -> Sequence[Move]:
    more = params["lots"] * (1 if params["way"] == "open" else -1)
    there = frame.lots + more
    if (more > 0 and there > params["bound"]) or (more < 0 and there < params["bound"]):
        return ()
    legs = [leg for leg in frame.now.legs if leg.leg_id != HEDGE]
    return tuple(OpenLeg(leg.leg_id, leg.contract, leg.contracts // frame.lots * more) for leg in legs)


def balance(frame: AdjustFrame, params: Params) -> Sequence[Move]:
    leg, view = frame.now.leg(params["what"]), frame.view
    if leg is None or view is None:
        return ()
    found: list[tuple[float, int, int]] = []
    for more in range(-params["most"], params["most"] + 1):
        contracts = leg.contracts + more
        if contracts * leg.contracts <= 0:
            continue
        would_be = [
            (held.leg_id, held.contract, contracts if held.leg_id == leg.leg_id else held.contracts)
            for held in frame.now.legs
        ]
        where = adjusting.structure(frame, view, would_be, lots=1)
        goal, to = (values_of(params[name], where) for name in ("goal", "to"))
        if goal is None or to is None or not math.isfinite(away := abs(float(goal[0]) - float(to[0]))):
            return ()
        found.append((round(away, compare.PLACES), abs(more), more))
    more = min(found)[2]
    return (OpenLeg(leg.leg_id, leg.contract, more),) if more else ()


for _declaration, _moves in ((LOTS, change_lots), (BALANCE, balance)):
    adjustments.register(Adjustment(_declaration, adjusting.test, adjusting.values, _moves, adjusting.otherwise))

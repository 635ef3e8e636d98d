"""Legs chosen together, so that a value of the structure is nearest to what is wanted."""

import math
from collections.abc import Sequence

from strell_core.market.view import ChainView
from strell_core.measures import compare, values
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import TRUE, UNVALUED, Params, PickedLeg, Verdict
from strell_core.strategy.condition_truths import MARKET
from strell_core.strategy.kinds import Choice, EntryFrame, Search, StructureCondition, structure_conditions

SCOPES = (*MARKET, "account", "structure", "leg")
DECLARATION = Declaration(
    id="together", section="legs", title="Legs chosen together",
    sentence="Choose the legs together so that {goal} is nearest to {to}, from the {near|strike|strikes} nearest to each pick in {expirations|expiration|expirations}, "
    "of {most} structures at most.",
    params=(
        Param("goal", "value", "What", {"measure": "structure_greek"}, scopes=SCOPES), Param("to", "value", "To", 0.0, scopes=SCOPES),
        Param("near", "integer", "Strikes", 3, 1, 9), Param("expirations", "integer", "Expirations", 1, 1, 4),
        Param("most", "integer", "Structures", 200, 1, 5000),
    ),
    explains="Of every leg so many strikes are tried that its pick would take next, none farther than it allows, and of a leg that chooses its "
    "expiration by itself as many expirations; legs that go by another follow it. Of the structures that pass every other check the one is taken "
    "whose value is nearest to what is wanted, of two as near the one nearest to the picks. They are tried from the picks outward, so many "
    "at most. Where none passes, the nearest says why. A leg that is picked anew later goes by its own pick.",
    example="Choose the legs together so that the structure's delta a lot is nearest to 0, from the 3 strikes nearest to each pick in 1 expiration, of "
    "200 structures at most.",
    words=("optimise", "search", "whole structure", "delta neutral", "net premium", "reward to risk", "general"), scope="structure", once=True,
    tells=("value", "than"), when_true="{value}, nearest to {than}", when_false="{value}, nearest to {than}",
    when_unvalued="of no structure the value is known",
)  # fmt: skip


def _sides(frame: EntryFrame, legs: Sequence[PickedLeg], view: ChainView, params: Params) -> tuple[float, float]:
    where = frame.frame(legs, view)
    goal, to = (values.over(params[name], where) for name in ("goal", "to"))
    return (math.nan if goal is None else float(goal[0])), (math.nan if to is None else float(to[0]))


def judge(frame: EntryFrame, legs: Sequence[PickedLeg], view: ChainView, params: Params) -> Verdict:
    value, than = _sides(frame, legs, view, params)
    known = math.isfinite(value) and math.isfinite(than)
    told = {
        name: round(found, 4) if math.isfinite(found) else None for name, found in (("value", value), ("than", than))
    }
    return Verdict(TRUE if known else UNVALUED, told)


def away(frame: EntryFrame, legs: Sequence[PickedLeg], view: ChainView, params: Params) -> float:
    value, than = _sides(frame, legs, view, params)
    return round(abs(value - than), compare.PLACES)


def bounds(params: Params) -> Search:
    return Search(int(params["near"]), int(params["expirations"]), int(params["most"]))


structure_conditions.register(StructureCondition(DECLARATION, judge, chooses=Choice(bounds, away)))

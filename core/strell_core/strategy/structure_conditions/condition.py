"""Only if a value of what was picked compares with another."""

from collections.abc import Sequence

from strell_core.market.view import ChainView
from strell_core.measures.frames import Params, PickedLeg, Verdict
from strell_core.strategy import conditions
from strell_core.strategy.condition_truths import MARKET, truths
from strell_core.strategy.kinds import EntryFrame, StructureCondition, structure_conditions

DECLARATION = conditions.declared(
    "needs",
    id="condition", section="legs", title="A check", sentence="Only if {left} is {is} {right}{looks}{also}{until}.",
    params=conditions.params(
        (*MARKET, "account", "structure", "leg"), {"measure": "reward_to_risk"}, "at least", 0.2
    ),
    explains="Any value of the legs picked, alone or together, of the market, the clock or the account against another. Unvalued "
    "while either value is.",
    example="Only if reward to risk is at least 0.2.", words=("if", "compare", "general", "measure"), scope="structure",
)  # fmt: skip


def judge(frame: EntryFrame, legs: Sequence[PickedLeg], view: ChainView, params: Params) -> Verdict:
    where = frame.frame(legs, view)
    return Verdict(int(truths(params, where)[0]), conditions.told(params, where))


structure_conditions.register(StructureCondition(DECLARATION, judge))

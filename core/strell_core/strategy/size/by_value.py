"""Lots by any value that is known when an entry is decided."""

from collections.abc import Sequence

from strell_core.measures import values
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Params, PickedLeg
from strell_core.strategy.condition_truths import MARKET
from strell_core.strategy.kinds import EntryFrame, SizeRule, size_rules
from strell_core.strategy.size.by_money import MOST, NONE, whole_lots

DECLARATION = Declaration(
    id="value_lots", section="size", title="Lots by a value", sentence="As many lots as {value}, at most {most}.",
    params=(
        Param("value", "value", "Value", 1, scopes=(*MARKET, "account", "structure", "leg")),
        MOST,
    ),
    explains="Any value of the legs picked, alone or together, of the market, the clock or the account: rounded down, zero lots or a value "
    "that is not known is no entry. With a quotient lots go by what is wanted of a measure, such as vega; with *one value while "
    "something holds* they change with the account or the market.",
    begins={"value": {"measure": "while", "left": {"measure": "below_high"}, "is": "above", "right": 5, "then": 1, "otherwise": 2}},
    example="As many lots as (1 while equity below its high in % is above 5, else 2), at most 10.",
    words=("vega", "delta", "half", "drawdown", "scale", "anything"), once=True,
    when_false=f"{NONE}, or not known at this instant",
)  # fmt: skip


def lots(frame: EntryFrame, legs: Sequence[PickedLeg], params: Params) -> int:
    view = frame.observation.view(frame.symbol)
    if view is None:
        return 0
    found = values.over(params["value"], frame.frame(legs, view))
    return 0 if found is None else whole_lots(float(found[0]), 1.0, params["most"])


size_rules.register(SizeRule(DECLARATION, lots))

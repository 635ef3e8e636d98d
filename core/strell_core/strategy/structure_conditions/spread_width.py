"""How wide the quotes of the legs may be."""

from collections.abc import Sequence

from strell_core.market.view import ChainView
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import FALSE, TRUE, UNVALUED, Params, PickedLeg, Verdict
from strell_core.strategy.kinds import EntryFrame, StructureCondition, structure_conditions

DECLARATION = Declaration(
    id="spread_width", section="legs", title="Bid–ask width",
    sentence="Only if the legs' bid–ask width is at most {percent} of their mid.",
    params=(Param("percent", "integer", "At most", 15, 1, 200, 1, "%"),),
    explains="Sum of the legs' spreads divided by the sum of their mids, both without sign. Unvalued when the "
    "mids are zero.",
    example="Only if the legs' bid–ask width is at most 15 % of their mid.", words=("liquidity", "spread"),
    scope="structure", unit="%", price_basis="bid and ask",
    tells=('width',), when_true="{width} %, at most {percent} %", when_false="{width} %, needs at most {percent} %",
    when_unvalued="the legs' mids are zero",
)  # fmt: skip


def judge(frame: EntryFrame, legs: Sequence[PickedLeg], view: ChainView, params: Params) -> Verdict:
    width = sum(abs(leg.contracts) * (leg.quote.ask - leg.quote.bid) for leg in legs)
    double_mid = sum(abs(leg.contracts) * (leg.quote.ask + leg.quote.bid) for leg in legs)
    if double_mid == 0:
        return Verdict(UNVALUED, {"width": None, "percent": params["percent"]})
    truth = TRUE if 200 * width <= params["percent"] * double_mid else FALSE
    return Verdict(truth, {"width": round(200 * width / double_mid, 1), "percent": params["percent"]})


structure_conditions.register(StructureCondition(DECLARATION, judge))

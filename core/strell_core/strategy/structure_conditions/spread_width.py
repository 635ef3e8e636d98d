"""How wide the quotes of the legs may be."""

from collections.abc import Sequence
from decimal import Decimal

from strell_core.market.view import ChainView
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import UNVALUED, Params, PickedLeg, Verdict
from strell_core.strategy import compiled
from strell_core.strategy.compiled import Numbers
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
    contracts, _, bid, ask = compiled.quoted(legs)
    truth, spreads, mids = compiled.width.py_func(contracts, bid, ask, params["percent"])
    shown = None if truth == UNVALUED else round(200 * spreads / mids, 1)
    return Verdict(truth, {"width": shown, "percent": params["percent"]})


def numbers(params: Params, quantum: Decimal) -> Numbers:
    return Numbers(compiled.WIDTH, params["percent"])


structure_conditions.register(StructureCondition(DECLARATION, judge, numbers=numbers))

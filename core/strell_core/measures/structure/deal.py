"""What an adjustment brings or costs: the order that rolls, opens or closes, by itself."""

from strell_core.measures.declaration import Declaration
from strell_core.measures.frames import Structure
from strell_core.measures.measure import Params, StructureMeasure, measures

CREDIT = Declaration(
    id="adjustment_credit", usual=("at least", 0), section="measure", title="Credit of the adjustment", sentence="the credit of this adjustment",
    params=(), explains="What its legs together bring a lot at the prices the sheet fills at, in points; a debit is negative. Options only. Of a "
    "roll it is the credit or debit of this roll. Unvalued where a leg cannot be dealt.",
    example="the credit of this adjustment", words=("roll", "net", "debit", "premium", "for a credit"), scope="adjustment", clock="snapshot",
    unit="points", grid=0.0001,
)  # fmt: skip


def credit(structure: Structure, params: Params) -> float:
    return structure.deal() if structure.deal is not None else float("nan")


measures.register(StructureMeasure(CREDIT, credit))

"""Side balance: the cheaper side's premium divided by the dearer side's."""

from collections.abc import Sequence
from decimal import Decimal

from strell_core.market.view import ChainView
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import UNVALUED, Params, PickedLeg, Verdict
from strell_core.strategy import compiled
from strell_core.strategy.compiled import Numbers
from strell_core.strategy.kinds import EntryFrame, StructureCondition, structure_conditions

DECLARATION = Declaration(
    id="side_balance", section="legs", title="Side balance", sentence="Only if side balance is at least {least}.",
    params=(Param("least", "number", "At least", 0.5, 0, 1, 0.01),),
    explains="Net mid premium of the calls against that of the puts: the smaller divided by the larger, both "
    "taken without sign. Unvalued without both sides, or when the larger is zero.",
    begins={"least": 0.8}, example="Only if side balance is at least 0.80.", words=("balance", "call side", "put side"),
    scope="structure", price_basis="mid",
    tells=('balance',), when_true="{balance}, at least {least}", when_false="{balance}, needs at least {least}",
    when_unvalued="there are not both calls and puts with a premium",
)  # fmt: skip


def judge(frame: EntryFrame, legs: Sequence[PickedLeg], view: ChainView, params: Params) -> Verdict:
    least = numbers(params, view.underlying.quantum).a
    truth, small, large = compiled.balance.py_func(*compiled.quoted(legs), least)
    return Verdict(truth, {"balance": None if truth == UNVALUED else round(small / large, 2), "least": params["least"]})


def numbers(params: Params, quantum: Decimal) -> Numbers:
    return Numbers(compiled.BALANCE, round(params["least"] * 100))


structure_conditions.register(StructureCondition(DECLARATION, judge, numbers=numbers))

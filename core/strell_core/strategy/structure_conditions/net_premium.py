"""A least net credit of the structure."""

from collections.abc import Sequence
from decimal import Decimal

from strell_core.market.prices import PARTS, points_to_quanta
from strell_core.market.view import ChainView
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import FALSE, TRUE, Params, PickedLeg, Verdict
from strell_core.strategy import compiled
from strell_core.strategy.compiled import Numbers
from strell_core.strategy.kinds import EntryFrame, StructureCondition, structure_conditions

DECLARATION = Declaration(
    id="net_premium", section="legs", title="Net premium", sentence="Only if the net {kind} is at least {points} points.",
    params=(
        Param("kind", "choice", "Kind", "credit", choices={"credit": "credit", "debit": "debit"}),
        Param("points", "number", "Points", 5.0, 0, 1000, 0.01),
    ),
    explains="What opening one lot at bid and ask would bring in (credit) or cost (debit), in points. A credit holds at "
    "the fill too: for less the order waits until its session ends.",
    begins={"points": 8.0}, example="Only if the net credit is at least 8.00 points.", words=("credit", "debit", "premium"),
    scope="structure", unit="points", price_basis="bid and ask",
    tells=('premium',), when_true="{kind} {premium}, at least {points}", when_false="{kind} {premium}, needs at least {points}",
)  # fmt: skip


def judge(frame: EntryFrame, legs: Sequence[PickedLeg], view: ChainView, params: Params) -> Verdict:
    quantum = view.underlying.quantum
    _, least, sign, _ = numbers(params, quantum)
    contracts, _, bid, ask = compiled.quoted(legs)
    premium = sign * compiled.credit.py_func(contracts, bid, ask)
    truth = TRUE if premium >= least else FALSE
    shown = {"kind": params["kind"], "premium": float(premium * quantum), "points": params["points"]}
    return Verdict(truth, shown)


def least(params: Params, quantum: Decimal) -> int | None:
    return points_to_quanta(params["points"], quantum) * PARTS if params["kind"] == "credit" else None


def numbers(params: Params, quantum: Decimal) -> Numbers:
    return Numbers(
        compiled.NET_PREMIUM, points_to_quanta(params["points"], quantum), 1 if params["kind"] == "credit" else -1
    )


structure_conditions.register(StructureCondition(DECLARATION, judge, least, numbers=numbers))

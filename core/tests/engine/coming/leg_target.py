"""An exit of one leg with a consequence: buy it back at a share of its premium, then stop the other at its entry."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Params, Stretch, Truths, Values
from strell_core.strategy.actions import Close, Consequence, StopToEntry
from strell_core.strategy.kinds import Exit

DECLARATION = Declaration(
    id="leg_target", section="leave", title="Leg at a share of its premium",
    sentence="Leg {leg} at {percent} of its premium; then leg {other} stops at its entry.",
    params=(
        Param("leg", "sentence", "Leg", ""), Param("other", "sentence", "Other leg", ""),
        Param("percent", "integer", "Share of its premium", 60, 1, 100, 1, "%"),
    ),
    explains="True when 100 × the leg's P/L ≥ percent × its premium, at the price it could be closed at.",
    example="Leg s3 at 60 % of its premium; then leg s4 stops at its entry.", scope="leg", unit="%",
    when_true="P/L of the leg {pnl}", when_false="P/L of the leg {pnl}", when_unvalued="the leg has no valid quote",
)  # fmt: skip


def test(stretch: Stretch, params: Params) -> Truths:
    reached = 100 * stretch.closable >= params["percent"] * stretch.opening
    return stretch.judged(reached, stretch.valued)


def values(stretch: Stretch, params: Params, i: int) -> Values:
    return {"pnl": int(stretch.closable[i]), "leg": params["leg"]}


def closes(params: Params) -> Close:
    return Close((params["leg"],))


def then(params: Params) -> tuple[Consequence, ...]:
    return (StopToEntry(params["other"]),)


EXIT = Exit(DECLARATION, "profit", test, values, closes, then)

"""A profit floor that rises in steps and never falls."""

import numpy as np

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Params, Stretch, Truths, Values
from strell_core.strategy.kinds import Exit, exits

DECLARATION = Declaration(
    id="profit_floor", section="leave", title="Profit floor in steps",
    sentence="Once {start} of the opening premium is earned, at a floor of {floor}, raised by {step} for every {step} more.",
    params=(
        Param("start", "integer", "From", 40, 1, 1000, 1, "%"), Param("floor", "integer", "Floor", 20, 0, 1000, 1, "%"),
        Param("step", "integer", "For every", 20, 1, 1000, 1, "%"),
    ),
    explains="The best P/L at mid since the first fill raises the floor: at the first level to its own percentage of the opening premium, and for "
    "every whole step more by a step. True when P/L at mid is at or below the floor. Unvalued while a leg has no valid quote, and "
    "when the premium was zero.",
    example="Once 40 % of the opening premium is earned, at a floor of 20 %, raised by 20 % for every 20 % more.",
    words=("lock profit", "trailing", "ratchet", "steps"), scope="position", unit="%", price_basis="mid",
    tells=("pnl", "best", "premium", "locked"), when_true="P/L {pnl} fell to the floor of {locked} % of the premium {premium}; best {best}",
    when_false="P/L {pnl}, best {best}, floor {locked} %", when_unvalued="a leg has no valid quote",
)  # fmt: skip


def _floor(stretch: Stretch, params: Params) -> tuple[np.ndarray, np.ndarray]:
    """Whether a floor holds, and what it is in percent of the premium, both ``(n,)``."""
    premium = abs(stretch.opening)
    beyond = 100 * stretch.best - params["start"] * premium
    steps = np.maximum(beyond, 0) // max(1, params["step"] * premium)
    return beyond >= 0, params["floor"] + steps * params["step"]


def test(stretch: Stretch, params: Params) -> Truths:
    begun, floor = _floor(stretch, params)
    fallen = 100 * stretch.mid <= floor * abs(stretch.opening)
    return stretch.judged(begun & fallen, stretch.valued & (stretch.opening != 0))


def values(stretch: Stretch, params: Params, i: int) -> Values:
    begun, floor = _floor(stretch, params)
    return {
        "pnl": int(stretch.mid[i]), "best": int(stretch.best[i]), "premium": abs(stretch.opening),
        "locked": int(floor[i]) if begun[i] else 0,
    }  # fmt: skip


exits.register(Exit(DECLARATION, "loss", test, values))

"""A trailing stop on the trade's P/L, once it has earned something."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Params, Stretch, Truths, Values
from strell_core.strategy import compiled
from strell_core.strategy.compiled import Numbers
from strell_core.strategy.kinds import Exit, exits

DECLARATION = Declaration(
    id="trailing_profit", section="leave", title="Trailing stop on P/L",
    sentence="Once {start} of the opening premium is earned, at {back} of the premium below the best P/L.",
    params=(
        Param("start", "integer", "Starts at", 30, 1, 1000, 1, "%"),
        Param("back", "integer", "Gives back", 20, 1, 1000, 1, "%"),
    ),
    explains="The best P/L starts at the first fill and includes the current snapshot; best and present P/L are "
    "both at mid. Unvalued while a leg has no valid quote, and when the premium was zero.",
    example="Once 30 % of the opening premium is earned, at 20 % of the premium below the best P/L.",
    words=("trailing stop", "lock profit"), scope="position", unit="%", price_basis="mid",
    tells=('pnl', 'best', 'premium'), when_true="P/L {pnl} fell {back} % of the premium {premium} below its best {best}",
    when_false="P/L {pnl}, best {best}", when_unvalued="a leg has no valid quote",
)  # fmt: skip


def test(stretch: Stretch, params: Params) -> Truths:
    premium = abs(stretch.opening)
    begun = 100 * stretch.best >= params["start"] * premium
    fallen = 100 * (stretch.best - stretch.mid) >= params["back"] * premium
    return stretch.judged(begun & fallen, stretch.valued & (premium > 0))


def values(stretch: Stretch, params: Params, i: int) -> Values:
    return {
        "pnl": int(stretch.mid[i]), "best": int(stretch.best[i]), "premium": abs(stretch.opening), "back": params["back"],
    }  # fmt: skip


def first(stretch: Stretch, params: Params, since: int) -> int:
    premium, start, back = abs(stretch.opening), params["start"], params["back"]
    return int(compiled.first_fallen(stretch.best, stretch.mid, stretch.valued, premium, start, back, since))


def numbers(params: Params) -> Numbers:
    return Numbers(compiled.TRAILING, params["start"], params["back"])


exits.register(Exit(DECLARATION, "other", test, values, first=first, numbers=numbers))

"""What a position has earned: now, at best, and the drop since."""

import numpy as np

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Stretch
from strell_core.measures.measure import Params, PositionMeasure, Series, measures
from strell_core.measures.position.shape import capital_as_opened, most

BASIS = Param("basis", "choice", "At", "mid", choices={"mid": "mid", "closable": "prices it could be closed at"})
UNIT = Param(
    "unit", "choice", "In", "money",
    choices={
        "money": "money", "premium": "% of the premium", "capital": "% of the capital",
        "most": "% of the maximum profit",
    },
)  # fmt: skip
UNITS = (
    "In money; in percent of the opening premium without sign; of the capital that the legs held took, by the strategy-based rules at the "
    "prices they were opened at and the underlying's price at the first fill; or of the most the whole trade can make at expiration. "
)
PNL = Declaration(
    id="pnl", usual=("at most", -500), section="measure", title="P/L", sentence="P/L at {basis} in {unit}", params=(BASIS, UNIT),
    explains=f"Of the whole trade, realised parts included, before costs. {UNITS}Unvalued while a leg has no valid quote, and in percent "
    "of what is not there: a maximum profit without bounds, or of legs that expire apart.",
    example="P/L at mid in money", words=("profit", "loss", "result", "money stop", "return on capital", "maximum profit"), scope="position", clock="snapshot", grid=0.0001,
    price_basis="mid or closable",
)  # fmt: skip
BEST = Declaration(
    id="best_pnl", usual=("at least", 500), section="measure", title="Best P/L", sentence="the best P/L so far in {unit}", params=(UNIT,),
    explains=f"Highest P/L at mid since the first fill, this snapshot included. {UNITS}".strip(),
    example="the best P/L so far in money", words=("highest", "peak", "trailing"), scope="position", clock="snapshot", grid=0.0001,
    price_basis="mid",
)  # fmt: skip
DROP = Declaration(
    id="pnl_drop", usual=("at least", 300), section="measure", title="Drop from the best P/L", sentence="the drop from the best P/L in {unit}", params=(UNIT,),
    explains=f"Best P/L less P/L now, both at mid. {UNITS}Unvalued while a leg has no valid quote.",
    example="the drop from the best P/L in money", words=("give back", "trailing"), scope="position", clock="snapshot", grid=0.0001,
    price_basis="mid",
)  # fmt: skip


def _in_unit(stretch: Stretch, parts: Series, params: Params) -> Series:
    """Parts times contracts as money, or in percent of something the position has."""
    if params["unit"] == "money":
        return parts * stretch.worth
    if params["unit"] == "premium":
        return 100 * parts / abs(stretch.opening) if stretch.opening else np.full(len(parts), np.nan)
    return 100 * parts * stretch.worth / OF[params["unit"]](stretch)


OF = {"capital": capital_as_opened, "most": most}


def pnl(stretch: Stretch, params: Params) -> Series:
    parts = stretch.mid if params["basis"] == "mid" else stretch.closable
    return _in_unit(stretch, np.where(stretch.valued, parts, np.nan), params)


def best(stretch: Stretch, params: Params) -> Series:
    known = stretch.best > NEVER
    return _in_unit(stretch, np.where(known, stretch.best, np.nan), params)


def drop(stretch: Stretch, params: Params) -> Series:
    return _in_unit(stretch, np.where(stretch.valued, stretch.best - stretch.mid, np.nan), params)


NEVER = -(2**61)
"""Below every P/L: no leg had a valid quote yet."""
for _declaration, _series in ((PNL, pnl), (BEST, best), (DROP, drop)):
    measures.register(PositionMeasure(_declaration, _series))

"""One value while a comparison holds, another otherwise."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

import numpy as np

from strell_core.market.market import Market
from strell_core.measures import values
from strell_core.measures.compare import COMPARISONS, compared
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import FALSE, TRUE, Frame
from strell_core.measures.measure import Measure, Params, Series, measures

DECLARATION = Declaration(
    id="while", begins={"left": {"measure": "iv_rank"}, "right": 50, "otherwise": 0}, section="measure", title="One value while something holds", sentence="({then} while {left} is {is} {right}, else {otherwise})",
    params=(
        Param("then", "value", "Value", 1), Param("left", "value", "While", 0),
        Param("is", "choice", "Is", "above", choices=COMPARISONS), Param("right", "value", "Than", 0), Param("otherwise", "value", "Else", 0),
    ),
    explains="The first value at every snapshot at which the comparison holds, the last at the others. Unvalued while the comparison is; "
    "where one of its sides does not exist it does not hold.",
    example="(1 while equity below its high in % is above 5, else 2)", words=("if", "otherwise", "depending", "half", "regime", "until"),
    scope="combined",
)  # fmt: skip
SIDES = ("left", "right")


@dataclass(frozen=True)
class While(Measure):
    def clock(self, params: Params) -> str:
        return values.finest(values.clock_of(params[name]) for name in ("then", *SIDES, "otherwise"))

    def over(self, frame: Frame, params: Params) -> Series | None:
        left, right = (values.over(params[name], frame) for name in SIDES)
        if left is None or right is None:
            return values.over(params["otherwise"], frame)
        held = compared(params["is"], left, right)
        out = np.full(frame.end - frame.begin, np.nan)
        for truth, name in ((TRUE, "then"), (FALSE, "otherwise")):
            here = held == truth
            if here.any():
                found = values.over(params[name], frame)
                if found is None:
                    return None if here.all() else out
                out[here] = found[here]
        return out

    def by_session(self, market: Market, symbol: str, params: Params, units_of: dt.date | None = None) -> Series:
        left, right = (values.by_session(params[name], market, symbol, units_of) for name in SIDES)
        then, otherwise = (values.by_session(params[name], market, symbol, units_of) for name in ("then", "otherwise"))
        held = compared(params["is"], left, right)
        made: Series = np.where(held == TRUE, then, np.where(held == FALSE, otherwise, np.nan))
        return made


measures.register(While(DECLARATION))

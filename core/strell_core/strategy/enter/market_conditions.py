"""Ready-made conditions on the measures that most are asked for: "only if <measure> is above or below <level>"."""

from typing import Any

import numpy as np

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import FALSE, TRUE, UNVALUED, Frame, Params, Truths, Verdict
from strell_core.measures.measure import MarketMeasure, load
from strell_core.strategy.kinds import EnterCondition, EntryFrame, enter_conditions

_LEVELS = {
    "atm_iv": (15, 0, 300), "average_gap": (0, -50, 50), "iv_rank": (30, 0, 100), "realised_volatility": (15, 0, 300), "rsi": (30, 0, 100),
}  # fmt: skip
"""Level to begin with, lowest and highest."""


def condition_on(measure: MarketMeasure) -> EnterCondition:
    """The entry condition made from a measure's declaration."""
    base = measure.declaration
    asked = tuple(param for param in base.params if not param.optional)
    default, low, high = _LEVELS[base.id]
    declaration = Declaration(
        id=f"when_{base.id}", section="enter", title=base.title, version=base.version,
        sentence=f"Only if {base.sentence} is {{comparison}} {{level}}.",
        params=(
            *asked,
            Param("comparison", "choice", "Comparison", "above", choices={"above": "above", "below": "below"}),
            Param("level", "number", "Level", default, low, high, 0.5, base.unit),
        ),
        explains=base.explains, example=base.example, begins=_begins(base), words=base.words, unit=base.unit, grid=base.grid,
        warm_up=base.warm_up, needs=base.needs,
        mirror={"comparison": {"above": "below", "below": "above"}} if base.id in ("rsi", "average_gap") else {},
        tells=("value",), when_true="{value}, {comparison} {level}", when_false="{value}, needs {comparison} {level}",
        when_unvalued=f"{base.title} has no value yet",
    )  # fmt: skip

    def own(params: Params) -> Params:
        """The measure's values, without those of the comparison."""
        return {param.name: params[param.name] for param in asked}

    def judge(frame: EntryFrame, params: Params) -> Verdict:
        value = measure.at(frame.observation, own(params))
        values = {"value": value, "comparison": params["comparison"], "level": params["level"]}
        if value is None:
            return Verdict(UNVALUED, values)
        return Verdict(TRUE if _held(value, params) else FALSE, values)

    def over(frame: Frame, params: Params) -> Truths:
        found = measure.over(frame, own(params))
        if found is None:
            return np.full(frame.end - frame.begin, UNVALUED, np.int8)
        return np.where(np.isnan(found), UNVALUED, np.where(_held(found, params), TRUE, FALSE)).astype(np.int8)

    return EnterCondition(declaration, judge, over)


def _begins(measure: Declaration) -> Params:
    comparison, level = measure.usual or ("above", 0)
    return {"comparison": comparison, "level": level}


def _held(value: Any, params: Params) -> Any:
    """Whether a value, or each of several, is on the wanted side of the level."""
    return value > params["level"] if params["comparison"] == "above" else value < params["level"]


for _name in _LEVELS:
    _measure = load()[_name]
    assert isinstance(_measure, MarketMeasure)
    enter_conditions.register(condition_on(_measure))

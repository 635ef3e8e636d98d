"""What adjustments have in common: the condition they wait for, when they are looked at, what goes with them, what has to
hold of the position as it would be, and what happens where they cannot be made."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping
from typing import Any

from strell_core.market.instruments import ContractKey
from strell_core.market.view import ChainView
from strell_core.measures.declaration import WEEKDAYS, Declaration, Param, minutes
from strell_core.measures.frames import TRUE, Frame, Params, PickedLeg, Stretch, Structure, Truths, Values
from strell_core.measures.params import TimeKind, param_kinds
from strell_core.strategy import conditions
from strell_core.strategy.actions import Consequence, Reenter
from strell_core.strategy.condition_truths import MARKET, truths
from strell_core.strategy.kinds import AdjustFrame
from strell_core.strategy.schedule import Schedule

SCOPES = (*MARKET, "position", "leg")
GOAL_SCOPES = (*MARKET, "structure", "leg", "adjustment")
"""Of what is asked of a position as it would be."""
GONE: dict[str, tuple[str, ...]] = {
    "closed": ("order",), "expired": ("settlement",), "delivered": ("exercise", "assignment"),
    "gone": ("order", "settlement", "exercise", "assignment"),
}  # fmt: skip
"""Looks on something that happened to a leg, by how it is gone."""
EVERY = "every"
ROLLS_TO_A_PICK = "roll_like"
"""The adjustment that rolls a leg to what another's sentence picks."""
OPENS_A_LEG = "open_leg"
"""The adjustment that opens a leg later."""


class DailyKind(TimeKind):
    """A time of every day at which a sentence is looked at."""

    def text(self, param: Param, value: Any) -> str:
        return f"every day at {value}"


param_kinds["daily"] = DailyKind()
DAILY = Param("daily", "daily", "Look at a time of its own…", None, optional=True, begins="15:45", leads=", looked at ")
UPON = Param(
    "upon", "choice", "Look on something…", None, optional=True, begins="gone", leads=", looked at ",
    choices={
        EVERY: "on every snapshot", "gone": "as soon as a leg is gone", "closed": "as soon as a leg is closed",
        "expired": "as soon as a leg has expired", "delivered": "as soon as a leg is assigned or exercised",
    },
)  # fmt: skip
PROVIDED = Param(
    "provided", "condition", "Provided that…", None, optional=True, begins={"left": {"measure": "structure_greek"}, "is": "above", "right": 0.0},
    scopes=GOAL_SCOPES, leads=", provided that then ",
)  # fmt: skip
PROVIDED_ALSO = Param(
    "provided_also", "all_conditions", "Provided also that…", None, optional=True, scopes=GOAL_SCOPES,
    begins=[{"left": {"measure": "adjustment_credit"}, "is": "at least", "right": 0.0}],
)  # fmt: skip
FURTHER = Param(
    "further", "choice", "With the next adjustment…", None, optional=True, begins="may",
    choices={"may": "and then the next adjustment", "must": "only with the next adjustment"},
)  # fmt: skip
ONLY = Param(
    "only", "choice", "Only after the one before…", None, optional=True, begins="after", leads=", ",
    choices={"after": "only as a further step of the adjustment before it"},
)  # fmt: skip
OFTEN = Param(
    "often", "choice", "More than once a session…", None, optional=True, begins="often", leads=", ",
    choices={"often": "as often as it holds"},
)  # fmt: skip
OTHERWISE = Param(
    "otherwise", "choice", "Or else…", None, optional=True, begins="close",
    choices={"close": "or else close the position", "again": "or else close the position and enter again"},
)  # fmt: skip
ANY_NUMBER = 10_000
"""Re-entries in a chain: no limit."""
WHAT = Param("what", "leg", "Leg", "")
LOOKS = (DAILY, UPON)
WHEN_LOOKED_AT = (
    "Looked at when the entry is, or when the sentence says so: at a time of every day, on every snapshot, or from the moment a leg is gone "
    "until that session ends (the next one, for what happens at a session's end). "
)
WHOLE = (
    "With the next adjustment: that is judged on the position as this one would leave it, and both are one order. What is provided "
    "is asked of a lot of the position as all of it would be. As a further step only: it is never asked by itself. As often as it holds: "
    "also when the trade was adjusted in this session already."
)


def declared(
    key: str, title: str, does: str, params: tuple[Param, ...], says: str, example: str, words: tuple[str, ...],
    or_else: bool = True,
) -> Declaration:  # fmt: skip
    """The declaration of an adjustment that waits for a condition. ``does``: what it does, in the words of its sentence;
    ``or_else``: the sentence may say what happens where that cannot be done."""
    clause, param = ("{otherwise}", (OTHERWISE,)) if or_else else ("", ())
    return conditions.declared(
        "adjusts", id=key, section="adjust", title=title,
        sentence=f"When {{left}} is {{is}} {{right}}{{looks}}{{also}}{{until}}, {does}{{further}}{{provided}}{{provided_also}}{clause}{{only}}{{daily}}{{upon}}{{often}}.",
        params=(*params, PROVIDED, PROVIDED_ALSO, FURTHER, *param, ONLY, *LOOKS, OFTEN), explains=f"{says}{WHOLE}", example=example, words=("adjust", *words), scope="position",
    )  # fmt: skip


def test(stretch: Stretch, params: Params) -> Truths:
    return truths(params, stretch.frame)


def values(stretch: Stretch, params: Params, i: int) -> Values:
    return conditions.told(params, stretch.frame, i)


def otherwise(params: Params) -> tuple[Consequence, ...] | None:
    said = params.get("otherwise")
    if said is None:
        return None
    return (Reenter(at_most=ANY_NUMBER),) if said == "again" else ()


def schedule_of(params: Params, decides_single: bool) -> Schedule | None:
    """When a sentence says that it is looked at by itself; ``None``: it says nothing of it."""
    daily, upon = params.get("daily"), params.get("upon")
    if daily is None and upon is None:
        return None
    times = () if daily is None else (minutes(daily),)
    return Schedule(dict.fromkeys(range(len(WEEKDAYS)), times), decides_single)


def structure(
    frame: AdjustFrame, view: ChainView, held: Iterable[tuple[str, ContractKey, int]], lots: int | None = None,
    deal: Callable[[], float] | None = None,
) -> Frame:  # fmt: skip
    """Where values of a structure are asked for of legs, each with its contracts: of a lot of them, or of one of so many
    ``lots``. ``deal``: what the adjustment brings that makes it, in points; nothing: that from what is held."""
    legs = list(held)
    parts = lots or math.gcd(*(contracts for _, _, contracts in legs))
    picked = [PickedLeg(name, contract, contracts // parts, view.quote(contract)) for name, contract, contracts in legs]
    index = frame.observation.index

    def brings() -> float:
        return (frame.deal(legs) if deal is None else deal()) / parts

    return Frame(frame.observation.market, index, index + 1, frame.symbol, None, Structure(picked, view, brings))


def provided(params: Params) -> list[Mapping[str, Any]]:
    """All that has to hold of the position as it would be."""
    first = params.get("provided")
    return [*([first] if first else []), *(params.get("provided_also") or ())]


def is_often(params: Params) -> bool:
    """Whether a sentence acts however often a trade was adjusted in the session."""
    return params.get("often") is not None


def holds(condition: Params, where: Frame) -> bool:
    """Whether a condition holds at a frame's first snapshot."""
    return int(truths(condition, where)[0]) == TRUE

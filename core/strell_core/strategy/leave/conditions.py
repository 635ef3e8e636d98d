"""Exits on any value: of the position, a leg, the market or the clock; what they close, how, and what follows."""

from collections.abc import Callable
from fractions import Fraction

import numpy as np

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import FALSE, TRUE, Params, Stretch, Truths, Values
from strell_core.strategy import conditions
from strell_core.strategy.actions import Close, CloseAlso, Consequence, Reenter, StopToEntry
from strell_core.strategy.condition_truths import MARKET, to_leave
from strell_core.strategy.kinds import Exit, ExitKind, exits

SCOPES = (*MARKET, "position", "leg")
WAYS = {"other": "patiently", "loss": "at the market", "profit": "on firm marks"}
AS = Param("as", "choice", "How", "other", choices=WAYS)
WHAT = Param("what", "leg", "Leg", "")
OTHER = Param("other", "leg", "Other leg", "")
WAY_WORDS = (
    "Patiently: at the prices the sheet fills at. At the market: across the spread at once, before other exits, as a stop "
    "leaves. On firm marks: patiently, and not on a mark that is too wide or a session's last."
)
WHEN = Param("when", "choice", "When", "now", choices={"now": "at once", "next": "at the next decision time"})
PICKS = Param(
    "picks", "choice", "Picks", "fresh", choices={"fresh": "with fresh picks", "same": "in the same contracts"}
)
STOPS: Params = {"as": "loss"}
"""A new sentence that begins as a stop leaves like one."""
PATIENT: Params = {}
"""One that takes a profit or does something else leaves as its parameters begin: with limit orders."""
BEGINS = conditions.params(SCOPES, {"measure": "pnl"}, "at most", -500.0)
OF_LEG = conditions.params(SCOPES, {"measure": "leg_pnl"}, "at least", 60.0)


def _declared(
    key: str, title: str, sentence: str, params: tuple[Param, ...], example: str, more: str = "", words: tuple[str, ...] = (),
    begins: Params = STOPS,
) -> Declaration:  # fmt: skip
    return conditions.declared(
        "leaves", id=key, section="leave", title=title, sentence=sentence, params=params, example=example,
        explains=f"Looked at on every snapshot; what the clock makes true with a session's last one, on the one before it, so that it is done in "
        f"that session. {more}{WAY_WORDS}", words=("if", "when", "general", "measure", *words), scope="position",
        begins=begins,
    )  # fmt: skip


POSITION = _declared(
    "condition", "An exit on any value", "Close the position {as} when {left} is {is} {right}{looks}{also}{until}.", (AS, *BEGINS),
    "Close the position at the market when P/L at mid in money is at most −500.", words=("stop", "target", "money stop"),
)  # fmt: skip
SHARE = _declared(
    "condition_share", "Close a share of the lots", "Close {percent} of the lots {as} when {left} is {is} {right}{looks}{also}{until}.",
    (Param("percent", "integer", "Share", 50, 1, 99, 1, "%"), AS, *conditions.params(SCOPES, {"measure": "pnl", "unit": "premium"}, "at least", 25.0)),
    "Close 50 % of the lots patiently when P/L at mid in % of the premium is at least 25.",
    "Acts once a trade, on the lots it was opened with, rounded down, at least one. ", ("partial", "scale out", "half"), PATIENT,
)  # fmt: skip
LEG = _declared(
    "leg_condition", "Close one leg", "Close {what} {as} when {left} is {is} {right}{looks}{also}{until}.", (WHAT, AS, *OF_LEG),
    "Close leg 3 patiently when P/L of leg 3 at mid in % of its premium is at least 60.", words=("leg target", "leg stop"), begins=PATIENT,
)  # fmt: skip
LEG_STOP = _declared(
    "leg_condition_stop", "Close one leg, the other stops at its entry",
    "Close {what} {as} when {left} is {is} {right}{looks}{also}{until}; then {other} stops at its entry.", (WHAT, AS, *OF_LEG, OTHER),
    "Close leg 3 patiently when P/L of leg 3 at mid in % of its premium is at least 60; then leg 4 stops at its entry.",
    "When the leg is closed, the other leaves at the market as soon as its mid is back at what it was opened for. ",
    ("linked", "stop to entry", "break-even stop"), PATIENT,
)  # fmt: skip
LEG_PARTNER = _declared(
    "leg_condition_partner", "Close one leg, then its partner",
    "Close {what} {as} when {left} is {is} {right}{looks}{also}{until}; then {other} closes too.", (WHAT, AS, *OF_LEG, OTHER),
    "Close leg 3 at the market when P/L of leg 3 at mid in % of its premium is at most −100; then leg 5 closes too.",
    "When the leg is closed, its partner follows at the market. ", ("linked", "wing", "side"), {"as": "loss", "is": "at most", "right": -100},
)  # fmt: skip
AGAIN = _declared(
    "condition_again", "Close everything and enter again",
    "Close the position {as} when {left} is {is} {right}{looks}{also}{until}; then enter again {when} {picks}, at most {times|time|times} in a row.",
    (AS, *BEGINS, WHEN, PICKS, Param("times", "integer", "At most", 1, 1, 50)),
    "Close the position at the market when P/L at mid in money is at most −500; then enter again at once with fresh picks, at most 1 time in a row.",
    "The entry is judged again on the snapshot in which the last leg is closed, or at its next decision time; what refuses it then "
    "ends the chain. In the same contracts: in those that the exit closed, as far as they belong to the entry, if they have valid quotes. ",
    ("re-entry", "again", "re-enter"),
)  # fmt: skip
OTHER_ENTRY = _declared(
    "condition_other_entry", "Close everything and enter by another entry",
    "Close the position {as} when {left} is {is} {right}{looks}{also}{until}; then enter {entry} {when}, at most {times|time|times} in a row.",
    (AS, *BEGINS, Param("entry", "entry", "Entry", ""), WHEN, Param("times", "integer", "At most", 1, 1, 50)),
    "Close the position at the market when P/L at mid in money is at most −500; then enter “falling” at once, at most 1 time in a row.",
    "That entry's conditions, picks and size are judged on the snapshot in which the last leg is closed, or at its next decision time; what refuses "
    "it then ends the chain. The chain is counted through all entries. ",
    ("re-entry", "turn around", "reverse", "flip", "opposite", "another entry"),
)  # fmt: skip


def test(stretch: Stretch, params: Params) -> Truths:
    found = to_leave(params, stretch.frame)
    if params["as"] == "profit":
        found = np.where((found == TRUE) & stretch.doubtful, FALSE, found).astype(np.int8)
    return found


def values(stretch: Stretch, params: Params, i: int) -> Values:
    return conditions.told_to_leave(params, stretch.frame, i)


def kind_of(params: Params) -> ExitKind:
    found: ExitKind = params["as"]
    return found


def _share(params: Params) -> Close:
    return Close(share=Fraction(int(params["percent"]), 100))


def _leg(params: Params) -> Close:
    return Close((str(params["what"]),))


def _whole(params: Params) -> Close:
    return Close()


def _nothing(params: Params) -> tuple[Consequence, ...]:
    return ()


def _again(params: Params) -> tuple[Consequence, ...]:
    later, same = params["when"] == "next", params["picks"] == "same"
    return (Reenter(at_most=int(params["times"]), later=later, same=same),)


def _other_entry(params: Params) -> tuple[Consequence, ...]:
    return (Reenter(str(params["entry"]), int(params["times"]), params["when"] == "next"),)


Closes = Callable[[Params], Close]
Then = Callable[[Params], tuple[Consequence, ...]]
_EVERY: tuple[tuple[Declaration, Closes, Then], ...] = (
    (POSITION, _whole, _nothing),
    (SHARE, _share, _nothing),
    (LEG, _leg, _nothing),
    (LEG_STOP, _leg, lambda params: (StopToEntry(str(params["other"])),)),
    (LEG_PARTNER, _leg, lambda params: (CloseAlso(str(params["other"])),)),
    (AGAIN, _whole, _again),
    (OTHER_ENTRY, _whole, _other_entry),
)
for _declaration, _closes, _then in _EVERY:
    exits.register(Exit(_declaration, "other", test, values, _closes, _then, asks_all=True, kind_of=kind_of))

"""Sentences that stand in each other's way. Nothing is wrong with any of them; together, one cannot do what it says."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from strell_core.measures.params import minutes
from strell_core.strategy import catalogue, kinds
from strell_core.strategy.adjusting import OPENS_A_LEG, ROLLS_TO_A_PICK
from strell_core.strategy.parts import switched_on

Item = Mapping[str, Any]
_ACTS_SOONER: dict[str, Callable[[Item], tuple[float, ...]]] = {
    "credit_target": lambda item: (item["percent"],),
    "debit_target": lambda item: (item["percent"],),
    "premium_stop": lambda item: (item["percent"],),
    "days_held": lambda item: (item["days"], minutes(item["time"])),
    "before_expiration": lambda item: (-item["days"], minutes(item["time"])),
}
"""Exits of which, of one kind, the one with the lowest of these acts first."""


_OF_PREMIUM = ("credit_target", "debit_target", "premium_stop", "trailing_profit", "profit_floor")
_OF_POSITION = ("pnl", "best_pnl", "pnl_drop")


def remarks(document: Mapping[str, Any], numbers: Mapping[str, int]) -> dict[str, str]:
    """What stands in the way of sentences of a normalised document, by their ids; ``numbers`` are those of its sheet."""
    out: dict[str, str] = {}
    common = [item for _, item in switched_on(document["leave"])]
    timed = {entry["id"]: _timed(entry) for entry in document["entries"]}
    for entry in document["entries"]:
        own = [item for _, item in switched_on(entry["leave"])]
        every = [*common, *own]
        _overtaken(every if len(document["entries"]) == 1 else own, every, numbers, out)
        _window(entry, every, numbers, out)
        _of_premium(entry, every, out)
        adjust = [item for _, item in switched_on([*document["adjust"], *entry["adjust"]])]
        _later(entry, adjust, numbers, out)
        _looks(adjust, timed[entry["id"]], out)
        for item in every:
            # where it does not name an entry it is its own that is made again
            if item.get("when") == "next" and not timed[item.get("entry", entry["id"])]:
                out[item["id"]] = "What it enters has no decision times, so it waits for ever: enter at once."
    _overtaken(common, common, numbers, out)
    for _, item in switched_on(document["orders"]):
        if item["rule"] == "patience" and item["most"] < item["start"]:
            out[item["id"]] = f"It starts beyond {item['most']} % and stays where it starts."
        elif item["rule"] == "patience" and item["most"] > item["start"] and item["step"] == 0:
            out[item["id"]] = f"Without a step it stays at {item['start']} %."
    return out


def _of_premium(entry: Item, leave: Sequence[Item], out: dict[str, str]) -> None:
    """Exits by a share of the premium of trades that hold units from their entry on."""
    if any(leg["rule"] == catalogue.UNITS.id for _, leg in switched_on(entry["legs"])):
        for item in leave:
            if item["rule"] in _OF_PREMIUM or (
                (item.get("left") or {}).get("unit") == "premium" and item["left"]["measure"] in _OF_POSITION
            ):
                out[item["id"]] = (
                    "It is never known: the position holds units, so its P/L is no share of a premium. Say it in money, or of one leg."
                )


def _overtaken(mine: Sequence[Item], every: Sequence[Item], numbers: Mapping[str, int], out: dict[str, str]) -> None:
    """Exits behind another of their kind that acts on the same trades sooner."""
    for item in mine:
        sooner = _ACTS_SOONER.get(item["rule"])
        alike = [other for other in every if other["rule"] == item["rule"] and other is not item]
        if sooner is None or not alike:
            continue
        first = min(alike, key=lambda other: (sooner(other), numbers[other["id"]]))
        if sooner(first) < sooner(item):
            out[item["id"]] = f"Sentence {numbers[first['id']]} always acts before it."
        elif sooner(first) == sooner(item) and numbers[first["id"]] < numbers[item["id"]]:
            out[item["id"]] = f"It says what sentence {numbers[first['id']]} says."


def _window(entry: Item, leave: Sequence[Item], numbers: Mapping[str, int], out: dict[str, str]) -> None:
    """Exits by days beside how far expirations are picked, where all legs expire together."""
    legs = [leg for _, leg in switched_on(entry["legs"]) if leg["rule"] in catalogue.OPTION_LEGS]
    picks = [leg["expiry"] for leg in legs]
    if not picks or picks[0]["pick"] != "nearest_days" or any(pick["pick"] != "same_expiration" for pick in picks[1:]):
        return
    farthest, first = picks[0]["to"], numbers[legs[0]["id"]]
    for item in leave:
        if item["rule"] == "before_expiration" and item["days"] >= farthest:
            out[item["id"]] = f"It leaves at once: sentence {first} picks expirations at most {farthest} days away."
        elif item["rule"] == "days_held" and item["days"] > farthest:
            out[item["id"]] = f"It comes too late: sentence {first} picks expirations at most {farthest} days away."


def _timed(entry: Item) -> bool:
    """Whether an entry has decision times, be they those of a series."""
    return any(kinds.schedules[item["rule"]].of(item).timed for _, item in switched_on(entry["when"]))


def _looks(adjust: Sequence[Item], timed: bool, out: dict[str, str]) -> None:
    """Adjustments that wait for one behind them that is not there, or for an entry's times that it does not have."""
    for item in adjust:
        if item.get("further") == "must" and item is adjust[-1]:
            out[item["id"]] = "There is no next adjustment, so it never acts."
        elif not timed and not item.get("daily") and not item.get("upon"):
            out[item["id"]] = "The entry has no decision times: say when this is looked at."


def _later(entry: Item, adjust: Sequence[Item], numbers: Mapping[str, int], out: dict[str, str]) -> None:
    """Legs that nothing opens, and what would open a leg that the entry opens."""
    legs = {leg["id"]: leg["rule"] for _, leg in switched_on(entry["legs"])}
    opened = {item["what"] for item in adjust if item["rule"] == OPENS_A_LEG}
    # what another leg is rolled to may be nothing but a pick
    opened |= {item["other"] for item in adjust if item["rule"] == ROLLS_TO_A_PICK}
    for name, rule in legs.items():
        if rule == catalogue.LATER_LEG.id and name not in opened:
            out[name] = "Nothing opens it: add “Open a leg” to the adjustments."
    for item in adjust:
        if item["rule"] == OPENS_A_LEG and legs.get(item["what"], catalogue.LATER_LEG.id) != catalogue.LATER_LEG.id:
            out[item["id"]] = f"Leg {numbers[item['what']]} is opened by the entry: name one that is opened later."
    for before, item in zip([None, *adjust], adjust, strict=False):
        if item.get("only") and not (before or {}).get("further"):
            out[item["id"]] = "It never acts: the adjustment before it does not go on with the next one."

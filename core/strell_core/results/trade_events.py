"""All that happened to a trade, in order: what was decided and why, what was refused, what was dealt, delivered, paid."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import Any

from strell_core.engine.run import History
from strell_core.engine.state import LedgerEntry, Reason

REPEATED = ("no adjustment", "waits")
"""Kinds of what is said again at every look while it lasts."""


@dataclass(frozen=True)
class TradeEvent:
    """One thing that happened. ``rule``: the sentence's id; ``values`` are those of the engine's reason."""

    at: int
    kind: str
    rule: str
    truth: int | None
    values: Mapping[str, Any]
    dealt: tuple[LedgerEntry, ...] = field(default=(), repr=False)
    """What moved money with it."""
    times: int = 1
    """How often it was said, one time after another."""
    until: int = 0
    """When it was last said; 0: it was once."""

    @property
    def amount(self) -> Decimal:
        """Money moved with it, costs included."""
        return sum((entry.amount for entry in self.dealt), Decimal(0))


def trade_events(history: History) -> dict[int, list[TradeEvent]]:
    """Of every trade of a run, by its number, what happened to it. What is said again at one look after another is one event.
    Money that moved at an instant at which several orders were filled stands with the last of them; all of it together is
    the trade's."""
    said: dict[int, list[Reason]] = defaultdict(list)
    for reason in history.reasons:
        if reason.trade is not None:
            said[reason.trade].append(reason)
    moved: dict[int, list[LedgerEntry]] = defaultdict(list)
    for entry in history.entries:
        moved[entry.trade].append(entry)
    return {number: _events(reasons, moved[number]) for number, reasons in said.items()}


def _events(reasons: list[Reason], moved: list[LedgerEntry]) -> list[TradeEvent]:
    out: list[TradeEvent] = []
    for reason in reasons:
        before = out[-1] if out else None
        made = TradeEvent(reason.at, reason.kind, reason.rule, reason.truth, reason.values)
        if before and made.kind in REPEATED and (before.kind, before.rule) == (made.kind, made.rule):
            out[-1] = replace(before, times=before.times + 1, until=made.at)
        else:
            out.append(made)
            if made.kind == "lapsed" and _again(out):
                first, second = out[-4], out[-3]
                again = [
                    replace(item, times=item.times + 1, until=last.at)
                    for item, last in zip((first, second), out[-2:], strict=True)
                ]
                out[-4:] = again
    left = list(moved)
    for place in reversed(range(len(out))):
        event = out[place]
        kinds = KIND_OF_MONEY.get(event.kind, ())
        mine = [entry for entry in left if entry.at == event.at and entry.kind in kinds]
        if mine:
            out[place] = replace(event, dealt=tuple(mine))
            left = [entry for entry in left if entry not in mine]
    return out


def _again(events: list[TradeEvent]) -> bool:
    """Whether the last two events, an order that was decided and lapsed, are the two before them once more."""
    if len(events) < 4 or events[-2].kind != "moved":
        return False
    pairs = zip(events[-4:-2], events[-2:], strict=True)
    return all(
        (one.kind, one.rule, one.values.get("contracts")) == (other.kind, other.rule, other.values.get("contracts"))
        for one, other in pairs
    )


KIND_OF_MONEY: dict[str, tuple[str, ...]] = {
    "filled": ("premium", "commission"), "settled": ("settlement", "commission"), "delivered": ("delivery", "commission"),
    "dividend": ("dividend",), "adjusted": ("premium", "settlement", "commission"),
}  # fmt: skip
"""By kind of what happened, the ledger's entries that may go with it."""

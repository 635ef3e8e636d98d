"""Target and stop of a position: one cancels the other.

Both are asked of a position by the exits of strategies: a target on what closing would give (closable), a stop on mid
(semantics rule 5). Reached together, the stop wins (semantics rule 7).
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from decimal import Decimal
from typing import Literal

from strell_core.market.prices import money
from strell_core.measures import frames
from strell_core.measures.frames import Stretch
from strell_core.strategy import catalogue, kinds

Unit = Literal["money", "percent"]
Side = Literal["target", "stop"]


@dataclass(frozen=True)
class Level:
    """A profit or a loss: an amount of money, or percent of the opening premium."""

    value: Decimal
    unit: Unit

    def amount(self, premium: Decimal) -> Decimal:
        """In money, ``premium`` being what the entry paid or took in."""
        return self.value if self.unit == "money" else money(self.value * abs(premium) / 100)

    def reached(self, side: Side, now: Stretch, worth: Decimal) -> bool:
        """Whether a position's P/L at a stretch's first snapshot is as much (target) or as little (stop).
        ``worth``: money of one part of one contract."""
        if self.unit == "percent":
            profit = "credit_target" if now.opening > 0 else "debit_target"
            catalogue.load()
            asked = kinds.exits[profit if side == "target" else "premium_stop"]
            return bool(asked.test(now, {"percent": self.value})[0] == frames.TRUE)
        parts = math.ceil(self.value / worth)
        truths = (
            now.judged(now.closable >= parts, now.valued)
            if side == "target"
            else now.judged(-now.mid >= parts, now.valued)
        )
        return bool(truths[0] == frames.TRUE)


@dataclass(frozen=True)
class Protection:
    target: Level | None = None
    stop: Level | None = None

    def judge(self, now: Stretch, worth: Decimal) -> Side | None:
        """Which side a position has reached at a stretch's first snapshot, before costs; what is unvalued reaches
        nothing. ``worth``: money of one part of one contract."""
        if self.stop is not None and self.stop.reached("stop", now, worth):
            return "stop"
        if self.target is not None and self.target.reached("target", now, worth):
            return "target"
        return None


def problems(protection: Protection) -> list[tuple[str, str]]:
    """Where a protection makes no sense, as (place, what is wrong)."""
    out = []
    for name, level in (("target", protection.target), ("stop", protection.stop)):
        if level is None:
            continue
        if not level.value.is_finite() or level.value <= 0:
            out.append((name, f"A {name} must be more than 0."))
        elif level.unit == "percent" and level.value > 10_000:
            out.append((name, f"A {name} of more than 10 000 % of the premium is surely mistyped."))
    return out

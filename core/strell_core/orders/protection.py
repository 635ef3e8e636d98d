"""Target and stop of a position: one cancels the other.

A target is judged on what closing would give (closable), a stop on mid, as profit targets and loss
limits of strategies are (semantics rule 5). Reached together, the stop wins (semantics rule 7).
"""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal
from typing import Literal

from strell_core.market.prices import money

Unit = Literal["money", "percent"]


@dataclass(frozen=True)
class Level:
    """A profit or a loss: an amount of money, or percent of the opening premium."""

    value: Decimal
    unit: Unit

    def amount(self, premium: Decimal) -> Decimal:
        """In money, ``premium`` being what the entry paid or took in."""
        return self.value if self.unit == "money" else money(self.value * abs(premium) / 100)


@dataclass(frozen=True)
class Protection:
    target: Level | None = None
    stop: Level | None = None

    def judge(
        self, premium: Decimal, mid: Decimal | None, closable: Decimal | None
    ) -> Literal["target", "stop"] | None:
        """Which side a position with this P/L (money, before costs; ``None``: unvalued) has reached."""
        if self.stop is not None and mid is not None and mid <= -self.stop.amount(premium):
            return "stop"
        if self.target is not None and closable is not None and closable >= self.target.amount(premium):
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

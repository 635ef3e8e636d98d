"""What a run remembers of itself for rules that ask: how trades ended, equity at session ends, rests that limits ordered."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from strell_core.engine.changed import changed

ALL = ""
"""The name under which the outcomes of all entries are kept together."""


@dataclass(frozen=True)
class Outcome:
    """How the trades of an entry ended. A loss is money lost, costs included."""

    entry: str
    in_a_row: int
    """Losses since the last trade that was none."""
    lost_on: dt.date | None
    """Session of the last loss."""
    on: dt.date
    """Session in which the last one ended."""
    lost: int
    """Losses of that session."""
    pnl: Decimal
    """What that session's ends brought, money."""

    def after(self, on: dt.date, pnl: Decimal) -> Outcome:
        """With one more trade that ended."""
        same, lost = self.on == on, int(pnl < 0)
        return Outcome(
            self.entry, self.in_a_row + 1 if lost else 0, on if lost else self.lost_on, on,
            lost + (self.lost if same else 0), pnl + (self.pnl if same else Decimal(0)),
        )  # fmt: skip


def none_yet(entry: str) -> Outcome:
    return Outcome(entry, 0, None, dt.date.min, 0, Decimal(0))


@dataclass(frozen=True)
class Record:
    """Equity at session ends, as far as it is not the cash that is there: with open trades it is noted, without it is the
    cash before the first money of the next session moves."""

    high: float | None = None
    """The highest so far."""
    closing: float = 0.0
    closed_on: dt.date | None = None
    """The last session that ended with open trades, and equity then."""
    previous: float = 0.0
    previous_on: dt.date | None = None
    """The same of the one before it."""
    before: Decimal = Decimal(0)
    booked_on: dt.date | None = None
    """The last session in which money moved, and cash before it did."""

    def opened_with(self, today: dt.date, yesterday: dt.date | None, cash: Decimal) -> float:
        """Equity when the session began."""
        if yesterday is not None and self.closed_on == yesterday:
            return self.closing
        if yesterday is not None and self.previous_on == yesterday:
            return self.previous
        return float(self.before if self.booked_on == today else cash)

    def booked(self, today: dt.date, yesterday: dt.date | None, cash: Decimal) -> Record:
        """Before money moves, of which there is ``cash``."""
        if self.booked_on == today:
            return self
        start = self.opened_with(today, yesterday, cash)
        return changed(self, high=self.highest(start), before=cash, booked_on=today)

    def closed(self, today: dt.date, equity: float) -> Record:
        """At a session's end with open trades."""
        found = changed(self, high=self.highest(equity), closing=equity, closed_on=today)
        if self.closed_on in (None, today):
            return found
        return changed(found, previous=self.closing, previous_on=self.closed_on)

    def highest(self, equity: float) -> float:
        return equity if self.high is None else max(self.high, equity)


NOTHING_YET = Record()


@dataclass(frozen=True)
class Rest:
    """A limit has acted in a session, and says that nothing is entered for some more."""

    rule: str
    since: dt.date


def outcome_of(raw: Mapping[str, Any]) -> Outcome:
    """From plain data."""
    lost_on = dt.date.fromisoformat(raw["lost_on"]) if raw["lost_on"] else None
    return Outcome(**{**raw, "lost_on": lost_on, "on": dt.date.fromisoformat(raw["on"]), "pnl": Decimal(raw["pnl"])})


def record_of(raw: Mapping[str, Any]) -> Record:
    """From plain data."""
    dates = {
        key: dt.date.fromisoformat(raw[key]) if raw[key] else None for key in ("closed_on", "previous_on", "booked_on")
    }
    return Record(**{**raw, **dates, "before": Decimal(raw["before"])})

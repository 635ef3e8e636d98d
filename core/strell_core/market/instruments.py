"""Underlyings and option contracts as frozen facts."""

from __future__ import annotations

import datetime as dt
import re
from dataclasses import dataclass, field, replace
from decimal import Decimal
from enum import StrEnum
from functools import lru_cache
from typing import NamedTuple

from strell_core.market.rates import RateCurves


class Right(StrEnum):
    CALL = "call"
    PUT = "put"

    @property
    def sign(self) -> int:
        """+1 for calls, -1 for puts."""
        return 1 if self is Right.CALL else -1


Ticks = tuple[tuple[Decimal, Decimal], ...]
"""The exchange's price steps: from which price on, in points, and the step; the first from 0. Empty: the quantum."""


def step_at(ticks: Ticks, price: Decimal, quantum: Decimal) -> Decimal:
    """The exchange's step at a price in points (whatever its sign)."""
    step = quantum
    for start, size in ticks:
        if abs(price) >= start:
            step = size
    return step


def finest_step(ticks: Ticks, quantum: Decimal) -> Decimal:
    """The smallest step: that of orders of several legs (common practice)."""
    return min((size for _, size in ticks), default=quantum)


@dataclass(frozen=True)
class TermsPeriod:
    """Terms that hold from ``start`` on, until the next period's start."""

    start: dt.date
    multiplier: int
    american: bool
    settles: str
    rate: float
    currency: str
    calendar: str
    ticks: Ticks = ()


@dataclass(frozen=True)
class Underlying:
    """An underlying with the terms of its options: the latest, and with :meth:`on` those of a day."""

    symbol: str
    name: str
    currency: str
    multiplier: int
    quantum: Decimal
    calendar: str
    rate: float
    """Flat continuously compounded interest rate a year, used to discount."""
    last_trade_minutes: int = 5
    """An expiring contract is last traded this many minutes before it settles."""
    american: bool = False
    """Whether its options can be exercised before expiration."""
    kind: str = "index"
    """``index``, ``stock``, ``fund`` or ``future``."""
    dividends: tuple[tuple[dt.date, float], ...] = ()
    """Dates without a dividend any more, and points; of underlyings whose options are American."""
    settles: str = "close"
    """Whether an expiring option settles at the ``open`` or at the ``close`` of its last session."""
    periods: tuple[TermsPeriod, ...] = ()
    """Where terms have changed: every period, oldest first."""
    ticks: Ticks = ()
    """The exchange's price steps, never finer than the quantum prices are kept in."""
    splits: tuple[tuple[dt.date, float], ...] = ()
    """Days at whose open units became more, and new ones for an old one, oldest first."""
    events: tuple[tuple[dt.date, int, str], ...] = field(default=(), repr=False)
    """Reports and other announced things: date, epoch second (0: none is known), what; in order."""
    rates: RateCurves = field(default_factory=RateCurves)
    """Interest by term where it is known; ``rate`` before the first curve."""

    @property
    def dealt(self) -> bool:
        """Whether the underlying itself is bought and sold; an index is not."""
        return self.kind != "index"

    @property
    def delivers(self) -> bool:
        """Whether exercised options deliver the underlying; others settle in cash."""
        return self.kind in ("stock", "fund")

    def on(self, date: dt.date) -> Underlying:
        """With the terms that held on ``date``; before the first period those of the first."""
        if not self.periods:
            return self
        period = next((p for p in reversed(self.periods) if p.start <= date), self.periods[0])
        return replace(
            self, multiplier=period.multiplier, american=period.american, settles=period.settles, rate=period.rate,
            currency=period.currency, calendar=period.calendar, ticks=period.ticks,
        )  # fmt: skip

    def interest(self, date: dt.date, until: dt.date) -> float:
        """Continuously compounded interest a year from ``date`` to ``until``, as known on ``date``."""
        known = self.rates.at(date, max(1, (until - date).days))
        now = self.on(date)
        return now.rate if known is None or now.currency != self.currency else known


UNIT = "unit"
"""What stands for call or put where the underlying itself is meant."""
Strike = int | float
"""In points: an ``int`` when whole, else a ``float`` of at most three decimals."""
STRIKE_SCALE = 1000
_ITSELF = re.compile(rf"(?P<symbol>.*)/{UNIT}(?:/(?P<divisor>[1-9]\d{{0,5}}))?")
_STRIKE = re.compile(r"\d{1,6}(\.\d{1,3})?")


@lru_cache(maxsize=1 << 16)
def strike_of(thousandths: int) -> Strike:
    """The strike that is stored as a whole number of thousandths."""
    whole, rest = divmod(int(thousandths), STRIKE_SCALE)
    return whole if rest == 0 else int(thousandths) / STRIKE_SCALE


def thousandths(strike: Strike) -> int:
    """A strike as it is stored and calculated with exactly."""
    return round(float(strike) * STRIKE_SCALE)


class ContractKey(NamedTuple):
    """What identifies a listed contract. Sorts as chains are sorted; contracts of one underlying belong together."""

    expiration: dt.date
    right: str
    strike: Strike
    underlying: str
    settles: str = ""
    """``open`` or ``close`` where contracts of one date differ in it; else they settle as the terms say."""

    @classmethod
    def unit(cls, underlying: str, divisor: int = 1) -> ContractKey:
        """The underlying itself: one contract of it is as many units as one option delivers, or one ``divisor``-th of them:
        with as many as there are, a single unit."""
        return cls(dt.date.max, UNIT, 0 if divisor == 1 else divisor, underlying)

    @property
    def is_unit(self) -> bool:
        return self.right == UNIT

    @property
    def divisor(self) -> int:
        """So many of this contract are one of as many units as one option delivers: its price in parts is that share of the
        underlying's price, and its delta of 1. More than 1 for the underlying in single units only."""
        return int(self.strike) if self.is_unit and self.strike else 1

    @property
    def label(self) -> str:
        if self.is_unit:
            return f"{self.underlying} {'itself' if self.divisor == 1 else 'units'}"
        return f"{self.expiration:%-d %b %Y} {self.strike} {self.right}"

    def named(self, with_underlying: bool) -> str:
        """Its label, where it may be taken for another underlying's with that before it."""
        return f"{self.underlying} {self.label}" if with_underlying and not self.is_unit else self.label

    @property
    def code(self) -> str:
        """Stable text form, used in files and addresses: ``MK30/2026-11-13/call/3200``, with ``/open`` behind it
        for a contract whose settlement is its own; the underlying itself is ``HLM/unit``, a hundredth of such a
        contract ``HLM/unit/100``."""
        if self.is_unit:
            return f"{self.underlying}/{UNIT}" + (f"/{self.divisor}" if self.divisor > 1 else "")
        settles = f"/{self.settles}" if self.settles else ""
        return f"{self.underlying}/{self.expiration.isoformat()}/{self.right}/{self.strike}{settles}"

    @classmethod
    def parse(cls, text: str, underlying: str = "", only: bool = True) -> ContractKey:
        """Read what :attr:`code` wrote, or an earlier version without its underlying, which is then ``underlying``.

        Raises ``ValueError`` that says what is wrong, ``only``: also when it is a contract of another underlying.
        """
        wanted = underlying if only else ""
        itself = _ITSELF.fullmatch(text)
        if itself is not None:
            return cls.unit(_of(text, itself["symbol"], wanted), int(itself["divisor"] or 1))
        symbol, bits, settles = _taken_apart(text)
        if len(bits) != 3 or bits[1] not in (Right.CALL, Right.PUT) or not _STRIKE.fullmatch(bits[2]):
            raise ValueError(f"'{text}' is not a contract; write it like MK30/2026-11-13/call/3200")
        if not (symbol or underlying):
            raise ValueError(f"'{text}' does not say of which underlying; write it like MK30/2026-11-13/call/3200")
        _of(text, symbol, wanted)
        try:
            expiration = dt.date.fromisoformat(bits[0])
        except ValueError as error:
            raise ValueError(f"'{bits[0]}' in '{text}' is not a date") from error
        return cls(expiration, bits[1], strike_of(thousandths(float(bits[2]))), symbol or underlying, settles)


def _of(text: str, symbol: str, underlying: str) -> str:
    if symbol and underlying and symbol != underlying:
        raise ValueError(f"'{text}' is a contract of {symbol}, not of {underlying}")
    return symbol or underlying


SETTLEMENTS = ("", "open", "close")
"""What a contract may say of its own settlement; stored by its place here."""


def _taken_apart(text: str) -> tuple[str, list[str], str]:
    """Underlying (a symbol may hold slashes), expiration with right and strike, settlement."""
    bits = text.split("/")
    settles = bits.pop() if bits[-1] in SETTLEMENTS[1:] else ""
    return "/".join(bits[:-3]), bits[-3:], settles

"""Prices as integers, money as decimals: the one place where one becomes the other.

A quoted price is an integer number of the instrument's *quantum* (0.05 for `MK30`). Marks and
fills that may lie between two quotes are integers of the finer *part*, ``PARTS`` to a quantum,
so that a mid or a share of the spread is exact and comparisons never meet rounding.
"""

from __future__ import annotations

from decimal import ROUND_HALF_EVEN, Decimal, InvalidOperation
from fractions import Fraction
from typing import Any

from numba import njit

from strell_core.market.instruments import ContractKey

PARTS = 2000
"""Parts of one quantum: a mid needs 2, a share of the spread in thousandths needs 2000."""

SPOT_SCALE = 100
"""Underlying prices are integers of 0.01."""

CENT = Decimal("0.01")


DIGITS = 15
"""A typed number has at most so many before its point."""
FINEST = -40
"""Exponent of the last place that a typed number may have."""


def number(value: Any) -> Decimal:
    """A number as it was typed or sent: a number or its text, exact. Raises ``ValueError`` for what is none, for one of
    more than 40 characters, of 1e15 or more, and of more than 40 places: none of these is meant, and whoever counts in
    whole numbers of a million digits is busy for a minute."""
    text = str(value) if isinstance(value, int | float | Decimal | str) and not isinstance(value, bool) else ""
    try:
        made = Decimal(text) if len(text) <= 40 else None
    except InvalidOperation:
        made = None
    if made is None or not made.is_finite() or made.adjusted() >= DIGITS or int(made.as_tuple().exponent) < FINEST:
        raise ValueError(f"'{text[:40]}' is not a number")
    return made


def money(amount: Decimal) -> Decimal:
    """Round an amount half-even to cents."""
    return amount.quantize(CENT, rounding=ROUND_HALF_EVEN)


def parts_to_money(parts: int, quantum: Decimal, multiplier: int) -> Decimal:
    """Money worth of ``parts`` (signed, already times contracts), unrounded."""
    return Decimal(int(parts)) * quantum * multiplier / PARTS


def cent_of_part(quantum: Decimal, multiplier: int) -> Fraction:
    """Cents that one part of one contract is worth."""
    return Fraction(quantum) * multiplier * 100 / PARTS


def cents(parts: int, worth: Fraction) -> int:
    """Money worth of ``parts`` (signed, already times contracts) in cents, half-even: in whole numbers what :func:`money`
    makes of :func:`parts_to_money`. ``worth``: :func:`cent_of_part`."""
    found: int = half_even.py_func(parts * worth.numerator, worth.denominator)
    return found


@njit(cache=True, nogil=True)
def half_even(amount: int, of: int) -> int:
    """The whole number nearest to ``amount / of`` (above 0), of two as near the even one."""
    whole = amount // of
    rest = amount - whole * of
    return whole + (2 * rest > of or (2 * rest == of and whole % 2 == 1))


def parts_to_price(parts: int, quantum: Decimal) -> Decimal:
    """Price in points of ``parts`` of a quantum, exact."""
    return Decimal(int(parts)) * quantum / PARTS


def shown_price(contract: ContractKey, parts: float | Fraction, quantum: Decimal) -> float:
    """Price in points of a contract of so many parts, as people read it: of the underlying in single units that of one."""
    return float(Fraction(parts) * contract.divisor * Fraction(quantum) / PARTS)


def points_to_parts(points: Decimal, quantum: Decimal) -> int:
    """An amount of points (of an underlying's price or a strike) in parts of a quantum, exact."""
    value = points * PARTS / quantum
    if value != value.to_integral_value():
        raise ValueError(f"{points} points are not a whole number of parts of {quantum}")
    return int(value)


def points_to_quanta(points: float, quantum: Decimal) -> int:
    """A price in points as written on a sheet in whole quanta of its instrument, the nearest."""
    return round(Decimal(str(points)) / quantum)


def grouped(value: Decimal | float, digits: int = 0) -> str:
    """A number as people read it: thousands apart by a space that does not break."""
    return f"{value:,.{digits}f}".replace(",", "\u00a0").replace("-", "\u2212")


def signed(value: float, digits: int = 0) -> str:
    """As :func:`grouped`, with a plus before what is more than nothing as written."""
    text = grouped(value, digits)
    return f"+{text}" if value > 0 and any(c in "123456789" for c in text) else text

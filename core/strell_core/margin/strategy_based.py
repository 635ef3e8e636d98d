"""Strategy-based margin: each short option is covered by a long one, by the underlying, or stands alone.

Rules after FINRA Rule 4210(f)(2) and the exchanges' margin manuals, recalled from memory, not looked up:

* a long option is paid for and needs nothing more;
* a short option that stands alone needs its value and the greater of a share of the underlying (20 %, a broad
  index 15 %) less what it is out of the money, and the least share (10 %) of the underlying, of a put's strike;
* of a call and a put that stand alone and expire together only the greater share is needed, and both values;
* a short option covered by a long one that expires no earlier belongs to a spread; spreads that expire together
  need the most they can lose together at expiration, a later long being worth its intrinsic value then
  (verticals, condors, butterflies, boxes, calendars and diagonals alike);
* a short call on as many units of the underlying, and a short put backed by cash for its strike, need no more;
* units of the underlying are paid for in full; those sold need their value and half of it.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from strell_core.margin import simple
from strell_core.margin.simple import NOTHING
from strell_core.market.instruments import ContractKey, Right

Floats = npt.NDArray[np.float64]
SIGN = {str(right): right.sign for right in Right}
INDEX_SHARE = 0.15
STOCK_SHARE = 0.20
SHORT_UNITS = 1.5
"""Of their value, for units of the underlying that were sold (Regulation T, from memory)."""
ALONE = 1e6
"""Points by which a pairing is preferred: what can be covered is, so that nothing defined needs less than it can
lose, also where a lone short would need less than the width to a far long."""
NEVER = 1e9
"""Cost of a pairing that covers nothing, for the long is gone before the short."""


class Leg(NamedTuple):
    """``contracts`` signed; ``sign`` 1 call, -1 put; ``settlement`` epoch second; ``mark`` points."""

    contracts: int
    sign: int
    strike: float
    settlement: int
    mark: float

    @classmethod
    def of(
        cls, contract: ContractKey, contracts: int, settles_at: Callable[[ContractKey], int], mark: float = 0.0
    ) -> Leg:
        """An option; ``settles_at`` says when a contract settles."""
        return cls(contracts, SIGN[contract.right], float(contract.strike), settles_at(contract), mark)

    @property
    def unmarked(self) -> Leg:
        """The same at any price."""
        return Leg(*self[:4], 0.0)


Pair = tuple[Leg, Leg, int]
"""A short, the long that covers it, and how many of them."""


@dataclass(frozen=True)
class Part:
    """One reason for a requirement; amount in points times contracts."""

    words: str
    amount: float


@dataclass(frozen=True)
class Requirement:
    """What must back a position, in points times contracts, premium not yet counted against it."""

    parts: tuple[Part, ...]

    @property
    def amount(self) -> float:
        return sum(part.amount for part in self.parts)


def requirement(
    legs: Sequence[Leg], spot: float, share: float = STOCK_SHARE, units: float = 0, cash_secured: bool = False
) -> Requirement:  # fmt: skip
    """``units`` of the underlying are held (sold: negative), one a contract and parts of one, which cover nothing; ``share``
    of it a lone short needs.

    As many shorts as can be are covered, in the pairing that needs least (a transport problem, solved exactly).
    """
    whole = int(units)
    covered = _covered(tuple([leg.unmarked for leg in legs]), whole)
    if covered is not None:
        parts = list(covered)
    else:
        legs = _joined(legs)
        pairs, alone = _pairing(legs, spot, share, whole)
        parts = _spreads(pairs, legs) + _lone(alone, spot, share, cash_secured)
    if units < 0:
        parts.append(Part("units sold, their value and half of it", SHORT_UNITS * -units * spot))
    return Requirement(tuple(part for part in parts if part.amount > NOTHING))


@lru_cache(maxsize=1 << 12)
def _covered(legs: tuple[Leg, ...], units: int) -> tuple[Part, ...] | None:
    """What legs need of which none stands alone, which depends on no price; ``None`` where one does."""
    joined = _joined(legs)
    pairs, alone = _pairing(joined, 0.0, 0.0, units)
    return None if alone else tuple(_spreads(pairs, joined))


def _pairing(legs: list[Leg], spot: float, share: float, units: int) -> tuple[list[Pair], list[Leg]]:
    """Shorts with what covers them, and shorts that stand alone."""
    pairs, alone = [], []
    for sign in (1, -1):
        mine = [leg for leg in legs if leg.sign == sign]
        shorts, longs = [leg for leg in mine if leg.contracts < 0], [leg for leg in mine if leg.contracts > 0]
        if sign > 0 and units > 0:
            shorts = _covered_by_units(shorts, units)
        found, left = _paired(shorts, longs, spot, share)
        pairs += found
        alone += left
    return pairs, alone


def share_of(kind: str) -> float:
    """Share of the underlying that a lone short needs, by the kind of underlying."""
    return INDEX_SHARE if kind == "index" else STOCK_SHARE


def capital(legs: Sequence[Leg], spot: float, share: float = STOCK_SHARE, units: float = 0) -> float:
    """What a position ties up from its marks on, points times contracts, never negative: its requirement and
    the value of what is long, ``units`` of the underlying among it, less the value of what is short."""
    marks = sum(leg.contracts * leg.mark for leg in legs) + units * spot
    return max(0.0, requirement(legs, spot, share, units).amount + marks)


def capital_over(legs: Sequence[Leg], marks: Floats, spot: Floats, share: float = STOCK_SHARE) -> Floats:
    """:func:`capital` at many instants, ``(n,)``: ``marks`` ``(legs, n)`` and ``spot`` ``(n,)`` in points. To the bit what
    it says at each."""
    contracts, signs, strikes, settlements = zip(*(leg[:4] for leg in legs), strict=True) if legs else ((),) * 4
    found: Floats = simple.capital_over(
        np.array(contracts, np.int64), np.array(signs, np.int64), np.array(strikes, np.float64),
        np.array(settlements, np.int64), marks, spot, share,
    )  # fmt: skip
    if not np.isnan(found).any():
        return found
    every = zip(marks.T.tolist(), spot.tolist(), strict=True)
    return np.array([
        capital([leg._replace(mark=mark) for leg, mark in zip(legs, now, strict=True)], at, share) for now, at in every
    ])  # fmt: skip


def lone_share(leg: Leg, spot: float, share: float) -> float:
    """What one lone short contract needs beyond its own value, points."""
    found: float = simple.lone_share.py_func(leg.sign, leg.strike, spot, share)
    return found


def _joined(legs: Sequence[Leg]) -> list[Leg]:
    """Legs of one contract as one, in an order of their own."""
    total: dict[tuple[int, int, float], list[float]] = {}
    for leg in legs:
        entry = total.setdefault((leg.settlement, leg.sign, leg.strike), [0, leg.mark])
        entry[0] += leg.contracts
    return [
        Leg(int(contracts), sign, strike, settlement, mark)
        for (settlement, sign, strike), (contracts, mark) in sorted(total.items())
        if contracts
    ]


def _covered_by_units(shorts: list[Leg], units: int) -> list[Leg]:
    """Short calls left when the dearest to stand alone are covered by the underlying."""
    out = []
    for leg in sorted(shorts, key=lambda one: one.strike):
        taken = min(units, -leg.contracts)
        units -= taken
        if -leg.contracts > taken:
            out.append(leg._replace(contracts=leg.contracts + taken))
    return out


def _paired(shorts: list[Leg], longs: list[Leg], spot: float, share: float) -> tuple[list[Pair], list[Leg]]:
    """Shorts with their longs and how many of each, and shorts that stand alone."""
    if not shorts or not longs:
        return [], shorts
    cost = [
        [
            max(0.0, short.sign * (long.strike - short.strike)) if long.settlement >= short.settlement else NEVER
            for long in longs
        ]
        + [ALONE + lone_share(short, spot, share) + short.mark]
        for short in shorts
    ]
    amounts = _transport(cost, [-short.contracts for short in shorts], [long.contracts for long in longs])
    pairs = [
        (short, long, count)
        for short, row in zip(shorts, amounts, strict=True)
        for long, count in zip(longs, row, strict=False)
        if count
    ]
    alone = [short._replace(contracts=-row[-1]) for short, row in zip(shorts, amounts, strict=True) if row[-1]]
    return pairs, alone


def _transport(cost: list[list[float]], wanted: list[int], there: list[int]) -> list[list[int]]:
    """How many of each short (rows) go to each long or, in the last column, stand alone, at the least cost."""
    n, m = len(wanted), len(there)
    if n == 1 and m == 1:
        covered = min(wanted[0], there[0]) if cost[0][0] < cost[0][1] else 0
        return [[covered, wanted[0] - covered]]
    from scipy.optimize import linprog  # large, and seldom needed

    every, used = np.zeros((n, n * (m + 1))), np.zeros((m, n * (m + 1)))
    for i in range(n):
        every[i, i * (m + 1) : (i + 1) * (m + 1)] = 1.0
        used[:, i * (m + 1) : (i + 1) * (m + 1) - 1] += np.eye(m)
    found = linprog(np.ravel(cost), A_ub=used, b_ub=there, A_eq=every, b_eq=wanted, method="highs-ds")
    counts: list[list[int]] = np.rint(found.x).astype(np.int64).reshape(n, m + 1).tolist()
    return counts


def _spreads(pairs: list[Pair], legs: list[Leg]) -> list[Part]:
    """Spreads whose shorts expire together need what they can lose together; longs that are left help."""
    groups: dict[int, list[tuple[int, int, float]]] = defaultdict(list)
    left = {leg: leg.contracts for leg in legs if leg.contracts > 0}
    for short, long, count in pairs:
        groups[short.settlement] += [(-count, short.sign, short.strike), (count, long.sign, long.strike)]
        left[long] -= count
    for long, count in left.items():
        expiries = [settlement for settlement in groups if settlement <= long.settlement]
        if count and expiries:
            groups[max(expiries)].append((count, long.sign, long.strike))
    out = []
    for settlement in sorted(groups):
        group = groups[settlement]
        strikes = sorted({strike for _, _, strike in group})
        worst = min(
            sum(count * max(0.0, sign * (price - strike)) for count, sign, strike in group) for price in [0.0, *strikes]
        )  # beyond the last strike nothing more is lost: every short call has a long one
        out.append(Part("spreads, the most they can lose at expiration", max(0.0, -worst)))
    return out


def _lone(alone: list[Leg], spot: float, share: float, cash_secured: bool) -> list[Part]:
    """Lone shorts, by expiration: the greater side's share, and every value."""
    if cash_secured:
        secured = sum(-leg.contracts * leg.strike for leg in alone if leg.sign < 0)
        alone = [leg for leg in alone if leg.sign > 0]
        out = [Part("short puts, cash for their strikes", secured)]
    else:
        out = []
    sides: dict[int, dict[int, float]] = defaultdict(lambda: {1: 0.0, -1: 0.0})
    for leg in alone:
        sides[leg.settlement][leg.sign] += -leg.contracts * lone_share(leg, spot, share)
    for settlement in sorted(sides):
        both = sides[settlement]
        side = "calls" if both[1] >= both[-1] else "puts"
        words = (
            f"short {side} that stand alone, {100 * share:.0f} % of the underlying less what they are out of the money"
        )
        out.append(Part(words, max(both.values())))
    out.append(Part("value of shorts that stand alone", sum(-leg.contracts * leg.mark for leg in alone)))
    return out

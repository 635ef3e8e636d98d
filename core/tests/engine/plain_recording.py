"""What the second implementation reads: session chains, never the cubes; and how it compares."""

from __future__ import annotations

import datetime as dt
import math
from abc import ABC, abstractmethod
from bisect import bisect_right
from collections import defaultdict
from collections.abc import Sequence
from decimal import ROUND_HALF_EVEN, Decimal
from typing import Any
from zoneinfo import ZoneInfo

from gmpy2 import mpq

from strell_core.market.chains import SessionChain

Fraction = mpq
"""Exact as the standard library's, in an eighth of its time."""
QUANTUM, MULTIPLIER = Fraction(1, 20), 50
MONEY = QUANTUM * MULTIPLIER
"""Worth of a quantum of one contract."""
LISBON = "Europe/Lisbon"
DAYS = ["mon", "tue", "wed", "thu", "fri"]
Contract = tuple[dt.date, str, int]


def cents(value: Fraction) -> Decimal:
    """Money rounded half-even to cents."""
    exact = Decimal(int(value.numerator)) / Decimal(int(value.denominator))
    return exact.quantize(Decimal("0.01"), rounding=ROUND_HALF_EVEN)


def clock(text: str) -> int:
    hours, minutes = text.split(":")
    return int(hours) * 60 + int(minutes)


ZONE = ZoneInfo(LISBON)


def local(at: int) -> dt.datetime:
    return dt.datetime.fromtimestamp(at, ZONE)


def minute(at: int) -> int:
    return local(at).hour * 60 + local(at).minute


def normal(x: float) -> float:
    return 0.5 * math.erfc(-x / math.sqrt(2))


ABSENT: Any = "absent"


def compares(rule: dict[str, Any], left: Any, right: Any) -> bool:
    """Whether two values compare as a sentence says; what is unvalued or absent does not."""
    if left is None or right is None or left is ABSENT or right is ABSENT:
        return False
    away = round(left - right, 9)
    return {
        "above": away > 0, "below": away < 0, "at least": away >= 0, "at most": away <= 0, "equal": away == 0,
    }[rule["is"]]  # fmt: skip


class Recording:
    """Session chains by date, quotes by contract."""

    def __init__(self, chains: Sequence[SessionChain], closes: dict[dt.date, int], rate: float) -> None:
        self.chains, self.closes, self.rate = list(chains), closes, rate
        self.dates = [chain.date for chain in self.chains]
        self.rows = [
            {(c.expiration, c.right, c.strike): i for i, c in enumerate(chain.contracts)} for chain in self.chains
        ]
        # asked for over and over
        self.listed: list[dict[tuple[dt.date, str], list[Contract]]] = []
        for chain in self.chains:
            here = defaultdict(list)
            for c in chain.contracts:
                here[c.expiration, c.right].append((c.expiration, c.right, c.strike))
            self.listed.append(here)
        self.settled = [chain.settlement / 100 for chain in self.chains]
        self.known_offers: dict[tuple[int, int], dict[tuple[dt.date, str], list[int]]] = {}
        self.places = [(s, k) for s, chain in enumerate(self.chains) for k in range(len(chain.times))]
        self.number = {place: number for number, place in enumerate(self.places)}
        self.times = [int(at) for chain in self.chains for at in chain.times]
        self.by_date = {date: number for number, date in enumerate(self.dates)}
        self.atm = [self._atm(chain) for chain in self.chains]
        self.minutes = [[minute(int(at)) for at in chain.times] for chain in self.chains]

    def quote(self, contract: Contract, session: int, snap: int) -> tuple[int, int] | None:
        """Bid and ask in ticks if they may be used: bid ≥ 0, ask > 0, bid ≤ ask."""
        row = self.rows[session].get(contract)
        if row is None:
            return None
        chain = self.chains[session]
        bid, ask = chain.bid.item(row, snap), chain.ask.item(row, snap)
        return (bid, ask) if bid >= 0 and ask > 0 and bid <= ask else None

    def iv(self, contract: Contract, session: int, snap: int) -> float | None:
        """Recorded volatility in percent."""
        iv = int(self.chains[session].iv[self.rows[session][contract], snap]) / 100
        return iv or None

    def place_of(self, at: int) -> int:
        """The last place not after an instant."""
        return bisect_right(self.times, at) - 1

    def offered(self, session: int, snap: int) -> dict[tuple[dt.date, str], list[int]]:
        """Strikes that have an ask, as they are listed, by expiration and right."""
        if (session, snap) not in self.known_offers:
            chain, here = self.chains[session], defaultdict(list)
            for row in (chain.ask[:, snap] > 0).nonzero()[0].tolist():
                c = chain.contracts[row]
                here[c.expiration, c.right].append(c.strike)
            self.known_offers[session, snap] = here
        return self.known_offers[session, snap]

    def quoted(self, session: int, snap: int) -> set[dt.date]:
        """Expirations of which anything has an ask."""
        return {expiration for expiration, _ in self.offered(session, snap)}

    def delta(self, contract: Contract, session: int, snap: int) -> int | None:
        """Delta in 0.0001, from the stored IV and forward."""
        chain = self.chains[session]
        iv = int(chain.iv[self.rows[session][contract], snap]) / 10_000
        forward = float(chain.forward[chain.expirations.index(contract[0]), snap])
        if iv == 0 or not forward > 0:
            return None
        years = (self.closes[contract[0]] - int(chain.times[snap])) / (365 * 86_400)
        sign = 1 if contract[1] == "call" else -1
        d1 = math.log(forward / contract[2]) / (iv * math.sqrt(years)) + iv * math.sqrt(years) / 2
        return round(10_000 * sign * math.exp(-self.rate * years) * normal(sign * d1))

    def _atm(self, chain: SessionChain) -> float | None:
        if not chain.expirations:
            return None
        target = min(chain.expirations, key=lambda e: (abs((e - chain.date).days - 30), e))
        forward = float(chain.forward[chain.expirations.index(target), -1])
        best: tuple[float, int] | None = None
        for i, c in enumerate(chain.contracts):
            if c.expiration == target and c.right == "call" and chain.iv[i, -1] > 0:
                away = abs(c.strike - forward)
                if best is None or away < best[0]:
                    best = (away, i)
        return None if best is None else int(chain.iv[best[1], -1]) / 100


class Here(ABC):
    """What every part of the second implementation knows: the recording, where in it it stands, and what is open."""

    recording: Recording
    session: int
    snap: int
    at: int
    single: bool
    last: bool
    cash: Decimal
    lasting: dict[str, list[bool]]
    open: list[dict[str, Any]]
    closed: list[dict[str, Any]]
    session_ends: list[float]
    """Equity at session ends, and the cash that it began with."""
    entry: dict[str, Any]
    """The entry that is judged."""
    orders: list[dict[str, Any]]
    set: dict[str, Any]

    @abstractmethod
    def equity(self) -> float: ...

    @abstractmethod
    def straddle(self, expiration: dt.date, chain: SessionChain) -> float | None: ...

"""The chain of one underlying at an instant: its quotes, and what was worked out of them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.market.dividends import Dividend, to_come
from strell_core.market.instruments import ContractKey

if TYPE_CHECKING:
    from strell_core.market.timeline import Timeline

NO_DELTA = -32768
"""Stored delta of a quote that has none."""


def valid_quotes(bid: npt.NDArray[np.integer], ask: npt.NDArray[np.integer]) -> npt.NDArray[np.bool_]:
    """Quotes that may be used, elementwise: bid ≥ 0, ask > 0, bid ≤ ask (semantics rule 3)."""
    return (bid >= 0) & (ask > 0) & (bid <= ask)


@njit(cache=True, nogil=True)
def valid_quote(bid: int, ask: int) -> bool:
    """The same of one quote."""
    return 0 <= bid <= ask and ask > 0


_valid: Callable[[int, int], bool] = valid_quote.py_func


class Quote(NamedTuple):
    """One contract at one instant: quanta, 0.0001 of volatility, 0.0001 of delta (``None``: none)."""

    bid: int
    ask: int
    iv: int | None
    delta: int | None

    @property
    def valid(self) -> bool:
        """As :func:`valid_quotes`."""
        return _valid(self.bid, self.ask)


NO_QUOTE_AT_ALL = Quote(-1, -1, None, None)


@dataclass(frozen=True)
class ExpirationSlice:
    """One right of one expiration at one instant; arrays ``(strikes,)``, see :class:`Quote`."""

    expiration: dt.date
    right: str
    settlement_at: int
    forward: float
    strikes: npt.NDArray[np.float64]
    bid: npt.NDArray[np.int32]
    ask: npt.NDArray[np.int32]
    iv: npt.NDArray[np.uint16]
    delta: npt.NDArray[np.int16]
    open_interest: npt.NDArray[np.int32]

    @cached_property
    def valid(self) -> npt.NDArray[np.bool_]:
        """Quotes that may be traded on (semantics rule 3)."""
        return valid_quotes(self.bid, self.ask)

    @cached_property
    def ranked(self) -> dict[str, tuple[npt.NDArray[np.int64], list[int]]]:
        """By picks that go by these quotes alone, what they make of them."""
        return {}


class ChainView:
    """The chain at one instant."""

    def __init__(self, timeline: Timeline, index: int) -> None:
        self._timeline = timeline
        self.index = index
        self.instant = int(timeline.times[index])
        self.spot = int(timeline.spot[index])
        self.date = timeline.dates[int(timeline.session_of[index])]
        self.underlying = timeline.underlying.on(self.date)
        self._slices: dict[tuple[dt.date, str], ExpirationSlice] = {}
        self._quotes: dict[ContractKey, Quote] = {}
        self.computed: dict[Any, Any] = {}
        """What was worked out of it, for whoever asks the same again."""

    @property
    def timeline(self) -> Timeline:
        """The history it is of."""
        return self._timeline

    @property
    def spot_in_parts(self) -> int:
        """The underlying's price in parts of a quantum."""
        return self.spot * self._timeline.spot_parts

    def interest(self, expiration: dt.date) -> float:
        """Continuously compounded interest a year to an expiration."""
        return self.underlying.interest(self.date, expiration)

    def dividends(self, settlement: int) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
        """Seconds until each dividend before ``settlement``, and points, ``(n,)``."""
        known = [Dividend(date, amount) for date, amount in self.underlying.dividends]
        return to_come(known, self._timeline.calendar, self.instant, settlement)

    @cached_property
    def expirations(self) -> list[dt.date]:
        """Expirations with quotes at this instant, nearest first: looked for once, however many ask."""
        known: dict[int, list[dt.date]] = self._timeline.computed.setdefault("expirations", {})
        if self.index not in known:
            known[self.index] = [
                cube.expiration
                for cube in self._timeline.cubes_at(self.index)
                if bool((cube.ask[:, self.index - cube.start] > 0).any())
            ]
        return known[self.index]

    def listed(self, settlement: int) -> list[dt.date]:
        """Expirations recorded now that settle at an epoch second, quoted or not."""
        return [c.expiration for c in self._timeline.cubes_at(self.index) if c.settlement_at == settlement]

    def slice(self, expiration: dt.date, right: str) -> ExpirationSlice:
        """Quotes of one right of one expiration; raises ``KeyError`` when it is not listed."""
        found = self._slices.get((expiration, right))
        if found is None:
            found = self._slices[expiration, right] = self._slice(expiration, right)
        return found

    def _slice(self, expiration: dt.date, right: str) -> ExpirationSlice:
        cube = self._timeline.cubes[expiration]
        if not cube.start <= self.index < cube.end:
            raise KeyError(expiration)
        column, n = self.index - cube.start, len(cube.strikes)
        rows = slice(0, n) if right == "call" else slice(n, 2 * n)
        session = int(self._timeline.session_of[self.index]) - cube.first_session
        return ExpirationSlice(
            expiration, right, cube.settlement_at, float(cube.forward[column]), cube.strikes,
            cube.bid[rows, column], cube.ask[rows, column], cube.iv[rows, column], cube.delta[rows, column],
            cube.open_interest[rows, session],
        )  # fmt: skip

    def forward(self, expiration: dt.date) -> float:
        """Parity forward in points, NaN if there is none."""
        cube = self._timeline.cubes.get(expiration)
        if cube is None or not cube.start <= self.index < cube.end:
            return float("nan")
        return float(cube.forward[self.index - cube.start])

    def quote(self, contract: ContractKey) -> Quote:
        """Quote of a contract; an invalid :class:`Quote` if it has none now."""
        found = self._quotes.get(contract)
        if found is None:
            found = self._quotes[contract] = self._quote(contract)
        return found

    def _quote(self, contract: ContractKey) -> Quote:
        cube = self._timeline.cubes.get(contract.expiration)
        if cube is None or not cube.start <= self.index < cube.end:
            return NO_QUOTE_AT_ALL
        row = cube.row(contract.right, contract.strike)
        if row is None:
            return NO_QUOTE_AT_ALL
        at = self.index - cube.start
        iv, delta = int(cube.iv[row, at]), int(cube.delta[row, at])
        return Quote(int(cube.bid[row, at]), int(cube.ask[row, at]), iv or None, None if delta == NO_DELTA else delta)

"""Session chains of the demo scenario, the same bytes for the same settings on every machine."""

from __future__ import annotations

import datetime as dt
import math
from dataclasses import asdict, dataclass
from decimal import Decimal
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.market.calendars import MARROWICK, SessionCalendar, marrowick
from strell_core.market.chains import SessionChain
from strell_core.market.instruments import ContractKey, Underlying
from strell_core.pricing.black import CALL, PUT, YEAR_SECONDS, black_price
from strell_core.pricing.surface import expiration_surface
from strell_core.scenario import listing
from strell_core.scenario.path import Path, simulate
from strell_core.scenario.smile import at_the_money_variance, skew, total_variance

MK30 = Underlying(
    symbol="MK30", name="Marrowick 30 Index", currency="EUR", multiplier=50,
    quantum=Decimal("0.05"), calendar=MARROWICK, rate=0.021,
)  # fmt: skip
DIVIDEND_YIELD = 0.026


@dataclass(frozen=True)
class Settings:
    """What is generated. The default is the demo: 630 closing sessions, then 120 of five minutes."""

    seed: int = 302
    end: dt.date = dt.date(2026, 11, 18)
    sessions: int = 750
    intraday: int = 120
    step: int = 300
    """Seconds between the snapshots of an intraday session."""
    fridays: int = listing.FRIDAY_WEEKS
    """Weeks for which Fridays are listed."""

    def plain(self) -> dict[str, Any]:
        """As JSON data; :meth:`parse` reads it."""
        return {**asdict(self), "end": self.end.isoformat()}

    @classmethod
    def parse(cls, raw: dict[str, Any]) -> Settings:
        # a market that was opened before it said so goes on listing what it listed
        return cls(**{"fridays": listing.WEEKLY_WEEKS, **raw, "end": dt.date.fromisoformat(raw["end"])})


@njit(cache=True, nogil=True)
def _mix(a: int, b: int, c: int) -> int:
    """A small integer hash, so that a quote's noise depends on nothing but its place."""
    x = (a * 73_856_093) ^ (b * 19_349_663) ^ (c * 83_492_791)
    x = (x ^ (x >> 13)) & 0x7FFFFFFF
    x = (x * 1_274_126_177) & 0x7FFFFFFF
    return x ^ (x >> 16)


@njit(cache=True, nogil=True)
def _quotes(
    strike: npt.NDArray[np.float64], spot: npt.NDArray[np.int32], variance: npt.NDArray[np.float64],
    left: npt.NDArray[np.int64], clock: npt.NDArray[np.int64], quantum: float, rate: float, carry: float, salt: int,
) -> npt.NDArray[np.int32]:  # fmt: skip
    """Call bid, call ask, put bid, put ask of one expiration: ``(4, strikes, snapshots)``."""
    n, m = strike.shape[0], spot.shape[0]
    out = np.full((4, n, m), -1, np.int32)
    for t in range(m):
        years = left[t] / YEAR_SECONDS
        if years <= 0.0:
            continue
        discount = math.exp(-rate * years)
        forward = 0.01 * spot[t] * math.exp(carry * years)
        theta = at_the_money_variance(years, variance[t])
        rho = skew(variance[t])
        level = 0.62 + 1.5 * math.sqrt(variance[t])
        if clock[t] <= 600:
            level *= 1.3
        for i in range(n):
            vol = math.sqrt(total_variance(math.log(strike[i] / forward), theta, rho) / years)
            call = black_price(forward, strike[i], years, vol, discount, CALL)
            put = black_price(forward, strike[i], years, vol, discount, PUT)
            otm = min(call, put)
            for side in range(2):
                fair = put if side else call
                half = 0.5 * level * (0.07 + 0.030 * otm**0.85 + 0.002 * (fair - otm))
                noise = _mix(int(strike[i]) * 2 + side, salt, int(clock[t] // 1500))
                bid = int(math.floor((fair - half) / quantum)) - (1 if noise % 11 == 0 else 0)
                ask = int(math.ceil((fair + half) / quantum)) + (1 if noise % 13 == 0 else 0)
                out[2 * side, i, t] = max(bid, 0)
                out[2 * side + 1, i, t] = max(ask, 1)
    return out


@dataclass(frozen=True)
class Board:
    """What is listed in one session, with the morning's open interest and the session's volume."""

    expirations: tuple[dt.date, ...]
    strikes: tuple[npt.NDArray[np.float64], ...]
    contracts: tuple[ContractKey, ...]
    interest: npt.NDArray[np.int32]
    volume: npt.NDArray[np.int32]


class Scenario:
    """The invented history of `MK30`. ``sessions[i]`` are its days, :meth:`chain` makes each."""

    def __init__(self, settings: Settings | None = None, calendar: SessionCalendar | None = None) -> None:
        self.settings = settings or Settings()
        self.calendar = calendar or marrowick()
        self.underlying = MK30
        dates = self.calendar.between(self.calendar.dates[0], self.settings.end)
        self.dates = dates[-self.settings.sessions :]
        self.sessions = [self.calendar.session(date) for date in self.dates]
        self._last_board: tuple[int, Board] | None = None

    @cached_property
    def path(self) -> Path:
        rng = np.random.default_rng(np.random.PCG64(self.settings.seed))
        return simulate(self.sessions, rng, self.settings.step)

    @cached_property
    def _listed_since(self) -> dict[dt.date, int]:
        """Session number in which each expiration was first listed."""
        since: dict[dt.date, int] = {}
        for number, date in enumerate(self.dates):
            for expiration in listing.expirations(self.calendar, date, self.settings.fridays):
                since.setdefault(expiration, number)
        return since

    def _strikes(self, index: int, expiration: dt.date) -> list[int]:
        """Strikes of an expiration in session ``index``: what was listed stays listed until it expires."""
        age = index - self._listed_since[expiration]
        monthly = listing.is_monthly(self.calendar, expiration)
        return listing.strikes(self._range(index, age + 25), self._range(index, age + 140), monthly)

    def _range(self, index: int, span: int) -> tuple[float, float]:
        """Lowest and highest opening price over the last ``span`` sessions."""
        opening = self.path.spot[self.path.first[max(0, index - span) : index + 1]] / 100.0
        return float(opening.min()), float(opening.max())

    def is_intraday(self, index: int) -> bool:
        return index >= len(self.dates) - self.settings.intraday

    def daily_bar(self, index: int) -> tuple[int, int, int, int]:
        """Open, high, low and close of a session, 0.01 points."""
        spot = self.path.spot[self.path.first[index] : self.path.first[index + 1]]
        return int(spot[0]), int(spot.max()), int(spot.min()), int(spot[-1])

    def chain(self, index: int) -> SessionChain:
        """The chain of session ``index``; quotes as the exchange sent them, faults included."""
        rows = self.snapshot_rows(index)
        path = self.path
        return self._chain(index, path.times[rows], path.spot[rows], path.variance[rows])

    def _chain(
        self, index: int, times: npt.NDArray[np.int64], spot: npt.NDArray[np.int32],
        variance: npt.NDArray[np.float64],
    ) -> SessionChain:  # fmt: skip
        """The chain of session ``index`` at ``times``, given the underlying's price and variance there."""
        date, session = self.dates[index], self.sessions[index]
        quantum, rate = float(self.underlying.quantum), self.underlying.rate
        board = self._board(index)
        bids, asks, ivs, forwards = [], [], [], []
        for expiration, strikes in zip(board.expirations, board.strikes, strict=True):
            settlement = self.calendar.session(expiration).close
            left = settlement - times
            tradable = np.where(times <= settlement - 60 * self.underlying.last_trade_minutes, left, 0)
            quotes = _quotes(
                strikes, spot, variance, tradable, session.close - times, quantum, rate, rate - DIVIDEND_YIELD,
                expiration.toordinal(),
            )  # fmt: skip
            self._add_faults(quotes, index, expiration)
            forward, iv = expiration_surface(strikes, *quotes, tradable, quantum, rate)
            forwards.append(forward)
            for side in (0, 2):
                bids.append(quotes[side])
                asks.append(quotes[side + 1])
                ivs.append(iv)
        return SessionChain(
            self.underlying.symbol, date, times, spot, self._close(index), board.expirations, np.array(forwards),
            board.contracts, np.concatenate(bids), np.concatenate(asks), np.concatenate(ivs), board.interest, board.volume,
        )  # fmt: skip

    def _board(self, index: int) -> Board:
        """What is listed in a session; the last one asked for is kept."""
        if self._last_board is None or self._last_board[0] != index:
            dates = tuple(listing.expirations(self.calendar, self.dates[index], self.settings.fridays))
            strikes = [self._strikes(index, expiration) for expiration in dates]
            contracts = [
                ContractKey(expiration, right, strike, MK30.symbol)
                for expiration, own in zip(dates, strikes, strict=True)
                for right in ("call", "put")
                for strike in own
            ]
            interest, volume = self._activity(index, contracts, self._close(index) / 100)
            arrays = tuple(np.array(own, np.float64) for own in strikes)
            self._last_board = (index, Board(dates, arrays, tuple(contracts), interest, volume))
        return self._last_board[1]

    def _close(self, index: int) -> int:
        """Last price of a session, 0.01 points."""
        return int(self.path.spot[self.path.first[index + 1] - 1])

    def snapshot_rows(self, index: int) -> npt.NDArray[np.int64]:
        """Places on the path of the snapshots that were recorded of a session."""
        first, end = int(self.path.first[index]), int(self.path.first[index + 1])
        if not self.is_intraday(index):
            return np.array([end - 1])
        rows = np.arange(first, end)
        if index == len(self.dates) - 45:
            # the feed was down for an hour and a half this afternoon
            rows = rows[(rows - first < 70) | (rows - first > 88)]
        return rows

    def _add_faults(self, quotes: npt.NDArray[np.int32], index: int, expiration: dt.date) -> None:
        """A few crossed quotes, and a few that stopped moving."""
        n, m = quotes.shape[1:]
        mark = _mix(index, expiration.toordinal(), 7)
        if mark % 37 == 0:
            strike, t, side = mark // 37 % n, mark // 911 % m, 2 * (mark % 2)
            if quotes[side, strike, t] > 0:
                quotes[side, strike, t] = quotes[side + 1, strike, t] + 3
        if mark % 41 == 0 and m > 60:
            strike, t = mark // 41 % n, mark // 1013 % (m - 40)
            quotes[:2, strike, t : t + 30] = quotes[:2, strike, t : t + 1]

    def _activity(
        self, index: int, contracts: list[ContractKey], spot: float
    ) -> tuple[npt.NDArray[np.int32], npt.NDArray[np.int32]]:
        """Open interest as of the morning and the session's volume."""
        rng = np.random.default_rng([self.settings.seed, self.dates[index].toordinal()])
        strike = np.array([c.strike for c in contracts], np.float64)
        days = np.array([(c.expiration - self.dates[index]).days for c in contracts], np.float64)
        is_call = np.array([c.right == "call" for c in contracts])
        away = (strike / spot - 1) * np.where(is_call, 1, -1)
        round_strike = np.where(strike % 100 == 0, 3.2, np.where(strike % 50 == 0, 2.0, 1.0))
        age = 1.0 / (1.0 + days / 18)
        shape = np.exp(-(((away - 0.015) / 0.035) ** 2)) + 0.03
        taste = np.array([0.6 + (_mix(c.strike, c.expiration.toordinal(), 3) % 100) / 90 for c in contracts])
        interest = 4200 * shape * age * round_strike * taste * np.where(is_call, 0.85, 1.0)
        volume = interest * 0.16 * np.exp(rng.normal(-0.3, 0.7, len(strike)))
        return interest.astype(np.int32), volume.astype(np.int32)

"""The scenario's today: sessions after the history's end, at any second, for the practice exchange.

The history is continued, not changed: each further session starts from the close before it and has a
path of its own on a grid of one second (Heston dynamics as in :mod:`path`), seeded by its date, so
that it is the same whenever and on whatever machine it is played.
"""

from __future__ import annotations

import dataclasses
import datetime as dt
import math
from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.market.calendars import SessionCalendar
from strell_core.market.chains import SessionChain
from strell_core.market.instruments import ContractKey
from strell_core.scenario.generator import Scenario, Settings, _mix
from strell_core.scenario.path import CHAPTERS, OVERNIGHT_YEARS, SESSION_YEARS, Path, continued

SESSION_SECONDS = 30_600


@dataclass(frozen=True)
class SecondPath:
    """Price (0.01 points) and variance at every second of one session, its open the first."""

    open: int
    spot: npt.NDArray[np.int32]
    variance: npt.NDArray[np.float64]


class PracticeScenario(Scenario):
    """A scenario's history with the sessions up to ``until`` added.

    Index ``i`` means what it means in the history; the added sessions follow. Past the history's
    end there are no recording faults: what the exchange sent is what was recorded.
    """

    def __init__(
        self, until: dt.date, settings: Settings | None = None, calendar: SessionCalendar | None = None
    ) -> None:
        super().__init__(settings, calendar)
        self.past = len(self.dates)
        ahead = self.calendar.between(self.dates[-1] + dt.timedelta(days=1), until)
        self.dates = [*self.dates, *ahead]
        self.sessions = [self.calendar.session(date) for date in self.dates]

    @cached_property
    def path(self) -> Path:
        known = Scenario(self.settings, self.calendar).path
        first, times = known.first.tolist(), [known.times]
        spot, variance = [known.spot], [known.variance]
        self.seconds: dict[int, SecondPath] = {}
        for index in range(self.past, len(self.dates)):
            fine = self._second_path(index, int(spot[-1][-1]), float(variance[-1][-1]))
            self.seconds[index] = fine
            grid = np.arange(self.settings.step, len(fine.spot), self.settings.step)
            times.append(fine.open + grid)
            spot.append(fine.spot[grid])
            variance.append(fine.variance[grid])
            first.append(first[-1] + len(grid))
        return Path(np.array(first, np.int64), np.concatenate(times), np.concatenate(spot), np.concatenate(variance))

    def _second_path(self, index: int, spot: int, variance: float) -> SecondPath:
        session, before = self.sessions[index], self.sessions[index - 1]
        rng = np.random.default_rng([self.settings.seed, self.dates[index].toordinal(), 2])
        steps = np.full(session.close - session.open + 1, SESSION_YEARS / SESSION_SECONDS)
        gap = min(4.0, (session.open - before.close) / 55_800.0)
        steps[0] = OVERNIGHT_YEARS * (0.6 + 0.4 * gap)
        log_spot, path = continued(spot / 100.0, variance, steps, CHAPTERS[-1], rng)
        return SecondPath(session.open, np.round(np.exp(log_spot) * 100).astype(np.int32), path)

    def is_intraday(self, index: int) -> bool:
        return index >= self.past - self.settings.intraday

    def _rows(self, index: int) -> npt.NDArray[np.int64]:
        if index < self.past:
            raise ValueError(f"session {index} is history; Scenario makes it")
        return np.arange(int(self.path.first[index]), int(self.path.first[index + 1]))

    def _add_faults(self, quotes: npt.NDArray[np.int32], index: int, expiration: dt.date) -> None:
        """Nothing: a feed's faults are the practice exchange's to play."""

    def index_of(self, date: dt.date) -> int:
        """Number of a session; raises ``ValueError`` when there is none or it is history."""
        index = self.dates.index(date)
        if index < self.past:
            raise ValueError(f"{date} is history")
        return index

    def at(self, date: dt.date, second: int) -> SessionChain:
        """The chain at one epoch second of an added session, one snapshot wide. On the recording
        grid it is the column that :meth:`chain` has there."""
        index = self.index_of(date)
        _ = self.path
        fine = self.seconds[index]
        place = min(max(second - fine.open, 0), len(fine.spot) - 1)
        chain = self._chain(
            index, np.array([second], np.int64), fine.spot[place : place + 1], fine.variance[place : place + 1]
        )
        if second >= self.sessions[index].close:
            return chain
        # nobody knows yet where the session will settle, and what will have been traded
        gone = (chain.volume * (place / (len(fine.spot) - 1))).astype(np.int32)
        return dataclasses.replace(chain, settlement=int(chain.spot[0]), volume=gone)


@lru_cache(maxsize=2)
def _columns(
    contracts: tuple[ContractKey, ...],
) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64], npt.NDArray[np.float64]]:
    """A number of its own for each contract, its expiration's, and its strike."""
    salt = np.array([c.strike * 2 + (c.right == "call") for c in contracts], np.int64)
    days = np.array([c.expiration.toordinal() for c in contracts], np.int64)
    return salt, days, np.array([c.strike for c in contracts], np.float64)


def sizes(contracts: tuple[ContractKey, ...], second: int) -> tuple[npt.NDArray[np.int32], npt.NDArray[np.int32]]:
    """Contracts bid for and offered, ``(contracts,)`` each: 1 to about 60, the same for some seconds on end."""
    salt, days, _ = _columns(contracts)
    return _sizes(salt, days, second // 20)


@njit(cache=True, nogil=True)
def _sizes(
    salt: npt.NDArray[np.int64], days: npt.NDArray[np.int64], bucket: int
) -> tuple[npt.NDArray[np.int32], npt.NDArray[np.int32]]:
    bids, asks = np.empty(len(salt), np.int32), np.empty(len(salt), np.int32)
    for row in range(len(salt)):
        mark = _mix(salt[row], days[row], bucket)
        scale = 1.0 + math.log1p(mark % 97)
        bids[row] = 1 + int(mark // 97 % 13 * scale)
        asks[row] = 1 + int(mark // 1361 % 13 * scale)
    return bids, asks


def traded(chain: SessionChain, second: int, last: npt.NDArray[np.int32]) -> npt.NDArray[np.int32]:
    """Prices of the last trades, quanta (-1: none yet), after those of this second: busier near the
    money, at the bid, the ask or between. ``last`` are those before, ``(contracts,)``."""
    salt, days, strike = _columns(chain.contracts)
    spot = float(chain.spot[0]) / 100
    return _traded(salt, days, strike, chain.bid[:, 0], chain.ask[:, 0], spot, second, last)


@njit(cache=True, nogil=True)
def _traded(
    salt: npt.NDArray[np.int64], days: npt.NDArray[np.int64], strike: npt.NDArray[np.float64],
    bids: npt.NDArray[np.int32], asks: npt.NDArray[np.int32], spot: float, second: int, last: npt.NDArray[np.int32],
) -> npt.NDArray[np.int32]:  # fmt: skip
    out = last.copy()
    for row in range(len(salt)):
        bid, ask = bids[row], asks[row]
        if bid <= 0 or ask < bid:
            continue
        mark = _mix(salt[row], days[row], second)
        if mark % 1000 < 90.0 * math.exp(-abs(strike[row] / spot - 1.0) / 0.02) + 1.0:
            where = mark // 1000 % 3
            out[row] = bid if where == 0 else ask if where == 1 else (bid + ask) // 2
    return out

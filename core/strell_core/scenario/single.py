"""The demo exchange's stocks and its fund: chains of American options with dividends, reports and a split.

A price moves with the index and by itself; a report after the close moves it overnight, and expirations behind a
report carry that move in their volatility until it has passed. Dividends are known beforehand, as a company says
them. Prices, strikes and steps before a split are in the units of their day. The options are valued by :mod:`american`, so that what is read out of the quotes can be compared with what
was put in.
"""

from __future__ import annotations

import dataclasses
import datetime as dt
import math
from dataclasses import dataclass
from decimal import Decimal
from functools import cached_property, partial

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.market.calendars import MARROWICK
from strell_core.market.chains import SessionChain
from strell_core.market.extras import Extras
from strell_core.market.instruments import ContractKey, Underlying
from strell_core.market.splits import Split
from strell_core.pricing.american import BULK, early_exercise
from strell_core.pricing.black import YEAR_SECONDS
from strell_core.pricing.surface import american_surface
from strell_core.scenario import listing
from strell_core.scenario.generator import Scenario, _mix
from strell_core.scenario.smile import total_variance

RATE = 0.021
MONTHS = 5
WEEKS = 5
RHO = -0.28
TICK = 5
"""Option prices move by this many quanta from :data:`FINE` on."""
FINE = 300
STEP = 1800
"""Seconds between snapshots of the sessions that were recorded while they traded."""
OVERNIGHT = 0.3
"""Share of a day's own variance that comes while the exchange is closed."""
DAY = 1 / 252


@dataclass(frozen=True)
class SingleName:
    """What makes a stock or fund: ``vol`` of its own a year beside ``beta`` times the index."""

    symbol: str
    name: str
    kind: str
    start: float
    beta: float
    vol: float
    drift: float
    step: float
    """Between strikes, points."""
    dividend: float
    dividend_months: tuple[int, ...]
    report_months: tuple[int, ...]
    report_move: float
    """Standard deviation of the move after a report, as a share."""
    weeklies: bool
    seed: int
    split: Split | None = None
    """Of a name that pays no dividends: what it paid would be in other units before."""

    @property
    def underlying(self) -> Underlying:
        return Underlying(
            self.symbol, self.name, "EUR", 100, Decimal("0.01"), MARROWICK, RATE, american=True, kind=self.kind
        )


NAMES = (
    SingleName("PLLM", "Pellam Robotics", "stock", 46.8, 1.3, 0.27, 0.10, 2.0, 0.0, (), (2, 5, 8, 11), 0.062, True, 17, Split(dt.date(2025, 9, 22), 2)),
    SingleName("OSTL", "Ostrel Foods", "stock", 51.5, 0.5, 0.11, 0.02, 1.0, 0.62, (4, 10), (1, 4, 7, 10), 0.024, True, 29),
    SingleName("MDVF", "Marrowick Dividend Fund", "fund", 54.4, 0.8, 0.03, 0.03, 1.0, 0.44, (3, 6, 9, 12), (), 0.0, False, 41),
)  # fmt: skip


@njit(cache=True, nogil=True)
def _quotes(
    strike: npt.NDArray[np.float64], spot: float, years: float, carry: float, rest: float, forward: float, when: npt.NDArray[np.float64],
    paid: npt.NDArray[np.float64], theta: float, salt: int,
) -> npt.NDArray[np.int32]:  # fmt: skip
    """Call bid, call ask, put bid, put ask of one expiration, ``(4, strikes)`` in quanta of 0.01."""
    out = np.zeros((4, strike.shape[0]), np.int32)
    for i in range(strike.shape[0]):
        vol = math.sqrt(total_variance(math.log(strike[i] / forward), theta, RHO) / years)
        for side in range(2):
            premium, european, _, _ = early_exercise(
                rest, years, RATE, carry, when, paid, strike[i], vol, 1 - 2 * side, BULK[0], BULK[1]
            )
            fair = (premium + european) * 100.0
            intrinsic = max(0.0, (1 - 2 * side) * (spot - strike[i])) * 100.0
            half = 1.0 + 0.018 * max(0.0, fair - intrinsic) + 0.0025 * intrinsic
            tick = TICK if fair >= FINE else 1
            noise = _mix(int(strike[i] * 4) + side, salt, 11)
            bid = int(math.floor((fair - half) / tick)) - (1 if noise % 11 == 0 else 0)
            ask = int(math.ceil((fair + half) / tick)) + (1 if noise % 13 == 0 else 0)
            out[2 * side, i] = max(bid, 0) * tick
            out[2 * side + 1, i] = max(ask, 1) * tick
    return out


class SingleScenario:
    """The invented history of one name beside the index: one closing chain a session, in the last ``intraday`` sessions
    one every :data:`STEP` seconds as well."""

    def __init__(self, name: SingleName, market: Scenario, sessions: int, intraday: int = 0) -> None:
        self.name = name
        self.market = market
        self.calendar = market.calendar
        self.offset = max(0, len(market.dates) - sessions)
        self.dates = market.dates[self.offset :]
        self.recorded_from = len(self.dates) - intraday
        """First session that was recorded while it traded."""
        self._ranges: dict[tuple[dt.date, int], tuple[int, int]] = {}
        """By expiration and session the first and last strike, in steps, around all closes so far."""

    @cached_property
    def horizon(self) -> list[dt.date]:
        """Sessions from the first one until the last option listed a year on has expired: for so long its today can be
        played."""
        return self.calendar.between(self.dates[0], self.dates[-1] + dt.timedelta(days=31 * (MONTHS + 1) + 366))

    @cached_property
    def dividends(self) -> dict[dt.date, float]:
        """Amounts by the first session without them, announced as far as options reach."""
        return {date: self.name.dividend for date in self._middles(self.name.dividend_months, 12)}

    @cached_property
    def reports(self) -> list[dt.date]:
        """Sessions after whose close a report comes."""
        return self._middles(self.name.report_months, 4)

    def _middles(self, months: tuple[int, ...], day: int) -> list[dt.date]:
        out = []
        for date in self.horizon:
            before = self.calendar.on_or_before(date - dt.timedelta(days=1))
            for month in months:
                target = dt.date(date.year, month, day)
                if before < target <= date:
                    out.append(date)
        return out

    @cached_property
    def bars(self) -> npt.NDArray[np.float64]:
        """Open, high, low and close of every session, ``(sessions, 4)`` points."""
        rng = np.random.default_rng([self.market.settings.seed, self.name.seed])
        path, out = self.market.path, np.empty((len(self.dates), 4))
        price = self.name.start
        closes = path.spot[path.first[1:] - 1] / 100.0
        for i, date in enumerate(self.dates):
            at = self.offset + i
            index = math.log(closes[at] / closes[at - 1]) if at > 0 else 0.0
            after_report = i > 0 and self.dates[i - 1] in self.reports
            gap = 0.3 * self.name.beta * index + self.name.vol * math.sqrt(OVERNIGHT * DAY) * rng.standard_normal()
            if after_report:
                gap += self.name.report_move * rng.standard_normal()
            first = price * math.exp(gap) - self.dividends.get(date, 0.0)
            own = self.name.vol * math.sqrt((1 - OVERNIGHT) * DAY) * rng.standard_normal() + self.name.drift * DAY
            close = first * math.exp(0.7 * self.name.beta * index + own)
            reach = abs(rng.normal(0.0, 0.3, 2)) * self.name.vol * math.sqrt(DAY) * first
            out[i] = first, max(first, close) + reach[0], min(first, close) - reach[1], close
            out[i] *= self.units(i)
            price = close
        out = np.round(out, 2)
        for i in range(self.recorded_from, len(self.dates)):
            prices = self._within(i, *out[i, [0, 3]])
            out[i, 1:3] = max(out[i, 0], prices.max()), min(out[i, 0], prices.min())
        return out

    def units(self, index: int) -> int:
        """By how much a price of today's units was larger in session ``index``."""
        split = self.name.split
        return 1 if split is None or self.dates[index] >= split.date else split.whole or 1

    def rows(self, index: int) -> npt.NDArray[np.int64]:
        """Places on the market's path of a session's snapshots."""
        path, at = self.market.path, self.offset + index
        first, end = int(path.first[at]), int(path.first[at + 1])
        if index < self.recorded_from:
            return np.array([end - 1])
        since = path.times[first:end] - path.times[first]
        return first + np.flatnonzero((since % STEP == 0) | (np.arange(end - first) == end - first - 1))

    def _within(self, index: int, first: float, close: float) -> npt.NDArray[np.float64]:
        """Prices at a session's snapshots between its first and its last: with the market, and a bridge of its own."""
        path, rows = self.market.path, self.rows(index)
        session = self.calendar.session(self.dates[index])
        gone = (path.times[rows] - session.open) / (session.close - session.open)
        rng = np.random.default_rng([self.market.settings.seed, self.name.seed, self.dates[index].toordinal(), 3])
        steps = np.sqrt(np.diff(gone, prepend=0.0)) * rng.standard_normal(len(rows))
        free = np.cumsum(steps)
        market = self.name.beta * np.log(path.spot[rows] / path.spot[path.first[self.offset + index]])
        own = self.name.vol * math.sqrt((1 - OVERNIGHT) * DAY) * (free - gone / gone[-1] * free[-1])
        rest = math.log(close / first) - market[-1]
        return np.asarray(np.round(first * np.exp(market + own + gone / gone[-1] * rest), 2))

    def daily_bar(self, index: int) -> tuple[int, int, int, int]:
        """Open, high, low and close of a session, 0.01 points."""
        first, high, low, close = (round(float(x) * 100) for x in self.bars[index])
        return first, high, low, close

    def expirations(self, date: dt.date) -> list[dt.date]:
        monthly = [d for d in listing.expirations(self.calendar, date) if listing.is_monthly(self.calendar, d)]
        near = monthly[:MONTHS]
        if self.name.weeklies:
            last = date + dt.timedelta(weeks=WEEKS)
            near = sorted(
                {*near, *(d for d in listing.expirations(self.calendar, date) if d <= last and d.weekday() == 4)}
            )
        return [d for d in near if d > date]

    def theta(self, index: int, expiration: dt.date, years: float, variance: float | None = None) -> float:
        """Total variance at the money until ``expiration``: the market's (without one that of the session's close), its
        own, and reports to come."""
        if variance is None:
            variance = float(self.market.path.variance[self.market.path.first[self.offset + index + 1] - 1])
        own = self.name.beta**2 * (0.5 * variance + 0.5 * 0.029) + self.name.vol**2
        ahead = sum(1 for report in self.reports if self.dates[index] <= report < expiration)
        return own * years + ahead * self.name.report_move**2

    def chain(self, index: int) -> SessionChain:
        """The chain of session ``index``, at its close or as it was recorded."""
        if index < self.recorded_from:
            close = round(float(self.bars[index, 3]), 2)
            return self._chain(index, self.calendar.session(self.dates[index]).close, close)
        path, rows = self.market.path, self.rows(index)
        prices = self._within(index, *self.bars[index, [0, 3]]).tolist()
        made = [
            self._chain(index, int(path.times[row]), price, float(path.variance[row]))
            for row, price in zip(rows.tolist(), prices, strict=True)
        ]
        every = partial(np.concatenate, axis=-1)
        return dataclasses.replace(
            made[-1], times=every([c.times for c in made]), spot=every([c.spot for c in made]), forward=every([c.forward for c in made]),
            bid=every([c.bid for c in made]), ask=every([c.ask for c in made]), iv=every([c.iv for c in made]),
        )  # fmt: skip

    def _chain(self, index: int, now: int, spot: float, variance: float | None = None) -> SessionChain:
        """The chain of session ``index`` at epoch second ``now``."""
        date = self.dates[index]
        bids, asks, ivs, forwards, contracts, dates = [], [], [], [], [], []
        for expiration in self.listed(index):
            settles = self.calendar.session(expiration).close
            years = (settles - now) / YEAR_SECONDS
            strikes = self.strikes(index, expiration)
            known = [
                (float(settles - self.calendar.session(d).open), (self.calendar.session(d).open - now) / YEAR_SECONDS, amount)
                for d, amount in self.dividends.items() if date < d <= expiration
            ]  # fmt: skip
            before, when, paid = (np.array([k[n] for k in known], np.float64) for n in range(3))
            rest = spot - float(np.sum(paid * np.exp(-RATE * when)))
            forward = rest * math.exp(RATE * years)
            if years > 0:
                theta = self.theta(index, expiration, years, variance)
                quotes = _quotes(
                    strikes, spot, years, RATE, rest, forward, when, paid, theta,
                    _mix(index, expiration.toordinal(), self.name.seed),
                )[:, :, None]  # fmt: skip
                found, iv = american_surface(
                    strikes, *quotes, np.array([settles - now]), 0.01, RATE, np.array([spot]), before, paid
                )
            else:
                # it settles at this instant: nothing is quoted any more
                quotes = np.full((4, len(strikes), 1), -1, np.int32)
                found, iv = np.array([np.nan]), np.zeros((len(strikes), 1), np.int32)
            forwards.append(found)
            dates.append(expiration)
            for side, right in ((0, "call"), (2, "put")):
                bids.append(quotes[side])
                asks.append(quotes[side + 1])
                ivs.append(iv)
                contracts += [
                    ContractKey(expiration, right, int(k) if k == int(k) else float(k), self.name.symbol)
                    for k in strikes
                ]
        interest, volume = self._activity(date, contracts, spot)
        return SessionChain(
            self.name.symbol, date, np.array([now], np.int64), np.array([round(spot * 100)], np.int32), round(spot * 100),
            tuple(dates), np.array(forwards), tuple(contracts), np.concatenate(bids), np.concatenate(asks),
            np.concatenate(ivs), interest, volume,
        )  # fmt: skip

    def beside(self, chain: SessionChain) -> Extras:
        """Last prices (of contracts that traded) and sizes of a closing chain."""
        rng = np.random.default_rng([self.name.seed, chain.date.toordinal(), 1])
        bid, ask = chain.bid, chain.ask
        where = rng.integers(0, 3, bid.shape)
        last = np.where(where == 0, bid, np.where(where == 1, ask, (bid + ask) // 2))
        traded = (chain.volume[:, None] > 0) & (last > 0)
        sizes = 1 + np.floor(rng.exponential(14.0, (2, *bid.shape))).astype(np.int32)
        return {
            "last": np.where(traded, last * 100, -1).astype(np.int32),
            "bid_size": np.where(bid > 0, sizes[0], 0), "ask_size": np.where(ask > 0, sizes[1], 0),
        }  # fmt: skip

    def listed(self, index: int) -> list[dt.date]:
        """Expirations in the chain of session ``index``, its own date among them where more than its close is recorded: at the
        close they are gone."""
        date = self.dates[index]
        own = [date] if index >= max(1, self.recorded_from) and date in self.offered[index - 1] else []
        return [*own, *self.offered[index]]

    def strikes(self, index: int, expiration: dt.date) -> npt.NDArray[np.float64]:
        """Strikes traded in session ``index``: around every close since the expiration was listed. What has been listed
        stays listed until it expires, so that what is held always has a quote."""
        first, last = self._until(index, expiration)
        return np.arange(first, last + 1, dtype=np.float64) * self.name.step * self.units(index)

    @cached_property
    def offered(self) -> list[list[dt.date]]:
        """By session the expirations that are listed when it is over."""
        return [self.expirations(date) for date in self.dates]

    def _until(self, index: int, expiration: dt.date) -> tuple[int, int]:
        known = self._ranges.get((expiration, index))
        if known is None:
            first, last = self._around(index, expiration)
            if index > 0 and expiration in self.offered[index - 1]:
                before = self._until(index - 1, expiration)
                first, last = min(first, before[0]), max(last, before[1])
            known = self._ranges[expiration, index] = first, last
        return known

    def _around(self, index: int, expiration: dt.date) -> tuple[int, int]:
        """First and last strike around a session's close, in steps: the same before a split as after it."""
        now = self.calendar.session(self.dates[index]).close
        years = (self.calendar.session(expiration).close - now) / YEAR_SECONDS
        spot, theta = round(float(self.bars[index, 3]), 2) / self.units(index), self.theta(index, expiration, years)
        width, step = 0.02 + 2.6 * math.sqrt(theta), self.name.step
        return math.ceil(spot * (1 - width) / step), math.floor(spot * (1 + width) / step)

    def _activity(
        self, date: dt.date, contracts: list[ContractKey], spot: float
    ) -> tuple[npt.NDArray[np.int32], npt.NDArray[np.int32]]:
        """Open interest and the session's volume."""
        rng = np.random.default_rng([self.name.seed, date.toordinal()])
        strike = np.array([float(c.strike) for c in contracts])
        days = np.array([(c.expiration - date).days for c in contracts], np.float64)
        # calls are bought and sold above the price, puts below it, and more of them
        calls = np.array([c.right == "call" for c in contracts])
        shape = np.exp(-(((strike / spot - np.where(calls, 1.03, 0.965)) / 0.07) ** 2)) + 0.04
        interest = (
            np.where(calls, 1350, 1700)
            * rng.uniform(0.7, 1.3, len(strike))
            * shape
            / (1.0 + days / 40)
            * np.where(strike % 10 == 0, 2.4, 1.0)
        )
        volume = interest * 0.12 * np.exp(rng.normal(-0.3, 0.7, len(strike)))
        return interest.astype(np.int32), volume.astype(np.int32)

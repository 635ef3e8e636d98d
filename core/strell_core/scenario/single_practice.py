"""The today of a stock or fund beside the index's: its chain at any second of the sessions after its history.

It moves with the index of that second and by itself, on a path seeded by its date, and opens without a dividend that
goes ex. What has been listed stays listed until it expires, so that what is held always has a quote.
"""

from __future__ import annotations

import dataclasses
import datetime as dt
import math
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from strell_core.market.chains import SessionChain
from strell_core.market.instruments import ContractKey
from strell_core.scenario.generator import Scenario, Settings
from strell_core.scenario.practice import PracticeScenario, sizes
from strell_core.scenario.single import DAY, NAMES, OVERNIGHT, SingleName, SingleScenario

UNIT_HALF = 1
"""Half of the spread at which the underlying itself is quoted, 0.01 points."""


class SinglePractice(SingleScenario):
    """A name's history of so many ``sessions`` with those up to ``until`` added."""

    market: PracticeScenario

    def __init__(self, name: SingleName, until: dt.date, settings: Settings, sessions: int) -> None:
        market = PracticeScenario(until, settings)
        super().__init__(name, market, sessions + len(market.dates) - market.past)
        self.history = SingleScenario(name, Scenario(settings, market.calendar), sessions)
        self.past = self.recorded_from = len(self.history.dates)

    @cached_property
    def seconds(self) -> dict[int, npt.NDArray[np.float64]]:
        """Prices at every second of each added session, its open the first, points."""
        _ = self.market.path
        price = float(self.history.bars[-1, 3])
        out = {}
        for index in range(self.past, len(self.dates)):
            out[index] = self._second_path(index, price)
            price = float(out[index][-1])
        return out

    def _second_path(self, index: int, before: float) -> npt.NDArray[np.float64]:
        date, path, name = self.dates[index], self.market.path, self.name
        place = self.offset + index
        market = self.market.seconds[place].spot / 100.0
        night = math.log(market[0] / (path.spot[path.first[place] - 1] / 100.0))
        rng = np.random.default_rng([self.market.settings.seed, name.seed, date.toordinal(), 2])
        gap = name.beta * night + name.vol * math.sqrt(OVERNIGHT * DAY) * rng.standard_normal()
        if self.dates[index - 1] in self.reports:
            gap += name.report_move * rng.standard_normal()
        first = before * math.exp(gap) - self.dividends.get(date, 0.0)
        steps = len(market) - 1
        own = (
            name.vol * math.sqrt((1 - OVERNIGHT) * DAY / steps) * rng.standard_normal(steps) + name.drift * DAY / steps
        )
        moved = name.beta * np.log(market / market[0]) + np.concatenate(([0.0], np.cumsum(own)))
        return np.asarray(np.round(first * np.exp(moved), 2))

    @cached_property
    def bars(self) -> npt.NDArray[np.float64]:
        today = [(path[0], path.max(), path.min(), path[-1]) for path in self.seconds.values()]
        return np.concatenate([self.history.bars, np.array(today).reshape(-1, 4)])

    def strikes(self, index: int, expiration: dt.date) -> npt.NDArray[np.float64]:
        """Those listed when the session before was over: nothing is listed while it trades."""
        return super().strikes(index - 1, expiration)

    def at(self, date: dt.date, second: int) -> SessionChain:
        """The chain at one epoch second of an added session; raises ``ValueError`` when that is history."""
        index = self.dates.index(date)
        if index < self.past:
            raise ValueError(f"{date} is history")
        session, prices = self.calendar.session(date), self.seconds[index]
        variance = self.market.seconds[self.offset + index].variance
        place = min(max(second - session.open, 0), len(prices) - 1)
        chain = self._chain(index, second, float(prices[place]), float(variance[place]))
        if second >= session.close:
            return chain
        gone = (chain.volume * (place / (len(prices) - 1))).astype(np.int32)
        return dataclasses.replace(chain, volume=gone)


def today_of(raw: dict[str, Any], until: dt.date) -> PracticeScenario | SinglePractice:
    """The today that a venue's settings mean, up to ``until``: the index's, or with ``single`` that of a name with so
    many sessions of ``history`` (:func:`single_settings`)."""
    settings = settings_of(raw)
    name = next((name for name in NAMES if name.symbol == raw.get("single")), None)
    return PracticeScenario(until, settings) if name is None else SinglePractice(name, until, settings, raw["history"])


def settings_of(raw: dict[str, Any]) -> Settings:
    """The generator's settings among a venue's."""
    return Settings.parse({key: value for key, value in raw.items() if key not in ("single", "history")})


def single_settings(settings: Settings, symbol: str, history: int) -> dict[str, Any]:
    """A venue's settings for a stock or fund, as JSON data."""
    return {**settings.plain(), "single": symbol, "history": history}


def unit_quote(chain: SessionChain, second: int) -> tuple[int, int, int, int]:
    """Bid and ask of the underlying itself, 0.01 points, and how many contracts of it (as many units as an option
    delivers) are bid for and offered."""
    price = int(chain.spot[0])
    key = ContractKey.unit(chain.symbol)._replace(expiration=chain.date)
    bid_size, ask_size = sizes((key,), second)
    return price - UNIT_HALF, price + UNIT_HALF, 10 + int(bid_size[0]), 10 + int(ask_size[0])

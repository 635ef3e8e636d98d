"""A grid of American options and QuantLib's values of them, for the tests and ``bench/american.py``."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np
import QuantLib as ql

SPOT = 100.0
_NONE = np.empty(0)
TODAY = ql.Date(1, 1, 2026)
COUNT = ql.Actual365Fixed()


@dataclass(frozen=True)
class Carry:
    """What holding the underlying until an expiration costs and pays.

    ``spot`` in points, ``years`` to settlement, ``rate`` and ``carry`` (growth of the part that is not
    dividends) continuously compounded a year; dividends paid within ``(0, years)`` as years from now and
    points, in the order of their dates.
    """

    spot: float
    years: float
    rate: float
    carry: float
    dividend_years: np.ndarray = field(default_factory=lambda: _NONE)
    dividends: np.ndarray = field(default_factory=lambda: _NONE)

    @classmethod
    def implied(
        cls, spot: float, forward: float, years: float, rate: float, dividend_years: np.ndarray = _NONE,
        dividends: np.ndarray = _NONE,
    ) -> Carry:  # fmt: skip
        """The carry with which ``spot`` less dividends grows to ``forward``; raises ``ValueError`` where
        the dividends are worth more than the price."""
        inside = (dividend_years > 0) & (dividend_years < years)
        when, paid = dividend_years[inside], dividends[inside]
        rest = spot - float(np.sum(paid * np.exp(-rate * when)))
        if not rest > 0 or not forward > 0:
            raise ValueError("the dividends until expiration are worth more than the price")
        carry = math.log(forward / rest) / years if years > 0 else 0.0
        return cls(spot, years, rate, carry, when, paid)

    @property
    def rest(self) -> float:
        """The price without the dividends to come, points."""
        return self.spot - float(np.sum(self.dividends * np.exp(-self.rate * self.dividend_years)))

    @property
    def forward(self) -> float:
        return self.rest * math.exp(self.carry * self.years)


@dataclass(frozen=True)
class Case:
    days: int
    strike: float
    vol: float
    rate: float
    pays: float
    """Dividends a year: as a yield, or discrete, a quarter of it every 91 days."""
    sign: int
    discrete: bool

    @property
    def dividend_days(self) -> list[int]:
        return list(range(40, self.days, 91)) if self.discrete else []

    def carry(self) -> Carry:
        years = self.days / 365
        when = np.array([days / 365 for days in self.dividend_days])
        paid = np.full(len(when), self.pays * SPOT / 4)
        if not self.discrete:
            return Carry(SPOT, years, self.rate, self.rate - self.pays)
        rest = SPOT - float(np.sum(paid * np.exp(-self.rate * when)))
        return Carry.implied(SPOT, rest * math.exp(self.rate * years), years, self.rate, when, paid)


def grid(count: int) -> list[Case]:
    """Underlying at 100, strikes from 70 to 130, one week to two years, every other one with discrete dividends."""
    random = np.random.default_rng(1)
    return [
        Case(
            int(random.choice([7, 14, 30, 60, 91, 182, 365, 547, 730])), float(random.choice(np.arange(70, 131, 5))),
            float(random.choice([0.1, 0.15, 0.2, 0.3, 0.4, 0.6, 0.8])), float(random.choice([0, 0.01, 0.03, 0.05, 0.08])),
            float(random.choice([0, 0.01, 0.03, 0.06])), int(random.choice([-1, 1])), bool(i % 2),
        )
        for i in range(count)
    ]  # fmt: skip


def option(case: Case) -> tuple[ql.VanillaOption, ql.BlackScholesMertonProcess]:
    ql.Settings.instance().evaluationDate = TODAY
    pays = 0.0 if case.discrete else case.pays

    def flat(rate: float) -> ql.YieldTermStructureHandle:
        return ql.YieldTermStructureHandle(ql.FlatForward(TODAY, rate, COUNT))

    vol = ql.BlackVolTermStructureHandle(ql.BlackConstantVol(TODAY, ql.NullCalendar(), case.vol, COUNT))
    process = ql.BlackScholesMertonProcess(ql.QuoteHandle(ql.SimpleQuote(SPOT)), flat(pays), flat(case.rate), vol)
    kind = ql.Option.Call if case.sign > 0 else ql.Option.Put
    made = ql.VanillaOption(ql.PlainVanillaPayoff(kind, case.strike), ql.AmericanExercise(TODAY, TODAY + case.days))
    return made, process


def reference(case: Case, space: int = 800, least_time: int = 400) -> float:
    """QuantLib's value: high precision without discrete dividends, fine finite differences with them."""
    made, process = option(case)
    if not case.discrete:
        made.setPricingEngine(ql.QdFpAmericanEngine(process, ql.QdFpAmericanEngine.highPrecisionScheme()))
        return float(made.NPV())
    dates = [TODAY + days for days in case.dividend_days]
    dividends = ql.DividendVector(dates, [case.pays * SPOT / 4] * len(dates))
    time = max(least_time, min(2 * case.days, 2 * least_time))
    made.setPricingEngine(
        ql.FdBlackScholesVanillaEngine(
            process, dividends, time, space, 2, ql.FdmSchemeDesc.CrankNicolson(), False, -1.0,
            ql.FdBlackScholesVanillaEngine.Escrowed,
        )
    )  # fmt: skip
    return float(made.NPV())

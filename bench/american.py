"""American options: errors on a grid of 2 000 contracts, and speed beside QuantLib's engines in one run."""

from __future__ import annotations

import math
import time
from collections.abc import Callable

import numpy as np
import QuantLib as ql

from bench.timing import table
from strell_core.pricing.american import BULK, CLOSE, PRECISE, american_volatility, early_exercise, worth_of
from strell_core.pricing.black import YEAR_SECONDS
from strell_core.pricing.premium_table import delta_grid
from strell_core.pricing.surface import american_surface
from tests.pricing.american_grid import Case, grid, option, reference

CONTRACTS = 2000


def _terms(case: Case) -> tuple:
    carry = case.carry()
    return (carry.rest, carry.years, carry.rate, carry.carry, carry.dividend_years, carry.dividends)


def run() -> None:
    cases = grid(CONTRACTS)
    wanted = np.array([reference(case) for case in cases])
    discrete = np.array([case.discrete for case in cases])
    given = [(_terms(case), case) for case in cases]
    errors, speeds = [], []
    for name, how in (("bulk", BULK), ("precise", PRECISE)):
        early_exercise(*given[0][0], 100.0, 0.2, 1, *how)
        began = time.perf_counter()
        found = np.array([sum(early_exercise(*t, c.strike, c.vol, c.sign, *how)[:2]) for t, c in given])
        speeds.append((f"{name}, prices with delta and gamma", CONTRACTS / (time.perf_counter() - began)))
        began = time.perf_counter()
        out = [(t, c, p) for (t, c), p in zip(given, found, strict=True) if c.sign * (c.strike - 100.0) >= 0]
        for t, c, p in out:
            american_volatility(float(p), *t, float(c.strike), c.sign, *how, CLOSE)
        speeds.append((f"{name}, implied volatilities out of the money", len(out) / (time.perf_counter() - began)))
        for words, which in (("continuous yield", ~discrete), ("discrete dividends", discrete)):
            miss = np.abs(found - wanted)[which]
            errors.append((name, words, *(f"{np.percentile(miss, q):.5f}" for q in (50, 99)), f"{miss.max():.4f}"))
    speeds += _chains()
    yields = [case for case in cases if not case.discrete][:400]
    dividends = [case for case in cases if case.discrete][:100]
    speeds += [
        ("QuantLib, QdFpAmericanEngine fast", _speed(yields, lambda p, _: ql.QdFpAmericanEngine(p, ql.QdFpAmericanEngine.fastScheme()))),
        ("QuantLib, QdFpAmericanEngine high precision", _speed(yields, lambda p, _: ql.QdFpAmericanEngine(p, ql.QdFpAmericanEngine.highPrecisionScheme()))),
        ("QuantLib, finite differences 100 × 100, dividends", _speed(dividends, _differences)),
    ]  # fmt: skip
    table(
        f"American prices, {CONTRACTS} contracts: errors",
        ("how", "dividends", "median", "99 of 100 within", "greatest"),
        errors,
    )
    table("American prices: speed", ("what", "a second"), [(name, f"{speed:,.0f}") for name, speed in speeds])


def _chains() -> list[tuple[str, float]]:
    """Volatilities and deltas of chains of 50 strikes, both rights, at 20 instants; premiums shared by strikes."""
    out = []
    for words, years, paid in (
        ("a week", 0.02, ()), ("half a year", 0.5, ()), ("half a year, two dividends", 0.5, ((0.15, 0.6), (0.4, 0.6))),
    ):  # fmt: skip
        when, amounts = np.array([d[0] for d in paid]), np.array([d[1] for d in paid])
        strikes, quotes = np.linspace(80.0, 120.0, 50), [np.zeros((50, 20), np.int32) for _ in range(4)]
        rest = 100.0 - worth_of(0.03, when, amounts)
        for i, strike in enumerate(strikes):
            vol = 0.25 + 0.5 * math.log(strike / 100) ** 2
            for side, sign in ((0, 1), (2, -1)):
                mid = sum(early_exercise(rest, years, 0.03, 0.03, when, amounts, strike, vol, sign, *PRECISE)[:2])
                quotes[side][i], quotes[side + 1][i] = max(0, int(100 * mid - 1.5)), int(100 * mid + 1.5) + 1
        left, before = np.full(20, int(years * YEAR_SECONDS), np.int64), (years - when) * YEAR_SECONDS
        terms = (strikes, *quotes, left, 0.01, 0.03, np.full(20, 100.0), before, amounts)
        american_surface(*terms)
        began = time.perf_counter()
        forward, iv = american_surface(*terms)
        out.append((f"chains, {words}: quotes with forward and volatility", 2000 / (time.perf_counter() - began)))
        both, sign = np.concatenate([strikes, strikes]), np.repeat(np.array([1, -1], np.int64), 50)
        deltas = (100.0, forward[0], both, years, np.concatenate([iv[:, 0], iv[:, 0]]), 0.03, when, amounts, sign)
        delta_grid(*deltas)
        began = time.perf_counter()
        for _ in range(10):
            delta_grid(*deltas)
        out.append((f"chains, {words}: deltas", 1000 / (time.perf_counter() - began)))
    return out


def _differences(process: ql.BlackScholesMertonProcess, case: Case) -> ql.PricingEngine:
    from tests.pricing.american_grid import TODAY

    dates = [TODAY + days for days in case.dividend_days]
    paid = ql.DividendVector(dates, [case.pays * 25.0] * len(dates))
    return ql.FdBlackScholesVanillaEngine(
        process, paid, 100, 100, 0, ql.FdmSchemeDesc.Douglas(), False, -1.0, ql.FdBlackScholesVanillaEngine.Escrowed
    )


def _speed(cases: list[Case], engine: Callable) -> float:
    made = [(*option(case), case) for case in cases]
    for instrument, process, case in made:
        instrument.setPricingEngine(engine(process, case))
    began = time.perf_counter()
    for instrument, _, _ in made:
        instrument.NPV()
    return len(made) / (time.perf_counter() - began)

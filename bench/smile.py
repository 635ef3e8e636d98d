"""Curves of volatility on generated chains: quotes met, arbitrage, the generator's own volatility, time a curve."""

from __future__ import annotations

import math
import time

import numpy as np
from scipy.interpolate import UnivariateSpline

from bench.timing import table
from strell_core.formats import cubes
from strell_core.pricing.smile import Smile, butterfly_room, calendar_room, reach, smiles
from strell_core.scenario.generator import DIVIDEND_YIELD, Scenario, Settings
from strell_core.scenario.smile import at_the_money_variance, skew, total_variance


def run() -> None:
    scenario = Scenario(Settings())
    chosen = [*range(0, 630, 21), *range(640, 750, 12)]
    timeline = cubes.in_memory([scenario.chain(i) for i in chosen], scenario.underlying, scenario.calendar, "bench")
    instants = []
    for session in range(len(chosen)):
        first, end = int(timeline.first[session]), int(timeline.first[session + 1])
        instants += [end - 1] if end - first == 1 else [first, first + 40, end - 1]
    smiles(timeline.view(instants[0]))
    found: list[tuple[int, list[Smile]]] = []
    began = time.perf_counter()
    for index in instants:
        found.append((index, smiles(timeline.view(index))))
    taken = time.perf_counter() - began
    curves = [smile for _, mine in found for smile in mine]
    quotes, inside = sum(s.fit.quotes for s in curves), sum(s.fit.inside for s in curves)
    butterflies = sum(butterfly_room(s, reach(s, 501)) < 0 for s in curves)
    calendars = sum(
        calendar_room(a, b, reach(b, 501) / b.forward) < -1e-9
        for _, mine in found
        for a, b in zip(mine, mine[1:], strict=False)
    )
    misses = np.array([miss for index, mine in found for miss in _misses(scenario, timeline, index, mine)])
    spline, spline_time = _spline(timeline, instants)
    table(
        f"Curves of volatility: {len(curves)} expirations at {len(instants)} instants, {quotes:,} quotes",
        ("what", "figure"),
        [
            ("quotes with the curve between bid and ask", f"{100 * inside / quotes:.2f} %"),
            ("expirations with butterfly arbitrage on 501 strikes", str(butterflies)),
            ("expirations with calendar arbitrage on 501 strikes", str(calendars)),
            ("distance to the generator's volatility, 5 to 95 delta: median of the greatest", f"{100 * np.median(misses):.3f} points"),
            ("the same, 99 of 100 within", f"{100 * np.quantile(misses, 0.99):.3f} points"),
            ("the same, greatest", f"{100 * misses.max():.3f} points"),
            ("time a curve", f"{1000 * taken / len(curves):.1f} ms"),
            ("baseline, SciPy's smoothing spline: expirations with butterfly arbitrage", f"{spline} of {len(curves)}"),
            ("baseline, time a spline", f"{1000 * spline_time:.1f} ms"),
        ],
    )  # fmt: skip


def _misses(scenario: Scenario, timeline: cubes.Timeline, index: int, mine: list[Smile]) -> list[float]:
    variance = float(scenario.path.variance[int(np.searchsorted(scenario.path.times, timeline.times[index]))])
    out = []
    for smile in mine:
        strikes = np.linspace(smile.strike_of_delta(0.05, -1), smile.strike_of_delta(0.05, 1), 41)
        forward = 0.01 * float(timeline.spot[index]) * math.exp((smile.rate - DIVIDEND_YIELD) * smile.years)
        theta, rho = at_the_money_variance(smile.years, variance), skew(variance)
        true = np.sqrt([total_variance(math.log(k / forward), theta, rho) / smile.years for k in strikes.tolist()])
        out.append(float(np.abs(smile.vol(strikes) - true).max()))
    return out


def _spline(timeline: cubes.Timeline, instants: list[int]) -> tuple[int, float]:
    """A smoothing spline through the same volatilities, and how often its prices can be arbitraged."""
    bad, taken, count = 0, 0.0, 0
    for index in instants:
        view = timeline.view(index)
        for expiration in view.expirations:
            calls = view.slice(expiration, "call")
            known = calls.iv > 0
            years = (calls.settlement_at - view.instant) / 31_536_000
            if known.sum() < 5 or not years > 0 or not np.isfinite(calls.forward):
                continue
            k, vol = np.log(calls.strikes[known] / calls.forward), calls.iv[known] / 10_000
            began = time.perf_counter()
            spline = UnivariateSpline(k, vol, s=len(k) * 0.0005**2)
            taken += time.perf_counter() - began
            count += 1
            grid = np.linspace(k[0], k[-1], 501)
            w = spline(grid) ** 2 * years
            first, second = np.gradient(w, grid), np.gradient(np.gradient(w, grid), grid)
            g = (1 - 0.5 * grid * first / w) ** 2 - 0.25 * first**2 * (1 / w + 0.25) + 0.5 * second
            bad += bool((g[2:-2] < 0).any())
    return bad, taken / count

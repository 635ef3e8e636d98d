"""Underlying path of the demo index: stochastic volatility with jumps and a few chapters.

dln S = (μ - ½v) dt + √v dW + jumps, dv = κ(θ - v) dt + ξ√v dZ (Heston, 1993), simulated with full
truncation on the five-minute grid, with one larger step overnight. The chapters (calm year, crash
week, slow recovery, long trend) set drift, θ and forced jumps by the position in the history.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.market.calendars import Session

KAPPA = 6.0
XI = 0.55
FLOOR = 0.0072
OVERNIGHT_YEARS = 0.3 / 252
SESSION_YEARS = 0.7 / 252
CORRELATION = -0.7


@dataclass(frozen=True)
class Chapter:
    """From ``start`` (share of the history) on: drift a year, long-run variance, jumps a year."""

    start: float
    drift: float
    theta: float
    jumps: float


CHAPTERS = (
    Chapter(0.0, 0.07, 0.0160, 3.0),
    Chapter(0.335, -2.6, 0.1500, 60.0),
    Chapter(0.345, -0.05, 0.0500, 10.0),
    Chapter(0.39, 0.09, 0.0330, 6.0),
    Chapter(0.60, 0.13, 0.0180, 4.0),
    Chapter(0.93, 0.03, 0.0260, 8.0),
)


@dataclass(frozen=True)
class Path:
    """Snapshot instants ``(m,)`` of every session end to end, spot (0.01 points) and variance."""

    first: npt.NDArray[np.int64]
    """Index of each session's first snapshot, with the total count appended."""
    times: npt.NDArray[np.int64]
    spot: npt.NDArray[np.int32]
    variance: npt.NDArray[np.float64]


@njit(cache=True)
def _simulate(
    start: float, variance: float, dt: npt.NDArray[np.float64], drift: npt.NDArray[np.float64],
    theta: npt.NDArray[np.float64], jump: npt.NDArray[np.float64], normals: npt.NDArray[np.float64],
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:  # fmt: skip
    n = dt.shape[0]
    log_spot, v = np.empty(n), np.empty(n)
    x = math.log(start)
    for i in range(n):
        positive = max(variance, 0.0)
        root = math.sqrt(positive * dt[i])
        z = CORRELATION * normals[0, i] + math.sqrt(1.0 - CORRELATION * CORRELATION) * normals[1, i]
        x += (drift[i] - 0.5 * positive) * dt[i] + root * normals[0, i] + jump[i]
        variance += KAPPA * (theta[i] - positive) * dt[i] + XI * root * z
        variance += 2.0 * abs(jump[i]) * (0.12 if jump[i] < 0 else 0.03)
        log_spot[i] = x
        v[i] = max(variance, FLOOR)
    return log_spot, v


def simulate(sessions: list[Session], rng: np.random.Generator, step: int, start: float = 2560.0) -> Path:
    """Path over ``sessions``: a snapshot every ``step`` seconds, the first one step after the open,
    the last at the close."""
    times, dts, shares, first = [], [], [], [0]
    for number, session in enumerate(sessions):
        grid = np.arange(session.open + step, session.close + 1, step)
        steps = np.full(len(grid), SESSION_YEARS * step / 30_600)
        gap = 1.0 if number == 0 else min(4.0, (session.open - sessions[number - 1].close) / 55_800.0)
        steps[0] += OVERNIGHT_YEARS * (0.6 + 0.4 * gap)
        times.append(grid)
        dts.append(steps)
        shares.append(np.full(len(grid), number / len(sessions)))
        first.append(first[-1] + len(grid))
    dt, share = np.concatenate(dts), np.concatenate(shares)
    chapter = np.searchsorted([c.start for c in CHAPTERS], share, side="right") - 1
    drift = np.array([c.drift for c in CHAPTERS])[chapter]
    theta = np.array([c.theta for c in CHAPTERS])[chapter]
    rate = np.array([c.jumps for c in CHAPTERS])[chapter]
    happens = rng.random(len(dt)) < rate * dt
    jump = np.where(happens, rng.normal(-0.006, 0.011, len(dt)), 0.0)
    log_spot, variance = _simulate(start, 0.016, dt, drift, theta, jump, rng.standard_normal((2, len(dt))))
    return Path(
        np.array(first, np.int64), np.concatenate(times).astype(np.int64),
        np.round(np.exp(log_spot) * 100).astype(np.int32), variance,
    )  # fmt: skip


def continued(
    spot: float, variance: float, years: npt.NDArray[np.float64], chapter: Chapter, rng: np.random.Generator
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.float64]]:
    """Log price and variance after each of ``years`` (steps in years) from a known price and variance,
    within one chapter."""
    n = len(years)
    happens = rng.random(n) < chapter.jumps * years
    jump = np.where(happens, rng.normal(-0.006, 0.011, n), 0.0)
    return _simulate(
        spot, variance, years, np.full(n, chapter.drift), np.full(n, chapter.theta), jump, rng.standard_normal((2, n))
    )

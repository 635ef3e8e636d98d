"""Black-76 prices and Greeks of European options on a forward.

Source: F. Black, "The pricing of commodity contracts", Journal of Financial Economics 3 (1976),
equations 16 and following; Greeks by differentiation. Conventions of this project:

* delta and gamma are per point of the *forward*, discounted; calls have positive delta;
* theta is the change of value over one calendar day, everything else held;
* vega is per volatility point (0.01), rho per percentage point of the rate with the forward held;
* vanna is the change of delta for one volatility point, charm its change over one calendar day.
"""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.market.view import NO_DELTA

YEAR_SECONDS = 365.0 * 86_400.0
DAY = 1.0 / 365.0
SQRT_HALF = math.sqrt(0.5)
INV_SQRT_2PI = 1.0 / math.sqrt(2.0 * math.pi)
CALL, PUT = np.int64(1), np.int64(-1)
"""The sign of a right. Kernels are compiled anew for every whole number written out in a call, but not for these."""

FloatArray = npt.NDArray[np.float64]

GREEKS = ("delta", "gamma", "theta", "vega", "rho", "vanna", "charm")
"""In the order in which functions return them."""


def years_between(now: int, settlement: int) -> float:
    """Year fraction between two epoch seconds (365-day years, to the second), never negative."""
    return max(0.0, (settlement - now) / YEAR_SECONDS)


@njit(cache=True, nogil=True)
def normal_cdf(x: float) -> float:
    """Standard normal distribution function."""
    return 0.5 * math.erfc(-x * SQRT_HALF)


@njit(cache=True, nogil=True)
def black_price(forward: float, strike: float, years: float, vol: float, discount: float, sign: int) -> float:
    """Value of a call (``sign`` 1) or put (-1); intrinsic when no time or volatility is left."""
    spread = vol * math.sqrt(years) if years > 0.0 else 0.0
    if not spread > 0.0:
        return discount * max(0.0, sign * (forward - strike))
    d1 = math.log(forward / strike) / spread + 0.5 * spread
    first = forward * normal_cdf(sign * d1)
    return discount * sign * (first - strike * normal_cdf(sign * (d1 - spread)))


@njit(cache=True, nogil=True)
def black_delta(forward: float, strike: float, years: float, vol: float, discount: float, sign: int) -> float:
    """Change of value for one point of the forward."""
    spread = vol * math.sqrt(years) if years > 0.0 else 0.0
    if not spread > 0.0:
        return discount * sign if sign * (forward - strike) > 0.0 else 0.0
    return discount * sign * normal_cdf(sign * (math.log(forward / strike) / spread + 0.5 * spread))


@njit(cache=True, nogil=True)
def price_many(
    forward: FloatArray, strike: FloatArray, years: FloatArray, vol: FloatArray, rate: float, sign: npt.NDArray[np.int64]
) -> FloatArray:  # fmt: skip
    """:func:`black_price` over arrays of one shape ``(n,)``, discounted at ``rate``."""
    out = np.empty(forward.shape[0])
    for i in range(forward.shape[0]):
        discount = math.exp(-rate * years[i])
        out[i] = black_price(forward[i], strike[i], years[i], vol[i], discount, sign[i])
    return out


@njit(cache=True, nogil=True)
def greeks_many(
    forward: FloatArray, strike: FloatArray, years: FloatArray, vol: FloatArray, rate: float, sign: npt.NDArray[np.int64]
) -> FloatArray:  # fmt: skip
    """The Greeks named in :data:`GREEKS`, shape ``(7, n)``, of ``n`` options.

    Options without time or volatility have the delta of their payoff and no other Greek.
    """
    out = np.zeros((7, forward.shape[0]))
    for i in range(forward.shape[0]):
        f, k, t, v, s = forward[i], strike[i], years[i], vol[i], sign[i]
        discount = math.exp(-rate * t)
        out[0, i] = black_delta(f, k, t, v, discount, s)
        spread = v * math.sqrt(t) if t > 0.0 else 0.0
        if not spread > 0.0:
            continue
        d1 = math.log(f / k) / spread + 0.5 * spread
        density = INV_SQRT_2PI * math.exp(-0.5 * d1 * d1)
        value = black_price(f, k, t, v, discount, s)
        out[1, i] = discount * density / (f * spread)
        out[2, i] = (rate * value - discount * f * density * v / (2.0 * math.sqrt(t))) * DAY
        out[3, i] = discount * f * density * math.sqrt(t) * 0.01
        out[4, i] = -t * value * 0.01
        d2 = d1 - spread
        out[5, i] = -discount * density * d2 / v * 0.01
        out[6, i] = (rate * out[0, i] + discount * density * d2 / (2.0 * t)) * DAY
    return out


@njit(cache=True, nogil=True)
def delta_grid(
    forward: float, strike: FloatArray, years: float, iv: npt.NDArray[np.uint16], rate: float, sign: npt.NDArray[np.int64]
) -> npt.NDArray[np.int16]:  # fmt: skip
    """Deltas in 0.0001 of one expiration at one instant from stored IVs; ``NO_DELTA`` without IV."""
    out = np.empty(strike.shape[0], np.int16)
    discount = math.exp(-rate * years)
    for i in range(strike.shape[0]):
        if iv[i] == 0 or not forward > 0.0:
            out[i] = NO_DELTA
        else:
            value = black_delta(forward, strike[i], years, iv[i] * 1e-4, discount, sign[i])
            out[i] = round(value * 10_000.0)
    return out

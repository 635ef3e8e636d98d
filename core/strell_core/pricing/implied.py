"""Implied volatility to machine precision, on the out-of-the-money side.

Normalised as in P. Jäckel, "Let's be rational", Wilmott (2015): x = -|ln F/K|,
β = undiscounted price / √(FK), s = σ√T. The seed inverts the normal-volatility (Bachelier) price
by table and converts it by the small-variance expansion; Householder steps of third order follow,
on ln b, and on 1/ln b where the price is tiny.
"""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.pricing.black import INV_SQRT_2PI, SQRT_HALF, FloatArray

OK, NO_TIME_VALUE, BELOW_INTRINSIC, ABOVE_CAP, EXPIRED, BAD_INPUT, NO_CONVERGENCE = range(7)
STATUS_TEXT = {
    OK: "found",
    NO_TIME_VALUE: "the price is exactly intrinsic: no time value",
    BELOW_INTRINSIC: "the price is below intrinsic value",
    ABOVE_CAP: "the price is at or above what the option can be worth",
    EXPIRED: "no time is left",
    BAD_INPUT: "forward, strike and price must be finite, forward and strike positive",
    NO_CONVERGENCE: "no volatility was found",
}

_KNOTS = 1024
_LOW, _HIGH = -7.0, 64.0


def _seed_table() -> FloatArray:
    """ln of the standardised distance h over uniform knots of y = ln(D/β), Bachelier's price."""
    y = np.linspace(_LOW, _HIGH, _KNOTS)
    out = np.empty(_KNOTS)
    for i, target in enumerate(y):
        low, high = -12.0, 3.7
        for _ in range(80):
            middle = 0.5 * (low + high)
            h = math.exp(middle)
            tail = 0.5 * math.erfc(h * SQRT_HALF)
            density = INV_SQRT_2PI * math.exp(-0.5 * h * h)
            share = density / h - tail if h < 10 else density / h**3 * (1 - 3 / h**2 + 15 / h**4)
            if share > 0 and -math.log(share) < target:
                low = middle
            else:
                high = middle
        out[i] = 0.5 * (low + high)
    return out


_TABLE = _seed_table()
_SCALE = (_KNOTS - 1) / (_HIGH - _LOW)


_FAR = -12.0
LOG_2PI = math.log(2.0 * math.pi)


@njit(cache=True, nogil=True)
def _mills(z: float) -> float:
    """Φ(z)/φ(z) for z below -12, by its asymptotic series (Abramowitz and Stegun 26.2.12)."""
    w = 1.0 / (z * z)
    total = 1.0
    for k in range(14, 0, -1):
        total = 1.0 - (2 * k - 1) * w * total
    return -total / z


@njit(cache=True, nogil=True)
def normalised_black(x: float, s: float) -> float:
    """Price over √(FK) of the out-of-the-money option, x ≤ 0, s > 0.

    Far from the money the two tails agree in most digits; there the difference is taken between
    their Mills ratios, whose common factor carries the size.
    """
    return _normalised(x, s, math.exp(0.5 * x))


@njit(cache=True, nogil=True)
def _normalised(x: float, s: float, root_ratio: float) -> float:
    """:func:`normalised_black` with e^(x/2) given."""
    h, t = x / s, 0.5 * s
    if h < _FAR and h + t < _FAR:
        return INV_SQRT_2PI * math.exp(-0.5 * (h * h + t * t)) * (_mills(h + t) - _mills(h - t))
    return 0.5 * (root_ratio * math.erfc(-(h + t) * SQRT_HALF) - math.erfc(-(h - t) * SQRT_HALF) / root_ratio)


@njit(cache=True, nogil=True)
def _seed(x: float, beta: float, distance: float) -> float:
    if x == 0.0:
        return beta / INV_SQRT_2PI * (1.0 + beta * beta * math.pi / 12.0)
    y = math.log(distance / beta)
    if y <= _LOW:
        normal = (beta + 0.5 * distance) / INV_SQRT_2PI
    elif y >= _HIGH:
        h = math.sqrt(2.0 * y)
        for _ in range(3):
            h = math.sqrt(2.0 * (y - 3.0 * math.log(h)) - LOG_2PI)
        normal = distance / h
    else:
        at = (y - _LOW) * _SCALE
        knot = min(int(at), _KNOTS - 2)
        left = _TABLE[knot]
        normal = distance / math.exp(left + (at - knot) * (_TABLE[knot + 1] - left))
    s = normal * (-x) / distance
    return s * (1.0 + min(s * s / 24.0, 0.5))


@njit(cache=True, nogil=True)
def _total_volatility(x: float, beta: float, distance: float, root_ratio: float) -> float:
    """s with normalised_black(x, s) = β; NaN when the iteration does not settle.

    ``distance`` is |F - K|/√(FK) = 2 sinh(|x|/2), ``root_ratio`` e^(x/2): the caller has both without
    another transcendental function."""
    s = _seed(x, beta, distance)
    if x == 0.0 and beta < 1e-4:
        return s  # the series left out a term of relative size β⁴
    target = math.log(beta)
    low, high = 0.0, 1e9
    for _ in range(40):
        b = _normalised(x, s, root_ratio)
        h, t = x / s, 0.5 * s
        slope = INV_SQRT_2PI * math.exp(-0.5 * (h * h + t * t))
        if not (b > 0.0 and slope > 0.0):
            low = max(low, s)
            s = s * 1.5 if high > 1e8 else 0.5 * (low + high)
            continue
        log_b = math.log(b)
        if log_b > target:
            high = min(high, s)
        else:
            low = max(low, s)
        first = slope / b
        second = h * h / s - 0.25 * s
        third = second * second - 3.0 * h * h / (s * s) - 0.25
        f1 = first
        r2 = second - first
        r3 = third - 3.0 * second * first + 2.0 * first * first
        if log_b < -4.0:
            # g = 1/ln b: nearly linear in s for tiny prices
            nu = (1.0 / target - 1.0 / log_b) * -(log_b * log_b) / f1
            g2 = r2 - 2.0 * f1 / log_b
            g3 = r3 - 6.0 * f1 * r2 / log_b + 6.0 * f1 * f1 / (log_b * log_b)
        else:
            nu = (target - log_b) / f1
            g2, g3 = r2, r3
        denominator = 1.0 + nu * (g2 + nu * g3 / 6.0)
        step = nu * (1.0 + 0.5 * g2 * nu) / denominator if denominator > 0.1 else nu
        if abs(step) <= 1e-14 * s:
            return s
        after = s + step
        settled = low < after < high and abs(step) <= 3e-4 * s
        if not (low < after < high):
            after = 0.5 * (low + high) if high < 1e8 else 2.0 * s
        s = after
        if settled:
            return s
    return math.nan


@njit(cache=True, nogil=True)
def implied_volatility(price: float, forward: float, strike: float, years: float, sign: int) -> tuple[float, int]:
    """Volatility a year of an *undiscounted* price, with a status.

    An in-the-money price is turned into its out-of-the-money twin by parity; the caller should
    pass the out-of-the-money quote itself where there is one, because an in-the-money price has
    lost its time value to rounding. Returns ``(NaN, status)`` when there is none and
    ``(0, NO_TIME_VALUE)`` for a price that is exactly intrinsic.
    """
    if not (
        forward > 0.0 and strike > 0.0 and math.isfinite(forward) and math.isfinite(strike) and math.isfinite(price)
    ):
        return math.nan, BAD_INPUT
    if not (years > 0.0 and math.isfinite(years)):
        return math.nan, EXPIRED
    intrinsic = max(0.0, sign * (forward - strike))
    if price < intrinsic:
        return math.nan, BELOW_INTRINSIC
    if price == intrinsic:
        return 0.0, NO_TIME_VALUE
    cap = forward if sign > 0 else strike
    if price >= cap * (1.0 - 1e-12):
        return math.nan, ABOVE_CAP
    root = math.sqrt(forward) * math.sqrt(strike)
    beta = (price - intrinsic) / root
    distance = abs(forward - strike) / root
    if beta < 1e-290:
        return math.nan, NO_CONVERGENCE
    s = _total_volatility(-abs(math.log(forward / strike)), beta, distance, min(forward, strike) / root)
    vol = s / math.sqrt(years)
    if not vol > 0.0:
        return math.nan, NO_CONVERGENCE
    return vol, OK


@njit(cache=True, nogil=True)
def implied_many(
    price: FloatArray, forward: FloatArray, strike: FloatArray, years: FloatArray, sign: npt.NDArray[np.int64]
) -> tuple[FloatArray, npt.NDArray[np.uint8]]:  # fmt: skip
    """:func:`implied_volatility` over arrays ``(n,)``; returns volatilities and statuses."""
    vol = np.empty(price.shape[0])
    status = np.empty(price.shape[0], np.uint8)
    for i in range(price.shape[0]):
        vol[i], status[i] = implied_volatility(price[i], forward[i], strike[i], years[i], sign[i])
    return vol, status

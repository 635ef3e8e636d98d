"""Premiums for early exercise of one expiration at one instant, shared by all its strikes.

Without dividends an American value is homogeneous in price and strike (R. Merton, "Theory of rational option
pricing", Bell Journal of Economics 4 (1973), theorem 9), so one run of :func:`american.solve` with the strike at 1
holds the premiums of every strike at one volatility. Cash dividends add their size as a share of the strike, which
a few more runs cover. A table of runs at a few volatilities (and shares) is interpolated: cubic along the price,
polynomial in the logarithm of the volatility and in the dividends' share.
"""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.market.view import NO_DELTA
from strell_core.pricing import american
from strell_core.pricing.black import FloatArray
from strell_core.pricing.implied import BELOW_INTRINSIC, NO_TIME_VALUE, OK, implied_volatility

STEPS, HALF = american.BULK
OUT_OF_THE_MONEY_VOLS = np.int64(5)
"""Volatilities of a table for options out of the money: their premiums are smooth in it."""
ALL_VOLS = np.int64(13)
"""Volatilities of a table for all strikes: in the money the premium bends where exercise begins."""
MOST_SPREAD = 16.0
"""Greatest to least volatility of a table; what lies outside is valued by itself."""


@njit(cache=True, nogil=True)
def log_nodes(low: float, high: float, count: int) -> FloatArray:
    """``count`` logarithms of volatilities from ``low`` to ``high``, evenly spread."""
    high = min(high, low * MOST_SPREAD)
    return np.linspace(math.log(low), math.log(max(high, low * 1.02)), count)


@njit(cache=True, nogil=True)
def scales(lowest: float, highest: float, dividends: int) -> FloatArray:
    """One over strikes from the highest to the lowest: by what dividends are multiplied to be shares of a strike."""
    if dividends == 0:
        return np.zeros(1)
    if highest < lowest * 1.001:
        return np.array([1.0 / lowest])
    if highest < lowest * 1.15:
        return np.array([1.0 / highest, 1.0 / lowest])
    return np.array([1.0 / highest, 1.0 / math.sqrt(lowest * highest), 1.0 / lowest])


@njit(cache=True, nogil=True)
def build(
    years: float, rate: float, carry: float, dividend_years: FloatArray, dividends: FloatArray, log_vols: FloatArray,
    scale: FloatArray, sign: int,
) -> FloatArray:  # fmt: skip
    """Premium over strike, ``(scales, vols, 2 HALF + 1)``, for dividends in points times each of ``scale``.

    The last axis is the price without its dividends over the strike, evenly spread in the logarithm over
    :data:`american.WIDTH` standard deviations of the volatility to either side of 1.
    """
    count = dividend_years.shape[0]
    out = np.empty((scale.shape[0], log_vols.shape[0], 2 * HALF + 1))
    worth = np.zeros(count + 1)
    for s in range(scale.shape[0]):
        paid = dividends * scale[s]
        for i in range(count - 1, -1, -1):
            worth[i] = worth[i + 1] + paid[i] * math.exp(-rate * dividend_years[i])
        for v in range(log_vols.shape[0]):
            _, value, plain = american.solve(
                1.0, years, rate, carry, dividend_years, paid, worth, 1.0, math.exp(log_vols[v]), sign, STEPS, HALF
            )
            out[s, v] = np.maximum(value - plain, 0.0)
    return out


@njit(cache=True, nogil=True)
def _along(row: FloatArray, place: float, sign: int) -> tuple[float, float]:
    """Value and slope at a fractional place of a row, by the cubic through its four neighbours. Beyond the end that
    is out of the money there is no premium; beyond the other one nothing is known (NaN)."""
    n = row.shape[0]
    if not 1.0 <= place <= n - 3.0:
        nothing = place < 1.0 if sign > 0 else place > n - 3.0
        return (0.0, 0.0) if nothing else (math.nan, math.nan)
    i = int(place)
    t = place - i
    a, b, c, d = row[i - 1], row[i], row[i + 1], row[i + 2]
    c1 = -a / 3.0 - b / 2.0 + c - d / 6.0
    c2 = 0.5 * (a - 2.0 * b + c)
    c3 = (d - a) / 6.0 + 0.5 * (b - c)
    return b + t * (c1 + t * (c2 + t * c3)), c1 + t * (2.0 * c2 + 3.0 * t * c3)


@njit(cache=True, nogil=True)
def _weights(nodes: FloatArray, x: float, out: FloatArray) -> None:
    """Lagrange weights of ``x`` on the four nodes around it (fewer where there are no more); others are 0."""
    n = nodes.shape[0]
    out[:] = 0.0
    width = min(4, n)
    first = 0
    while first + width < n and nodes[first + width // 2] < x:
        first += 1
    for i in range(first, first + width):
        w = 1.0
        for j in range(first, first + width):
            if j != i:
                w *= (x - nodes[j]) / (nodes[i] - nodes[j])
        out[i] = w


@njit(cache=True, nogil=True)
def premium(
    table: FloatArray, log_vols: FloatArray, scale: FloatArray, rest: float, years: float, strike: float, vol: float,
    sign: int,
) -> tuple[float, float]:  # fmt: skip
    """Premium for early exercise in points and its slope by the price; NaN where the table does not reach.

    ``rest`` is the price without the dividends to come.
    """
    x = math.log(vol)
    if not log_vols[0] - 1e-9 <= x <= log_vols[-1] + 1e-9:
        return math.nan, math.nan
    by_vol, by_scale = np.empty(log_vols.shape[0]), np.empty(scale.shape[0])
    _weights(log_vols, x, by_vol)
    _weights(scale, 1.0 / strike, by_scale)
    total, slope, root, away = 0.0, 0.0, math.sqrt(years), math.log(rest / strike)
    for v in range(log_vols.shape[0]):
        if by_vol[v] == 0.0:
            continue
        step = american.WIDTH * math.exp(log_vols[v]) * root / HALF
        place = away / step + HALF
        for s in range(scale.shape[0]):
            if by_scale[s] != 0.0:
                value, bend = _along(table[s, v], place, sign)
                total += by_vol[v] * by_scale[s] * value
                slope += by_vol[v] * by_scale[s] * bend / step
    return max(total, 0.0) * strike, slope * strike / rest


@njit(cache=True, nogil=True)
def volatility(
    price: float, rest: float, years: float, rate: float, carry: float, dividend_years: FloatArray,
    dividends: FloatArray, strike: float, sign: int, table: FloatArray, log_vols: FloatArray, scale: FloatArray,
) -> tuple[float, int]:  # fmt: skip
    """As :func:`american.american_volatility` with premiums from a table: what is left of the price without the
    premium is inverted as European until the volatility stays. What the table does not reach is found without it."""
    growth, discount = math.exp(carry * years), math.exp(-rate * years)
    forward = rest * growth
    certain = american.certain_value(rest, years, rate, carry, dividend_years, dividends, strike, sign)
    if certain > 0.0 and price <= certain + 1e-7 * strike:
        return 0.0, (NO_TIME_VALUE if price >= certain - 1e-7 * strike else BELOW_INTRINSIC)
    vol, status = implied_volatility(price / discount, forward, strike, years, sign)
    if status != OK or american.never_early(rate, carry, sign, dividend_years.shape[0]):
        return vol, status
    for _ in range(12):
        early, _ = premium(table, log_vols, scale, rest, years, strike, vol, sign)
        if math.isnan(early):
            break
        then, status = implied_volatility((price - early) / discount, forward, strike, years, sign)
        if status != OK:
            break
        if abs(then - vol) <= 1e-7:
            return then, OK
        vol = then
    return american.american_volatility(
        price, rest, years, rate, carry, dividend_years, dividends, strike, sign, STEPS, HALF, american.CLOSE
    )


@njit(cache=True, nogil=True)
def delta_grid(
    spot: float, forward: float, strike: FloatArray, years: float, iv: npt.NDArray[np.uint16], rate: float,
    dividend_years: FloatArray, dividends: FloatArray, sign: npt.NDArray[np.int64],
) -> npt.NDArray[np.int16]:  # fmt: skip
    """American deltas per point of the underlying in 0.0001 of one expiration at one instant from stored
    volatilities; ``NO_DELTA`` without one."""
    n = strike.shape[0]
    out = np.full(n, NO_DELTA, np.int16)
    rest = spot - american.worth_of(rate, dividend_years, dividends)
    if not forward > 0.0 or not rest > 0.0 or not years > 0.0 or not (iv > 0).any():
        return out
    carry = math.log(forward / rest) / years
    low, high, least, most = 65_535, 0, math.inf, 0.0
    for i in range(n):
        if iv[i] > 0:
            low, high = min(low, iv[i]), max(high, iv[i])
            least, most = min(least, strike[i]), max(most, strike[i])
    nodes = log_nodes(low * 1e-4, high * 1e-4, ALL_VOLS)
    scale = scales(least, most, dividends.shape[0])
    growth, discount = forward / rest, math.exp(-rate * years)
    for right in (1, -1):
        plain = american.never_early(rate, carry, right, dividends.shape[0])
        table = np.empty((0, 0, 0))
        if not plain:
            table = build(years, rate, carry, dividend_years, dividends, nodes, scale, right)
        for i in range(n):
            if sign[i] != right or iv[i] == 0:
                continue
            vol, k = iv[i] * 1e-4, strike[i]
            slope, _ = american.european_slopes(forward, k, vol * math.sqrt(years), discount, right, growth)
            early, bend = (0.0, 0.0) if plain else premium(table, nodes, scale, rest, years, k, vol, right)
            if not math.isnan(early):
                delta = slope + bend
            else:
                _, _, delta, _ = american.early_exercise(
                    rest, years, rate, carry, dividend_years, dividends, k, vol, right, STEPS, HALF
                )
            out[i] = round(min(1.0, max(-1.0, delta)) * 10_000.0)
    return out

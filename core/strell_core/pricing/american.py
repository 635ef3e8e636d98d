"""American options by finite differences on the forward's martingale part, with discrete dividends.

Model: the price is the present value of the dividends still to come until expiration plus a lognormal
part with the volatility of the forward, so that without early exercise it is Black-76 on the implied
forward (the "escrowed" dividend model; R. Roll, "An analytic valuation formula for unprotected
American call options on stocks with known dividends", Journal of Financial Economics 5 (1977)).
The carry of that part makes the model's forward the implied one.

Method: an implicit scheme in the logarithm of the martingale ``Z`` (``Z = 1`` now) whose steps end on the
dividend dates and grow away from expiration. Its generator keeps ``Z`` a martingale with the exact variance
rate; the free boundary is met within each step (M. Brennan and E. Schwartz, "The valuation of American put
options", Journal of Finance 32 (1977)); the step next to expiration is closed by Black-76. Only the premium
for early exercise, American less European on the same grid, is added to the closed European price, so that
errors of the grid mostly cancel.
"""

from __future__ import annotations

import math

import numpy as np
from numba import njit

from strell_core.pricing.black import INV_SQRT_2PI, FloatArray, black_price, normal_cdf
from strell_core.pricing.implied import BELOW_INTRINSIC, NO_CONVERGENCE, NO_TIME_VALUE, OK, implied_volatility

BULK = (np.int64(14), np.int64(50))
"""Time steps and price steps to either side, for whole chains."""
PRECISE = (np.int64(48), np.int64(120))
"""Where a single price matters."""
CLOSE = 1e-8
"""How near a volatility is found where a single one matters."""
WIDTH = 5.0
"""Standard deviations the grid reaches to either side."""


@njit(cache=True, nogil=True)
def never_early(rate: float, carry: float, sign: int, dividends: int) -> bool:
    """Whether it can never pay to exercise before expiration."""
    if sign > 0:
        return dividends == 0 and carry >= rate >= 0.0
    return dividends == 0 and carry <= rate <= 0.0


@njit(cache=True, nogil=True)
def certain_value(
    rest: float, years: float, rate: float, carry: float, dividend_years: FloatArray, dividends: FloatArray,
    strike: float, sign: int,
) -> float:  # fmt: skip
    """Value without volatility: the best instant to exercise when the price just grows with its carry."""
    count = dividend_years.shape[0]
    best, later, end = 0.0, 0.0, years
    turn = rate * strike / ((rate - carry) * rest) if rate != carry else 0.0
    for segment in range(count, -1, -1):
        begin = dividend_years[segment - 1] if segment > 0 else 0.0
        middle = math.log(turn) / carry if turn > 0.0 and carry != 0.0 else begin
        for now in (begin, end, min(max(middle, begin), end)):
            at = rest * math.exp((carry - rate) * now) + later - strike * math.exp(-rate * now)
            best = max(best, sign * at)
        if segment > 0:
            later += dividends[segment - 1] * math.exp(-rate * begin)
        end = begin
    return max(best, sign * (rest + later - strike))


@njit(cache=True, nogil=True)
def early_exercise(
    rest: float, years: float, rate: float, carry: float, dividend_years: FloatArray, dividends: FloatArray,
    strike: float, vol: float, sign: int, steps: int, half: int,
) -> tuple[float, float, float, float]:  # fmt: skip
    """Premium for early exercise, European value, and the American delta and gamma per point of the price.

    ``rest`` is the price without the dividends to come. Points and years throughout. The American value is
    the sum of the first two, never less than what exercising at once gives. ``steps`` in time and ``half``
    the grid's points to either side: :data:`BULK` or :data:`PRECISE`.
    """
    forward = rest * math.exp(carry * years)
    discount = math.exp(-rate * years)
    european = black_price(forward, strike, years, vol, discount, sign)
    count = dividend_years.shape[0]
    worth = np.zeros(count + 1)  # of the dividends from each one on, now
    for i in range(count - 1, -1, -1):
        worth[i] = worth[i + 1] + dividends[i] * math.exp(-rate * dividend_years[i])
    at_once = sign * (rest + worth[0] - strike)
    certain = certain_value(rest, years, rate, carry, dividend_years, dividends, strike, sign)
    spread = vol * math.sqrt(years) if years > 0.0 else 0.0
    if not spread > 1e-9:
        value = max(european, certain)
        return value - european, european, (1.0 * sign if value > 0.0 else 0.0), 0.0
    slope, bend = european_slopes(forward, strike, spread, discount, sign, forward / rest)
    if never_early(rate, carry, sign, count):
        return 0.0, european, slope, bend

    z, american, plain = solve(
        rest, years, rate, carry, dividend_years, dividends, worth, strike, vol, sign, steps, half
    )
    premium = max(american[half] - plain[half], 0.0, at_once - european)
    low, middle = american[half - 1] - plain[half - 1], american[half] - plain[half]
    high = american[half + 1] - plain[half + 1]
    h_up, h_down = rest * (z[half + 1] - 1.0), rest * (1.0 - z[half - 1])
    rises, falls = (high - middle) / h_up, (middle - low) / h_down
    if at_once - european >= premium > 0.0:
        return premium, european, 1.0 * sign, 0.0
    delta = slope + (rises * h_down + falls * h_up) / (h_up + h_down)
    return premium, european, delta, bend + 2.0 * (rises - falls) / (h_up + h_down)


@njit(cache=True, nogil=True)
def solve(
    rest: float, years: float, rate: float, carry: float, dividend_years: FloatArray, dividends: FloatArray,
    worth: FloatArray, strike: float, vol: float, sign: int, steps: int, half: int,
) -> tuple[FloatArray, FloatArray, FloatArray]:  # fmt: skip
    """The scheme itself: the price without its dividends as multiples of ``rest`` ``(2 half + 1,)``, evenly spread in
    the logarithm over :data:`WIDTH` standard deviations to either side, and American and European value at each.

    ``worth`` is what the dividends from each one on are worth now, ``(dividends + 1,)``.
    """
    count = dividend_years.shape[0]
    forward, discount = rest * math.exp(carry * years), math.exp(-rate * years)
    dx = WIDTH * vol * math.sqrt(years) / half
    width = 2 * half + 1
    up = math.exp(dx)
    z = np.empty(width)
    z[half] = 1.0
    for j in range(half):
        z[half + j + 1] = z[half + j] * up
        z[half - j - 1] = z[half - j] / up
    intensity = vol * vol * up / math.expm1(dx) ** 2
    ups, downs = intensity / (1.0 + up), intensity * up / (1.0 + up)
    american, plain = np.empty(width), np.empty(width)
    space = np.empty((3, width))

    end = years
    for segment in range(count, -1, -1):
        begin = dividend_years[segment - 1] if segment > 0 else 0.0
        n = max(3, int(math.ceil(steps * math.sqrt((end - begin) / years))))
        gone = 0.0
        for step in range(n):
            to = (end - begin) * ((step + 1) / n) ** 2
            dt, gone = to - gone, to
            now = end - gone
            a, k = rest * math.exp((carry - rate) * now), strike * math.exp(-rate * now) - worth[segment]
            if segment == count and step == 0:
                _last_step(american, plain, z, forward, strike, dt, vol, discount, sign, a, k)
                continue
            share = 1.0 if step < 2 else 0.5
            for edge in (0, width - 1):
                plain[edge] = max(0.0, sign * discount * (forward * z[edge] - strike))
                american[edge] = max(plain[edge], sign * (a * z[edge] - k))
            if sign < 0:
                _implicit_step(american, plain, space, z, ups, downs, dt, share, -a, -k)
            else:  # the mirrored grid: exercise lies at its low end again
                _implicit_step(
                    american[::-1], plain[::-1], space, z[::-1], downs, ups, dt, share, a, k
                )  # fmt: skip
        if segment > 0 and sign > 0:  # a call is exercised just before a dividend, a put just after
            a, k = rest * math.exp((carry - rate) * begin), strike * math.exp(-rate * begin) - worth[segment - 1]
            for j in range(width):
                american[j] = max(american[j], a * z[j] - k)
        end = begin
    return z, american, plain


@njit(cache=True, nogil=True)
def european_slopes(
    forward: float, strike: float, spread: float, discount: float, sign: int, growth: float
) -> tuple[float, float]:  # fmt: skip
    """Delta and gamma of the European part per point of the price; ``growth`` is forward over price."""
    d1 = math.log(forward / strike) / spread + 0.5 * spread
    density = INV_SQRT_2PI * math.exp(-0.5 * d1 * d1)
    return discount * sign * normal_cdf(sign * d1) * growth, discount * density / (forward * spread) * growth * growth


@njit(cache=True, nogil=True)
def _last_step(
    american: FloatArray, plain: FloatArray, z: FloatArray, forward: float, strike: float, dt: float, vol: float,
    discount: float, sign: int, a: float, k: float,
) -> None:  # fmt: skip
    near = 6.5 * vol * math.sqrt(dt)
    for j in range(z.shape[0]):
        if abs(math.log(forward * z[j] / strike)) > near:
            plain[j] = max(0.0, sign * discount * (forward * z[j] - strike))
        else:
            plain[j] = black_price(forward * z[j], strike, dt, vol, discount, sign)
        american[j] = max(plain[j], sign * (a * z[j] - k))


@njit(cache=True, nogil=True)
def _implicit_step(
    american: FloatArray, plain: FloatArray, space: FloatArray, z: FloatArray, ups: float, downs: float,
    dt: float, share: float, a: float, k: float,
) -> None:  # fmt: skip
    """One step back in time, ``share`` of it implicit; exercise gives ``a z - k`` and lies at the low end."""
    width = z.shape[0]
    later = (1.0 - share) * dt
    soon = share * dt
    both = ups + downs
    low, high, middle = -soon * downs, -soon * ups, 1.0 + soon * both
    wanted, european, inverse = space[0], space[1], space[2]
    for j in range(1, width - 1):
        wanted[j] = american[j] + later * (ups * american[j + 1] + downs * american[j - 1] - both * american[j])
        european[j] = plain[j] + later * (ups * plain[j + 1] + downs * plain[j - 1] - both * plain[j])
    inverse[width - 2] = 1.0 / middle
    wanted[width - 2] -= high * american[width - 1]
    european[width - 2] -= high * plain[width - 1]
    for j in range(width - 3, 0, -1):
        m = high * inverse[j + 1]
        inverse[j] = 1.0 / (middle - m * low)
        wanted[j] -= m * wanted[j + 1]
        european[j] -= m * european[j + 1]
    for j in range(1, width - 1):
        american[j] = max((wanted[j] - low * american[j - 1]) * inverse[j], a * z[j] - k)
        plain[j] = (european[j] - low * plain[j - 1]) * inverse[j]


@njit(cache=True, nogil=True)
def american_volatility(
    price: float, rest: float, years: float, rate: float, carry: float, dividend_years: FloatArray,
    dividends: FloatArray, strike: float, sign: int, steps: int, half: int, close: float,
) -> tuple[float, int]:  # fmt: skip
    """Volatility at which the American value is ``price`` (points) to within ``close``, with a status of
    :mod:`implied`.

    What exercising at once gives has no volatility (``NO_TIME_VALUE``), less is ``BELOW_INTRINSIC``. The
    premium for early exercise moves little with volatility, so what is left of the price is inverted as
    European and the premium found again there; where that does not settle, a bracketed secant does.
    """
    growth, discount = math.exp(carry * years), math.exp(-rate * years)
    forward = rest * growth
    certain = certain_value(rest, years, rate, carry, dividend_years, dividends, strike, sign)
    tolerance = 1e-7 * strike
    if certain > 0.0 and price <= certain + tolerance:
        return 0.0, (NO_TIME_VALUE if price >= certain - tolerance else BELOW_INTRINSIC)
    vol, status = implied_volatility(price / discount, forward, strike, years, sign)
    if status != OK or never_early(rate, carry, sign, dividend_years.shape[0]):
        return vol, status
    # a European option of this volatility is cheaper than the American one: the answer lies below
    top, top_miss, bottom, bottom_miss = vol, math.inf, 0.0, certain - price
    for step in range(60):
        premium, european, _, _ = early_exercise(
            rest, years, rate, carry, dividend_years, dividends, strike, vol, sign, steps, half
        )
        miss = premium + european - price
        next_vol, status = implied_volatility((price - premium) / discount, forward, strike, years, sign)
        if abs(miss) <= 0.2 * close * strike or (status == OK and abs(next_vol - vol) <= close):
            return vol, OK
        if miss > 0.0:
            bottom_miss *= 0.5 if top_miss != math.inf and step > 2 else 1.0
            top, top_miss = vol, miss
        else:
            top_miss *= 0.5 if step > 2 else 1.0
            bottom, bottom_miss = vol, miss
        if top - bottom <= 0.1 * close:
            return 0.5 * (top + bottom), OK
        # the premium hardly moves with volatility as a rule; where it does, the bracket is narrowed (Illinois)
        if step > 2 or status != OK or not bottom < next_vol < top:
            next_vol = bottom + (top - bottom) * min(0.99, max(0.01, -bottom_miss / (top_miss - bottom_miss)))
        vol = next_vol
    return vol, NO_CONVERGENCE


@njit(cache=True, nogil=True)
def worth_of(rate: float, dividend_years: FloatArray, dividends: FloatArray) -> float:
    """Present value of dividends, points."""
    return float(np.sum(dividends * np.exp(-rate * dividend_years)))


@njit(cache=True, nogil=True)
def values(
    spot: FloatArray, strike: float, years: float, vol: FloatArray, rate: float, carry: float,
    dividend_years: FloatArray, dividends: FloatArray, sign: int,
) -> FloatArray:  # fmt: skip
    """American values over underlying prices and volatilities ``(n,)``, points; ``carry`` is that of the price
    without the dividends to come. A price that its dividends use up leaves what exercising gives."""
    worth = worth_of(rate, dividend_years, dividends)
    out = np.empty(spot.shape[0])
    for i in range(spot.shape[0]):
        rest = spot[i] - worth
        if not rest > 0.0:
            out[i] = max(0.0, sign * (spot[i] - strike))
            continue
        premium, european, _, _ = early_exercise(
            rest, years, rate, carry, dividend_years, dividends, strike, vol[i], sign, BULK[0], BULK[1]
        )
        out[i] = premium + european
    return out


@njit(cache=True, nogil=True)
def greeks(
    spot: float, forward: float, strike: float, years: float, vol: float, rate: float, dividend_years: FloatArray,
    dividends: FloatArray, sign: int, steps: int, half: int,
) -> FloatArray:  # fmt: skip
    """The Greeks of :data:`black.GREEKS`, ``(7,)``, delta and gamma per point of the underlying; rho holds the
    forward. The carry beside the dividends is the one that leads to the forward. NaN where the dividends use
    up the price."""
    rest = spot - worth_of(rate, dividend_years, dividends)
    if not rest > 0.0:
        return np.full(7, np.nan)
    carry = math.log(forward / rest) / years
    day = min(1.0 / 365.0, 0.5 * years)
    when, paid = dividend_years, dividends
    premium, european, delta, gamma = early_exercise(
        rest, years, rate, carry, when, paid, strike, vol, sign, steps, half
    )
    value = premium + european
    left = when - day
    ahead = left > 0.0
    later = spot - worth_of(rate, left[ahead], paid[ahead])
    p, e, sooner, _ = early_exercise(
        later, years - day, rate, carry, left[ahead], paid[ahead], strike, vol, sign, steps, half
    )
    scale = (1.0 / 365.0) / day
    theta, charm = (p + e - value) * scale, (sooner - delta) * scale
    bump = min(0.005, 0.5 * vol)
    p, e, up, _ = early_exercise(rest, years, rate, carry, when, paid, strike, vol + bump, sign, steps, half)
    q, f, down, _ = early_exercise(rest, years, rate, carry, when, paid, strike, vol - bump, sign, steps, half)
    vega, vanna = (p + e - q - f) * 0.005 / bump, (up - down) * 0.005 / bump
    p, e, _, _ = early_exercise(rest, years, rate + 0.005, carry, when, paid, strike, vol, sign, steps, half)
    q, f, _, _ = early_exercise(rest, years, rate - 0.005, carry, when, paid, strike, vol, sign, steps, half)
    return np.array([delta, gamma, theta, vega, p + e - q - f, vanna, charm])

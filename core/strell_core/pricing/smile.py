"""One smooth volatility curve per expiration, free of arbitrage, and what it says about prices to come.

Curve: the raw SVI form of total variance over ``k = ln K/F``, w(k) = a + b(ρ(k - m) + √((k - m)² + s²)). A curve
has no butterfly arbitrage where Durrleman's function g(k) is not negative, two have no calendar arbitrage where
the later one's variance is nowhere below the earlier one's. Source: J. Gatheral and A. Jacquier, "Arbitrage-free
SVI volatility surfaces", Quantitative Finance 14 (2014), equations 3.1, 2.1 and lemma 2.1.

Fit: least squares (MINPACK, by SciPy) of volatilities of out-of-the-money quotes, each in units of half its
spread, large misses counted linearly, so that one bad quote does not bend the curve. A quote without a bid only
says that the option is worth no more than its ask. Both kinds of arbitrage are kept out on a grid that reaches
beyond the quotes. Expirations are fitted from the nearest on.
"""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numba import njit
from scipy.special import ndtr

from strell_core.market.view import ChainView, ExpirationSlice
from strell_core.pricing import american
from strell_core.pricing.black import INV_SQRT_2PI, YEAR_SECONDS, FloatArray, normal_cdf, price_many, years_between
from strell_core.pricing.implied import implied_many

FEWEST = 5
"""Quotes with a volatility that a curve of five numbers needs."""
_LEAST_WIDTH = 5e-4
"""Half spreads in volatility are counted as no smaller than this."""
_GRID = 61
_REACH = 1.0
"""Standard deviations beyond the outermost quotes within which the curves are promised to be free of arbitrage."""
_PENALTY = 300.0
_ROOM = 1e-3
"""Kept to either limit of arbitrage while fitting, so that the result lies on the safe side."""


@njit(cache=True, nogil=True)
def _variance(k: float, p: FloatArray) -> tuple[float, float, float]:
    """w, w' and w'' at ``k`` of the curve ``(a, b, rho, m, s)``."""
    a, b, rho, m, s = p[0], p[1], p[2], p[3], p[4]
    away = k - m
    root = math.sqrt(away * away + s * s)
    return a + b * (rho * away + root), b * (rho + away / root), b * s * s / (root * root * root)


@njit(cache=True, nogil=True)
def _durrleman(k: float, p: FloatArray) -> float:
    w, first, second = _variance(k, p)
    if not w > 0.0:
        return -1.0
    return (1.0 - 0.5 * k * first / w) ** 2 - 0.25 * first * first * (1.0 / w + 0.25) + 0.5 * second


@njit(cache=True, nogil=True)
def _opened(x: FloatArray, scale: float) -> FloatArray:
    """Curve from the free numbers of the fit: any ``x`` gives a positive, bounded curve."""
    root = math.sqrt(scale)
    floor, b, rho = math.exp(x[0]) * scale, math.exp(x[1]) * root, math.tanh(x[2])
    s = math.exp(x[4]) * root
    return np.array([floor - b * s * math.sqrt(1.0 - rho * rho), b, rho, x[3] * root, s])


def _closed(smile: Smile) -> tuple[float, ...]:
    """The free numbers of a fitted curve: where the fit of the next expiration starts."""
    scale = float(smile.total_variance(smile.forward))
    root = math.sqrt(scale)
    floor = smile.a + smile.b * smile.s * math.sqrt(1.0 - smile.rho * smile.rho)
    least = 1e-6
    return (
        math.log(max(floor / scale, least)), math.log(max(smile.b / root, least)),
        math.atanh(min(0.9999, max(-0.9999, smile.rho))), smile.m / root, math.log(max(smile.s / root, least)),
    )  # fmt: skip


@njit(cache=True, nogil=True)
def _misses(
    x: FloatArray, scale: float, years: float, k: FloatArray, vol: FloatArray, width: FloatArray, capped: FloatArray,
    grid: FloatArray, before: FloatArray,
) -> FloatArray:  # fmt: skip
    """What least squares makes small: quotes, then both arbitrages on ``grid``."""
    p = _opened(x, scale)
    n, g = k.shape[0], grid.shape[0]
    out = np.zeros(n + 2 * g + 5)
    for i in range(n):
        w, _, _ = _variance(k[i], p)
        miss = (math.sqrt(max(w, 1e-12) / years) - vol[i]) / width[i]
        if capped[i] > 0.0:
            miss = max(0.0, miss)
        # soft_l1: quadratic while small, linear beyond
        out[i] = math.copysign(math.sqrt(2.0 * (math.sqrt(1.0 + miss * miss) - 1.0)), miss)
    for j in range(g):
        out[n + j] = _PENALTY * max(0.0, _ROOM - _durrleman(grid[j], p))
        if before[j] > 0.0:
            w, _, _ = _variance(grid[j], p)
            out[n + g + j] = _PENALTY * max(0.0, (before[j] - w) / scale + _ROOM)
    # keeps numbers that the quotes do not determine from wandering off
    for i in range(5):
        out[n + 2 * g + i] = 0.02 * x[i]
    return out


@dataclass(frozen=True)
class Fit:
    """How well a curve meets its quotes."""

    quotes: int
    """Valid quotes of both rights."""
    inside: int
    """Of them, those whose value by the curve lies between bid and ask."""
    typical: float
    """Root mean square distance to the volatilities of the quotes, volatility points; NaN: none."""
    worst: float
    worst_strike: float
    butterfly: float
    """Smallest g(k) on the grid; below 0 there is arbitrage between strikes."""
    calendar: float
    """Smallest surplus of total variance over the expiration before, as a share; NaN for the first."""


@dataclass(frozen=True)
class Smile:
    """The fitted curve of one expiration. ``years`` and ``rate`` as everywhere, ``forward`` in points."""

    expiration: dt.date
    settlement_at: int
    years: float
    forward: float
    rate: float
    a: float
    b: float
    rho: float
    m: float
    s: float
    quoted: tuple[float, float]
    """Lowest and highest strike with a volatility: beyond them the curve is only continued."""
    fit: Fit
    dividend_years: tuple[float, ...] = ()
    """Until each dividend before the expiration, of underlyings whose options are American."""
    dividends: tuple[float, ...] = ()

    def _curve(self) -> FloatArray:
        return np.array([self.a, self.b, self.rho, self.m, self.s])

    def total_variance(self, strike: FloatArray | float) -> FloatArray:
        """w at each strike, without unit."""
        away = np.log(np.asarray(strike, float) / self.forward) - self.m
        return np.asarray(self.a + self.b * (self.rho * away + np.sqrt(away * away + self.s * self.s)))

    def vol(self, strike: FloatArray | float) -> FloatArray:
        """Volatility a year at each strike."""
        return np.asarray(np.sqrt(np.maximum(self.total_variance(strike), 1e-12) / self.years))

    def chance_below(self, level: FloatArray | float) -> FloatArray:
        """Risk-neutral probability that the expiration settles below each level.

        The derivative of the put's undiscounted price by its strike (D. Breeden and R. Litzenberger, "Prices of
        state-contingent claims implicit in option prices", Journal of Business 51 (1978)): N(-d₂) + n(d₂)·∂√w/∂k.
        """
        level = np.maximum(np.asarray(level, float), 1e-9)
        k = np.log(level / self.forward)
        away = k - self.m
        root = np.sqrt(away * away + self.s * self.s)
        spread = np.sqrt(np.maximum(self.a + self.b * (self.rho * away + root), 1e-12))
        d2 = -k / spread - 0.5 * spread
        slope = self.b * (self.rho + away / root) / (2.0 * spread)
        return np.asarray(np.clip(ndtr(-d2) + INV_SQRT_2PI * np.exp(-0.5 * d2 * d2) * slope, 0.0, 1.0))

    def chance_in_the_money(self, strike: float, sign: int) -> float:
        """Probability that a call (``sign`` 1) or put (-1) ends in the money."""
        below = float(self.chance_below(strike))
        return 1.0 - below if sign > 0 else below

    def chance_of_touch(self, level: float, spot: float) -> float:
        """Probability that the price reaches ``level`` before the expiration settles.

        Reflection principle for a lognormal price with the curve's volatility at ``level`` and the forward's
        drift (J. M. Harrison, Brownian Motion and Stochastic Flow Systems (1985), section 1.8). Approximate
        where the curve is steep: one volatility stands for the whole way.
        """
        spread = float(np.sqrt(np.maximum(self.total_variance(level), 1e-12)))
        way = math.log(level / spot)
        if way == 0.0:
            return 1.0
        drift = math.log(self.forward / spot) - 0.5 * spread * spread
        up = 1.0 if way > 0 else -1.0
        ends = normal_cdf((up * drift - up * way) / spread)
        power = 2.0 * drift * way / (spread * spread)
        returns = math.exp(power) * normal_cdf((-up * drift - up * way) / spread) if power < 700.0 else 0.0
        return float(min(1.0, ends + returns))

    def strike_of_delta(self, delta: float, sign: int) -> float:
        """Strike at which a call (``sign`` 1) or put has the undiscounted forward ``delta`` (0 to 1, without
        sign), by bisection on the curve."""
        low, high = math.log(1e-3), math.log(1e3)
        for _ in range(80):
            k = 0.5 * (low + high)
            w = max(float(self.total_variance(self.forward * math.exp(k))), 1e-12)
            found = normal_cdf(sign * (-k / math.sqrt(w) + 0.5 * math.sqrt(w)))
            if (found > delta) == (sign > 0):
                low = k
            else:
                high = k
        return self.forward * math.exp(0.5 * (low + high))

    def values(self, strike: FloatArray, sign: FloatArray, spot: float, is_american: bool) -> FloatArray:
        """What the curve says calls (1) and puts (-1) are worth, points, ``(n,)``."""
        strike, vol = np.asarray(strike, float), self.vol(strike)
        sign = np.asarray(sign, np.int64)
        n = len(strike)
        if not is_american:
            return np.asarray(
                price_many(np.full(n, self.forward), strike, np.full(n, self.years), vol, self.rate, sign)
            )
        when, paid = np.array(self.dividend_years, float), np.array(self.dividends, float)
        rest = spot - american.worth_of(self.rate, when, paid)
        if not rest > 0:
            return np.full(n, math.nan)
        carry = math.log(self.forward / rest) / self.years
        at = np.array([spot])
        return np.array(
            [
                float(
                    american.values(
                        at, strike[i], self.years, vol[i : i + 1], self.rate, carry, when, paid, int(sign[i])
                    )[0]
                )
                for i in range(n)
            ]
        )


def reach(smile: Smile, points: int = _GRID, beyond: float = _REACH) -> FloatArray:
    """Strikes ``(points,)`` over which the curve is promised to be free of arbitrage: the quoted ones and
    ``beyond`` standard deviations more on either side."""
    pad = beyond * math.sqrt(max(1e-12, float(smile.total_variance(smile.forward))))
    low, high = math.log(smile.quoted[0] / smile.forward) - pad, math.log(smile.quoted[1] / smile.forward) + pad
    return np.asarray(smile.forward * np.exp(np.linspace(low, high, points)))


def butterfly_room(smile: Smile, strikes: FloatArray) -> float:
    """Smallest g(k) at ``strikes``: negative where a butterfly would cost less than nothing."""
    return min(_durrleman(math.log(k / smile.forward), smile._curve()) for k in strikes)


def calendar_room(before: Smile, smile: Smile, moneyness: FloatArray) -> float:
    """Smallest surplus of ``smile``'s total variance over that of an earlier expiration, as a share of its own
    at the money, at ``moneyness`` K/F."""
    surplus = smile.total_variance(smile.forward * moneyness) - before.total_variance(before.forward * moneyness)
    return float(np.min(surplus) / float(smile.total_variance(smile.forward)))


@dataclass(frozen=True)
class _Quotes:
    """What the fit sees: log moneyness, volatility, half width; ``capped`` 1 where only the ask counts."""

    k: FloatArray
    vol: FloatArray
    width: FloatArray
    capped: FloatArray


def _out_of_the_money(
    calls: ExpirationSlice, puts: ExpirationSlice, years: float, rate: float, quantum: float
) -> _Quotes | None:
    """Volatilities of the side of each strike that has no intrinsic value."""
    forward = calls.forward
    high = calls.strikes >= forward
    bid = np.where(high, calls.bid, puts.bid).astype(float)
    ask = np.where(high, calls.ask, puts.ask).astype(float)
    iv = np.where(high, calls.iv, puts.iv) / 10_000.0
    valid = (bid >= 0) & (ask > 0) & (bid <= ask)
    strikes = calls.strikes
    sign = np.where(high, 1, -1).astype(np.int64)
    scale = quantum * math.exp(rate * years)
    n = len(strikes)

    def implied(price: FloatArray) -> FloatArray:
        found, _ = implied_many(price * scale, np.full(n, forward), strikes, np.full(n, years), sign)
        return np.asarray(found)

    top, bottom, mid = implied(ask), implied(bid), implied(0.5 * (bid + ask))
    width = np.where(np.isfinite(bottom), 0.5 * (top - bottom), top - mid)
    known = valid & (bid > 0) & (iv > 0) & np.isfinite(top) & np.isfinite(mid)
    capped = valid & (bid == 0) & np.isfinite(top)
    if int(known.sum()) < FEWEST:
        return None
    used = known | capped
    return _Quotes(
        np.log(strikes[used] / forward), np.where(known, iv, top)[used],
        np.maximum(_LEAST_WIDTH, np.where(known, width, 0.05 * top))[used], capped[used].astype(float),
    )  # fmt: skip


_STARTS = ((-1.5, -1.2, -0.4, 0.0, -0.5), (-1.5, -1.2, 0.0, 0.0, 0.0), (-0.7, -0.5, -0.9, 0.5, -1.5))
_ENOUGH = 0.6
"""A start whose quotes miss by less than this many half spreads on average is not tried to be bettered."""


def fit_smile(
    calls: ExpirationSlice, puts: ExpirationSlice, now: int, spot: float, rate: float, quantum: float,
    before: Smile | None = None, is_american: bool = False, dividends: tuple[FloatArray, FloatArray] | None = None,
) -> Smile | None:  # fmt: skip
    """The curve of one expiration, ``None`` without a forward or with fewer than five usable quotes.

    Prices are in quanta, ``spot`` in points, ``now`` epoch seconds; ``before`` is the curve of the expiration
    before. Volatilities of American options are those of their early-exercise model; ``dividends`` are seconds
    until each and points.
    """
    years = years_between(now, calls.settlement_at)
    if not (years > 0 and math.isfinite(calls.forward) and calls.forward > 0):
        return None
    quotes = _out_of_the_money(calls, puts, years, rate, quantum)
    if quotes is None:
        return None
    from scipy.optimize import least_squares  # large, and not needed to start

    forward = calls.forward
    known = quotes.capped == 0
    at_the_money = float(quotes.vol[known][np.argmin(np.abs(quotes.k[known]))])
    scale = at_the_money * at_the_money * years
    pad = 1.3 * _REACH * math.sqrt(scale)
    grid = np.linspace(float(quotes.k[known].min()) - pad, float(quotes.k[known].max()) + pad, _GRID)
    earlier = np.zeros(_GRID) if before is None else before.total_variance(before.forward * np.exp(grid))
    best = None
    starts = _STARTS if before is None else (_closed(before), *_STARTS)
    for start in starts:
        found = least_squares(
            _misses, np.array(start), method="lm", xtol=1e-5, ftol=1e-6, max_nfev=400,
            args=(scale, years, quotes.k, quotes.vol, quotes.width, quotes.capped, grid, earlier),
        )  # fmt: skip
        if best is None or found.cost < best.cost:
            best = found
        if math.sqrt(2 * best.cost / len(quotes.k)) < _ENOUGH:
            break
    assert best is not None
    strikes = forward * np.exp(quotes.k[known])
    empty = Fit(0, 0, math.nan, math.nan, math.nan, math.nan, math.nan)
    a, b, rho, m, s = _opened(best.x, scale).tolist()
    smile = Smile(
        calls.expiration, calls.settlement_at, years, forward, rate, a, b, rho, m, s,
        (float(strikes.min()), float(strikes.max())), empty, *_ahead(dividends),
    )  # fmt: skip
    if before is not None:
        # what little the penalty left: a curve lifted as a whole stays free of butterfly arbitrage
        wider = reach(smile, 6 * _GRID, 1.05 * _REACH)
        lack = float(np.max(before.total_variance(before.forward * wider / forward) - smile.total_variance(wider)))
        smile = replace(smile, a=smile.a + max(0.0, lack * (1.0 + 1e-6)))
    miss = np.abs(smile.vol(strikes) - quotes.vol[known]) * 100.0
    own = reach(smile, 6 * _GRID)
    total, inside = _repriced(smile, calls, puts, spot, quantum, is_american)
    worst = int(np.argmax(miss))
    return replace(
        smile,
        fit=Fit(
            total, inside, float(np.sqrt(np.mean(miss * miss))), float(miss[worst]), float(strikes[worst]),
            butterfly_room(smile, own),
            math.nan if before is None else calendar_room(before, smile, own / forward),
        ),
    )  # fmt: skip


def _ahead(dividends: tuple[FloatArray, FloatArray] | None) -> tuple[tuple[float, ...], tuple[float, ...]]:
    if dividends is None:
        return (), ()
    return tuple((dividends[0] / YEAR_SECONDS).tolist()), tuple(dividends[1].tolist())


def _repriced(
    smile: Smile, calls: ExpirationSlice, puts: ExpirationSlice, spot: float, quantum: float, is_american: bool
) -> tuple[int, int]:
    """Valid quotes, and those of them between whose bid and ask the curve's value lies."""
    total = inside = 0
    for side, sign in ((calls, 1), (puts, -1)):
        valid = side.valid
        strikes = side.strikes[valid]
        value = smile.values(strikes, np.full(len(strikes), sign), spot, is_american)
        total += len(strikes)
        within = (value >= side.bid[valid] * quantum - 1e-9) & (value <= side.ask[valid] * quantum + 1e-9)
        inside += int(within.sum())
    return total, inside


def smile_at(view: ChainView, expiration: dt.date, before: Smile | None = None) -> Smile | None:
    """The curve of one expiration of a chain, as :func:`fit_smile`."""
    terms = view.underlying
    calls, puts = view.slice(expiration, "call"), view.slice(expiration, "put")
    return fit_smile(
        calls, puts, view.instant, view.spot / 100, view.interest(expiration), float(terms.quantum), before, terms.american,
        view.dividends(calls.settlement_at),
    )  # fmt: skip


def smiles(view: ChainView) -> list[Smile]:
    """Curves of all expirations of a chain that have enough quotes, nearest first."""
    found: list[Smile] = []
    for expiration in view.expirations:
        smile = smile_at(view, expiration, found[-1] if found else None)
        if smile is not None:
            found.append(smile)
    return found


def constant_maturity(curves: Sequence[Smile], days: float, moneyness: float = 1.0) -> float | None:
    """Volatility a year at ``moneyness`` K/F for a term between listed expirations, ``None`` outside them.

    Total variance is linear in time between the two expirations around it: the interpolation that makes no
    calendar arbitrage (Gatheral and Jacquier, lemma 5.1 at a fixed moneyness).
    """
    years = days / 365.0
    known = [(c.years, float(c.total_variance(c.forward * moneyness))) for c in curves]
    for (t0, w0), (t1, w1) in zip(known, known[1:], strict=False):
        if t0 <= years <= t1:
            w = w0 + (w1 - w0) * (years - t0) / (t1 - t0)
            return math.sqrt(w / years)
    return None

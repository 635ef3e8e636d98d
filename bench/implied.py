"""Implied volatility: ours, a vectorised numpy/scipy version, QuantLib in a loop, lets_be_rational."""

from __future__ import annotations

import math

import numpy as np
import QuantLib as ql
from py_lets_be_rational import implied_volatility_from_a_transformed_rational_guess as rational
from scipy.special import erfcx

from bench.timing import median_seconds, table
from strell_core.pricing.implied import implied_many, normalised_black

N = 200_000
CHUNK = 8_000


def problem() -> tuple[np.ndarray, ...]:
    """Out-of-the-money prices as a chain has them: strikes within two standard deviations and some beyond."""
    rng = np.random.default_rng(5)
    years = rng.choice([1 / 8760 * 6, 2 / 365, 9 / 365, 30 / 365, 0.25, 1.0], N)
    vol = rng.uniform(0.06, 0.6, N)
    x = np.clip(rng.normal(0, 1.6, N) * vol * np.sqrt(years), -1, 1)
    beta = np.array([normalised_black(-abs(a), s) for a, s in zip(x, vol * np.sqrt(years), strict=True)])
    keep = beta > 1e-12
    x, years, vol, beta = x[keep], years[keep], vol[keep], beta[keep]
    forward, strike = np.full(len(x), 3100.0), 3100.0 * np.exp(x)
    sign = np.where(x >= 0, 1, -1).astype(np.int64)
    return beta * np.sqrt(forward * strike), forward, strike, years, sign, vol


H = np.exp(np.linspace(-30, 3.6, 8000))
Y = -np.log(
    np.maximum(
        np.exp(-0.5 * H * H) / math.sqrt(2 * math.pi) * (1 / H - math.sqrt(math.pi / 2) * erfcx(H / math.sqrt(2))),
        1e-300,
    )
)


def vectorised(price: np.ndarray, forward: np.ndarray, strike: np.ndarray, years: np.ndarray) -> np.ndarray:
    """The same idea with whole arrays: a normal-volatility seed from a table, three Halley steps on ln b."""
    out = np.empty(len(price))
    for begin in range(0, len(price), CHUNK):
        part = slice(begin, begin + CHUNK)
        f, k, t = forward[part], strike[part], years[part]
        x = np.minimum(-np.abs(np.log(f / k)), -1e-12)
        beta = price[part] / np.sqrt(f * k)
        distance = 2 * np.sinh(-x / 2)
        h = np.exp(np.interp(np.log(distance / beta), Y, np.log(H)))
        s = -x / h
        s *= 1 + np.minimum(s * s / 24, 0.5)
        target = np.log(beta)
        for _ in range(3):
            h, half = x / s, s / 2
            density = np.exp(-0.5 * (h * h + half * half))
            b = 0.5 * density * (erfcx(-(h + half) / math.sqrt(2)) - erfcx(-(h - half) / math.sqrt(2)))
            b = np.maximum(b, 1e-300)
            f0, f1 = np.log(b) - target, density / math.sqrt(2 * math.pi) / b
            f2 = f1 * (h * h / s - s / 4) - f1 * f1
            s = np.clip(s - f0 / f1 / (1 - 0.5 * f0 * f2 / (f1 * f1)), 0.5 * s, 2 * s)
        out[part] = s / np.sqrt(t)
    return out


def quantlib(
    price: np.ndarray, forward: np.ndarray, strike: np.ndarray, years: np.ndarray, sign: np.ndarray
) -> list[float]:
    out = []
    for p, f, k, t, s in zip(
        price.tolist(), forward.tolist(), strike.tolist(), years.tolist(), sign.tolist(), strict=True
    ):
        kind = ql.Option.Call if s > 0 else ql.Option.Put
        out.append(ql.blackFormulaImpliedStdDev(kind, k, f, p) / math.sqrt(t))
    return out


def run() -> None:
    price, forward, strike, years, sign, vol = problem()
    n = len(price)
    few = slice(0, 20_000)
    fewer = slice(0, 3_000)

    def error(found: np.ndarray, of: slice = slice(None)) -> str:
        return f"{np.abs(np.asarray(found) - vol[of]).max():.0e}"

    ours = n / median_seconds(lambda: implied_many(price, forward, strike, years, sign))
    numpy = n / median_seconds(lambda: vectorised(price, forward, strike, years))
    loop = 20_000 / median_seconds(lambda: quantlib(price[few], forward[few], strike[few], years[few], sign[few]), 3)
    rows = list(
        zip(
            price[fewer].tolist(),
            forward[fewer].tolist(),
            strike[fewer].tolist(),
            years[fewer].tolist(),
            sign[fewer].tolist(),
            strict=True,
        )
    )
    python = 3_000 / median_seconds(lambda: [rational(p, f, k, t, float(s)) for p, f, k, t, s in rows], 3)
    found = implied_many(price, forward, strike, years, sign)[0]
    table(
        f"Implied volatility, {n} out-of-the-money prices, one core",
        ("method", "million IV a second", "ours is faster by", "largest error in volatility"),
        [
            ("Strell", f"{ours / 1e6:.2f}", "", error(found)),
            ("numpy/scipy, whole arrays", f"{numpy / 1e6:.2f}", f"{ours / numpy:.1f}", error(vectorised(price, forward, strike, years))),
            ("QuantLib in a loop", f"{loop / 1e6:.3f}", f"{ours / loop:.1f}", error(quantlib(price[few], forward[few], strike[few], years[few], sign[few]), few)),
            ("lets_be_rational (pure Python)", f"{python / 1e6:.3f}", f"{ours / python:.0f}", error([rational(p, f, k, t, float(s)) for p, f, k, t, s in rows], fewer)),
        ],
    )  # fmt: skip

"""An arbitrage-free smile and term structure for the generator.

Surface SSVI: w(k, θ) = θ/2 · (1 + ρφk + √((φk + ρ)² + 1 - ρ²)) with φ(θ) = η θ^-γ (1 + θ)^(γ-1).
Source: J. Gatheral and A. Jacquier, "Arbitrage-free SVI volatility surfaces", Quantitative Finance
14 (2014), section 4: no butterfly arbitrage while η(1 + |ρ|) ≤ 2, no calendar arbitrage while θ
grows with time. Both are tested on the surfaces generated here.
"""

from __future__ import annotations

import math

from numba import njit

GAMMA = 0.42
ETA = 1.05
REVERSION = 3.2
LONG_RUN = 0.029


@njit(cache=True, nogil=True)
def at_the_money_variance(years: float, variance: float) -> float:
    """Total variance θ to ``years`` when the instantaneous variance is ``variance``: the integral
    of a variance that reverts to its long-run level, hence increasing in time."""
    if years <= 0.0:
        return 0.0
    weight = (1.0 - math.exp(-REVERSION * years)) / REVERSION
    return LONG_RUN * years + (variance * 1.06 - LONG_RUN) * weight


@njit(cache=True, nogil=True)
def skew(variance: float) -> float:
    """ρ at an instant: steeper when volatility is high."""
    return -0.42 - 0.30 * min(1.0, math.sqrt(variance) / 0.45)


@njit(cache=True, nogil=True)
def total_variance(log_moneyness: float, theta: float, rho: float) -> float:
    """w(k, θ) of the surface; ``log_moneyness`` is ln K/F."""
    phi = ETA / (theta**GAMMA * (1.0 + theta) ** (1.0 - GAMMA))
    shifted = phi * log_moneyness + rho
    return 0.5 * theta * (1.0 + rho * phi * log_moneyness + math.sqrt(shifted * shifted + 1.0 - rho * rho))

"""Capital that a set of options ties up, by one plain rule until the margin rules are here.

The worst result at the nearest expiration with the underlying anywhere within 15 % of its price, or
the whole loss where the structure is defined. The range is a house rule in the spirit of risk-array
margins (common practice), not an exchange's figure.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from strell_core.pricing.payoff import PayoffLeg, profit, spot_grid

RANGE = 0.15


def capital(legs: Sequence[PayoffLeg], spot: float, base: int) -> float:
    """Points times contracts, never negative. ``legs`` with what they were opened for, ``spot`` in
    points, ``base`` epoch second."""
    if not legs:
        return 0.0
    nearest = min(leg.settlement for leg in legs)
    kinks = [float(leg.strike) for leg in legs if (1 - RANGE) * spot <= leg.strike <= (1 + RANGE) * spot]
    grid = spot_grid(legs, spot)
    inside = grid[np.abs(grid / spot - 1) <= RANGE]
    points = np.unique(np.concatenate([inside, kinks, [(1 - RANGE) * spot, (1 + RANGE) * spot]]))
    return max(0.0, -float(profit(legs, points, spot, base, nearest).min()))

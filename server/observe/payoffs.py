"""Payoff of legs at an instant of a timeline, as plain data for a chart."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

import numpy as np

from strell_core.market.timeline import Timeline
from strell_core.pricing import american
from strell_core.pricing.black import GREEKS, YEAR_SECONDS, greeks_many, years_between
from strell_core.pricing.held import Holding, payoff_leg, smile_of
from strell_core.pricing.payoff import (
    PayoffLeg,
    PayoffSummary,
    nearest_settlement,
    profit,
    spot_grid,
    summary,
)
from strell_core.pricing.smile import Smile


def greeks(timeline: Timeline, index: int, holding: Holding) -> dict[str, float | None]:
    """Greeks of one contract (not times quantity); ``None`` without IV. The underlying itself has a delta of 1, a single
    unit its share of that."""
    if holding.contract.is_unit:
        return {**dict.fromkeys(GREEKS, 0.0), "delta": 1.0 / holding.contract.divisor, "iv": None}
    view = timeline.view(index)
    quote, forward = view.quote(holding.contract), view.forward(holding.contract.expiration)
    if quote.iv is None or not math.isfinite(forward):
        return dict.fromkeys((*GREEKS, "iv"), None)
    years = years_between(int(timeline.times[index]), timeline.cubes[holding.contract.expiration].settlement_at)
    sign = 1 if holding.contract.right == "call" else -1
    if view.underlying.american and years > 0 and view.spot > 0:
        seconds, paid = view.dividends(timeline.cubes[holding.contract.expiration].settlement_at)
        found = american.greeks(
            view.spot / 100,
            forward,
            float(holding.contract.strike),
            years,
            quote.iv / 10_000,
            view.interest(holding.contract.expiration),
            seconds / YEAR_SECONDS,
            paid,
            sign,
            *american.PRECISE,
        )
        return {**dict(zip(GREEKS, found.tolist(), strict=True)), "iv": quote.iv / 100}
    values = greeks_many(
        np.array([forward]), np.array([float(holding.contract.strike)]), np.array([years]),
        np.array([quote.iv / 10_000]), view.interest(holding.contract.expiration),
        np.array([sign], np.int64),
    )[:, 0]  # fmt: skip
    return {**dict(zip(GREEKS, values.tolist(), strict=True)), "iv": quote.iv / 100}


def payoff(
    timeline: Timeline, index: int, holdings: Sequence[Holding], realised: float = 0.0, at: int | None = None
) -> dict[str, Any]:
    """Curves now (or at epoch second ``at``) and at the nearest expiration in money, with the
    figures that belong to them. ``realised`` (money) is added to every value."""
    scale = timeline.view(index).underlying.multiplier
    base = int(timeline.times[index])
    legs = [payoff_leg(timeline, index, holding) for holding in holdings]
    smile = smile_of(timeline, index, nearest_settlement(legs, base))
    return payoff_of(legs, base, float(timeline.spot[index]) / 100, scale, smile, realised, at)


def payoff_of(
    legs: Sequence[PayoffLeg], base: int, spot: float, scale: int, smile: Smile | None, realised: float, at: int | None
) -> dict[str, Any]:
    """The same of legs that are valued already: at epoch second ``base``, with the curve of their nearest
    expiration."""
    nearest = nearest_settlement(legs, base)
    when = min(max(base, at if at is not None else base), nearest)
    grid = spot_grid(legs, spot)
    facts = summary(legs, spot, base, smile, realised / scale)
    return {
        "spot": spot, "grid": grid.round(2).tolist(), "base": base, "at": when, "nearest": nearest,
        "now": (profit(legs, grid, spot, base, when) * scale + realised).round(2).tolist(),
        "expiration": (profit(legs, grid, spot, base, nearest) * scale + realised).round(2).tolist(),
        **figures(facts, scale),
    }  # fmt: skip


def figures(facts: PayoffSummary, scale: int) -> dict[str, Any]:
    """What belongs to a payoff, in money: ``scale`` is the multiplier."""

    def worth(value: float | None) -> float | None:
        return None if value is None else round(value * scale, 2)

    return {
        "break_evens": [round(value, 2) for value in facts.break_evens],
        "max_profit": worth(facts.max_profit.value), "max_loss": worth(facts.max_loss.value),
        "found": facts.max_loss.found, "chance_of_profit": facts.chance_of_profit,
        "chance_from": facts.chance_from, "expected": worth(facts.expected),
    }  # fmt: skip


def glyph(holdings: Sequence[Holding], spot: float) -> dict[str, Any]:
    """What the leg glyph draws: legs with expiration, strike, right, quantity, and the price's place."""
    legs = [
        {
            "expiration": h.contract.expiration.isoformat(), "strike": 0 if h.contract.is_unit else h.contract.strike,
            "right": h.contract.right, "contracts": h.contracts,
        }
        for h in holdings
    ]  # fmt: skip
    return {"legs": legs, "spot": spot}

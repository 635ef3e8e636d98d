"""Shapes that several pages share: payoff, Greeks, the leg glyph."""

import datetime as dt
from typing import Literal

from ninja import Schema
from pydantic import Field

from config.schemas import Asked

MOST_LEGS = 24


class FoundContract(Schema):
    """A listed contract with its last recorded quote."""

    symbol: str
    contract: str
    label: str
    expiration: dt.date
    bid: float | None
    ask: float | None


class GlyphLeg(Schema):
    expiration: str
    strike: float
    right: str
    contracts: int


class GlyphOut(Schema):
    legs: list[GlyphLeg]
    spot: float


class GreeksOut(Schema):
    """Of one contract, or of a position in money; ``None`` where a volatility is missing."""

    delta: float | None
    gamma: float | None
    theta: float | None
    vega: float | None
    rho: float | None = None
    vanna: float | None = None
    charm: float | None = None


class PayoffFigures(Schema):
    """What belongs to a payoff, in money, at the nearest expiration."""

    break_evens: list[float]
    max_profit: float | None
    max_loss: float | None
    found: str
    chance_of_profit: float | None
    chance_from: Literal["smile", "lognormal"]
    """Which distribution the chance rests on."""
    expected: float | None
    """P/L to be expected at the nearest expiration under the distribution the quotes imply."""


class PayoffOut(PayoffFigures):
    """Curves in money over ``grid`` (points of the underlying), and what belongs to them."""

    spot: float
    grid: list[float]
    base: int
    at: int
    nearest: int
    now: list[float]
    expiration: list[float]


class ExpirationOut(Schema):
    date: str
    days: int


class SideOut(Schema):
    contract: str
    held: int
    bid: float | None
    ask: float | None
    delta: float | None
    iv: float | None
    value: float | None = None
    """What the expiration's fitted curve says it is worth, points."""
    open_interest: int | None = None
    ends_in: float | None = None
    """Chance to end in the money, 0 to 1."""
    touches: float | None = None
    """Chance that the price reaches the strike before."""
    told: dict[str, float | None] = {}
    """What the file or the exchange told beside: last price, sizes, volume, delivered volatility and Greeks."""


class StrikeOut(Schema):
    strike: float
    vol: float | None = None
    """Volatility by the fitted curve, percent."""
    call: SideOut
    put: SideOut


class ChainOut(Schema):
    expiration: str | None
    days: int | None = None
    forward: float | None
    rows: list[StrikeOut]
    expirations: list[ExpirationOut]
    told: list[str] = []
    """What is known beside the quotes of any contract of the session."""


class StepsOut(Schema):
    """Exchange-local instants a step or a session away; ``None`` where there is nothing."""

    step_back: str | None
    step: str | None
    session_back: str | None
    session: str | None


class AheadOut(Schema):
    """Something known beforehand."""

    date: dt.date
    what: str


class InstantOut(Schema):
    """A market at an instant."""

    symbol: str
    name: str
    currency: str
    multiplier: int
    american: bool
    at: int
    local: str
    shown: str
    zone: str | None
    zone_name: str
    spot: float
    is_live: bool
    has_live: bool
    neighbours: StepsOut
    ahead: list[AheadOut]
    """Events and dividends of the weeks after it, the nearest first."""


class VolatilityCurveOut(Schema):
    """A fitted curve of volatility; volatilities in percent."""

    forward: float
    at_the_money: float
    put_25: float
    call_25: float
    quotes: int
    inside: int
    typical: float
    worst: float
    worst_strike: float
    free_of_arbitrage: bool
    line: list[list[float]]
    """Strike and volatility."""
    marks: list[list[float]]


class FittedOut(Schema):
    date: str
    days: int
    curve: VolatilityCurveOut | None


class TermOut(Schema):
    days: int
    vol: float


class SurfaceOut(InstantOut):
    expirations: list[FittedOut]
    terms: list[TermOut]


class WhatIfLegIn(Asked):
    contract: str | None = None
    """``None``: the underlying, as many units as one option delivers."""
    contracts: float = Field(ge=-100_000, le=100_000)
    opened: float | None = Field(None, ge=0, le=10_000_000)


class WhatIfIn(Asked):
    at: str | None = None
    legs: list[WhatIfLegIn] = Field(max_length=MOST_LEGS)
    price: float | None = Field(None, gt=0)
    when: int | None = None
    vol: float = Field(0.0, ge=-100, le=200)
    by_expiration: dict[dt.date, float] = {}
    moving: bool = False
    """Volatilities move along their expiration's curve with the price (sticky moneyness); else they stay with
    their strikes (sticky strike)."""
    greek: Literal["delta", "gamma", "theta", "vega", "rho", "vanna", "charm"] | None = None


class WhatIfLegOut(Schema):
    contract: str | None
    expiration: dt.date | None
    label: str
    contracts: float
    opened: float
    iv: float | None
    premium: float


class GreekCurveOut(Schema):
    name: str
    values: list[float]


class ProfitSurfaceOut(Schema):
    """P/L ``profit[date][price]``, money."""

    dates: list[int]
    prices: list[float]
    profit: list[list[float]]


class WhatIfOut(InstantOut, PayoffFigures):
    legs: list[WhatIfLegOut]
    when: int
    nearest: int
    last: int
    grid: list[float]
    now: list[float]
    then: list[float]
    at_expiration: list[float]
    then_break_evens: list[float]
    price: float
    then_here: float
    premium: float
    greeks: GreeksOut
    greeks_then: GreeksOut
    greek: GreekCurveOut | None
    surface: ProfitSurfaceOut
    capital: float | None
    capital_for: str
    glyph: GlyphOut

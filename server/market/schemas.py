"""Shapes that several pages share: payoff, Greeks, the leg glyph."""

from ninja import Schema


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


class PayoffOut(Schema):
    """Curves in money over ``grid`` (points of the underlying), and what belongs to them."""

    spot: float
    grid: list[float]
    base: int
    at: int
    nearest: int
    now: list[float]
    expiration: list[float]
    break_evens: list[float]
    max_profit: float | None
    max_loss: float | None
    found: str
    chance_of_profit: float | None


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


class StrikeOut(Schema):
    strike: float
    call: SideOut
    put: SideOut


class ChainOut(Schema):
    expiration: str | None
    days: int | None = None
    forward: float | None
    rows: list[StrikeOut]
    expirations: list[ExpirationOut]

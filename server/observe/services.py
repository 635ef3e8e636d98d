"""A market at an instant, recorded or now: curves of volatility, the chain beside them, what if."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from config.errors import Refused
from market.models import Dividend, LiveChain, MarketEvent, Split
from market.timelines import instant_of, timeline
from observe.beside import beside, beside_now
from observe.chain_table import chain_table
from observe.payoffs import figures, glyph
from strell_core.margin.strategy_based import Leg, capital, requirement, share_of
from strell_core.market import splits
from strell_core.market.instruments import ContractKey, Underlying
from strell_core.market.timeline import Timeline
from strell_core.pricing.held import Holding, payoff_leg, smile_of
from strell_core.pricing.payoff import (
    PayoffLeg,
    crossings,
    greek_curves,
    nearest_settlement,
    profit,
    shifted,
    spot_grid,
    summary,
    underlying_leg,
)
from strell_core.pricing.smile import Smile, constant_maturity, reach, smile_at, smiles
from venue.live import live

NOW = "now"
TERMS = (7, 14, 30, 60, 90, 180, 365)
"""Days of the constant maturities that are shown, where expirations lie around them."""
AHEAD = dt.timedelta(days=60)
CURVE_POINTS = 61
SURFACE_DATES, SURFACE_PRICES = 6, 15


@dataclass(frozen=True)
class Instant:
    history: Timeline
    index: int
    live: bool

    @property
    def terms(self) -> Underlying:
        """Terms as they held at the instant."""
        return self.history.view(self.index).underlying

    @property
    def spot(self) -> float:
        return float(self.history.spot[self.index]) / 100

    @property
    def at(self) -> int:
        return int(self.history.times[self.index])


def instant(symbol: str, at: str | None) -> Instant:
    """``at`` is exchange-local like ``2026-11-04T15:45``, ``now`` for the market as last published, and the last
    recorded snapshot without one. Raises :class:`Refused` where there is nothing."""
    if at == NOW:
        return Instant(live(symbol).timeline, 0, True)
    history = timeline(symbol)
    return Instant(history, instant_of(history, at), False)


def head(symbol: str, here: Instant) -> dict[str, Any]:
    """Where one stands, and where the neighbouring snapshots and sessions are."""
    history = here.history
    local = history.calendar.local(here.at)
    steps: dict[str, str | None] = dict.fromkeys(("step_back", "step", "session_back", "session"))
    if not here.live:
        session = int(history.session_of[here.index])
        targets = {
            "step_back": here.index - 1, "step": here.index + 1,
            "session_back": int(history.first[session]) - 1,
            "session": int(history.first[session + 2]) - 1 if session + 2 < len(history.first) else len(history.times),
        }  # fmt: skip
        for name, target in targets.items():
            if 0 <= target < len(history.times):
                steps[name] = history.calendar.local(int(history.times[target])).strftime("%Y-%m-%dT%H:%M")
    return {
        "symbol": symbol, "name": here.terms.name, "currency": here.terms.currency,
        "multiplier": here.terms.multiplier, "american": here.terms.american,
        "at": here.at, "local": local.strftime("%Y-%m-%dT%H:%M"), "shown": local.strftime("%a %-d %b %Y %H:%M"),
        "zone": local.tzname(), "zone_name": history.calendar.tz.key, "spot": here.spot, "is_live": here.live, "has_live": LiveChain.objects.filter(underlying__symbol=symbol).exists(),
        "neighbours": steps, "ahead": _ahead(symbol, local.date()),
    }  # fmt: skip


def _ahead(symbol: str, today: dt.date) -> list[dict[str, Any]]:
    """What is known to come: reports and other events, dividends."""
    until = today + AHEAD
    events = MarketEvent.objects.filter(underlying__symbol=symbol, date__gte=today, date__lte=until)
    found = [{"date": e.date, "what": e.event} for e in events]
    paid = Dividend.objects.filter(underlying__symbol=symbol, date__gt=today, date__lte=until)
    found += [{"date": d.date, "what": f"dividend {float(d.amount):g}"} for d in paid]
    split = Split.objects.filter(underlying__symbol=symbol, date__gt=today, date__lte=until)
    found += [{"date": s.date, "what": f"split {splits.Split(s.date, s.ratio).words}"} for s in split]
    return sorted(found, key=lambda one: one["date"])


def surface(symbol: str, at: str | None) -> dict[str, Any]:
    """The fitted curve of every expiration, how well it fits, and volatilities of constant maturities."""
    here = instant(symbol, at)
    history = here.history
    view = history.view(here.index)
    today = history.calendar.local(here.at).date()
    found = smiles(view)
    fitted = {smile.expiration: smile for smile in found}
    rows = []
    for expiration in view.expirations:
        smile = fitted.get(expiration)
        row: dict[str, Any] = {"date": expiration.isoformat(), "days": (expiration - today).days, "curve": None}
        if smile is not None:
            row["curve"] = _curve(history, here.index, smile)
        rows.append(row)
    constant = [(days, constant_maturity(found, days)) for days in TERMS]
    return {
        **head(symbol, here), "expirations": rows,
        "terms": [{"days": days, "vol": round(100 * vol, 3)} for days, vol in constant if vol is not None],
    }  # fmt: skip


def _curve(history: Timeline, index: int, smile: Smile) -> dict[str, Any]:
    strikes = reach(smile, CURVE_POINTS, 0.3)
    view = history.view(index)
    marks = []
    calls, puts = view.slice(smile.expiration, "call"), view.slice(smile.expiration, "put")
    for i, strike in enumerate(calls.strikes.tolist()):
        side = calls if strike >= smile.forward else puts
        if side.iv[i] and side.bid[i] > 0 and bool(side.valid[i]):
            marks.append([strike, round(int(side.iv[i]) / 100, 2)])
    low, high = (smile.strike_of_delta(0.25, sign) for sign in (-1, 1))
    fit = smile.fit
    return {
        "forward": round(smile.forward, 2), "at_the_money": _points(smile.vol(smile.forward)),
        "put_25": _points(smile.vol(low)), "call_25": _points(smile.vol(high)),
        "quotes": fit.quotes, "inside": fit.inside, "typical": round(fit.typical, 3), "worst": round(fit.worst, 2),
        "worst_strike": round(fit.worst_strike, 3), "free_of_arbitrage": fit.butterfly >= 0.0 and not fit.calendar < -1e-9,
        "line": [[round(k, 2), _points(v)] for k, v in zip(strikes.tolist(), smile.vol(strikes), strict=True)],
        "marks": marks,
    }  # fmt: skip


def _points(vol: Any) -> float:
    return round(100 * float(vol), 3)


def chain(symbol: str, at: str | None, expiration: str | None, each_side: int) -> dict[str, Any]:
    """One expiration's chain with what its curve says: values, also where no quote is, and chances."""
    here = instant(symbol, at)
    history, terms = here.history, here.terms
    table = chain_table(history, here.index, {}, expiration, each_side)
    if not table["rows"]:
        return table
    told = beside_now(symbol) if here.live else beside(symbol, history.calendar.local(here.at).date())
    table["told"] = told.names
    for row in table["rows"]:
        for name in ("call", "put"):
            row[name]["told"] = told.of(ContractKey.parse(row[name]["contract"]), here.at)
    view, date = history.view(here.index), dt.date.fromisoformat(table["expiration"])
    smile = smile_at(view, date)
    if smile is None:
        return table
    strikes = np.array([row["strike"] for row in table["rows"]], float)
    for name, sign in (("call", 1), ("put", -1)):
        values = smile.values(strikes, np.full(len(strikes), sign), here.spot, terms.american)
        for row, strike, value in zip(table["rows"], strikes.tolist(), values.tolist(), strict=True):
            row[name]["value"] = round(value, 3)
            row[name]["ends_in"] = round(smile.chance_in_the_money(strike, sign), 4)
            row[name]["touches"] = round(smile.chance_of_touch(strike, here.spot), 4)
    for row, strike in zip(table["rows"], strikes.tolist(), strict=True):
        row["vol"] = _points(smile.vol(strike))
    return table


@dataclass(frozen=True)
class Held:
    """One leg asked about; ``contract`` ``None`` is the underlying, ``contracts`` then counts as many units as one
    option delivers. Without ``opened`` (points) it is opened at the mid."""

    contract: str | None
    contracts: float
    opened: float | None


@dataclass(frozen=True)
class Pull:
    """Where price (points), date (epoch seconds) and volatilities (points) are pulled; ``None``: left alone."""

    price: float | None
    when: int | None
    vol: float
    by_expiration: dict[dt.date, float]
    greek: str | None
    moving: bool = False
    """Whether volatilities move along their expiration's curve with the price, or stay with their strikes."""


def what_if(symbol: str, at: str | None, legs: Sequence[Held], pull: Pull) -> dict[str, Any]:
    """P/L of a structure by price, date and volatility, its Greeks along the price, what may come of it."""
    here = instant(symbol, at)
    history, index = here.history, here.index
    scale, base, spot = here.terms.multiplier, here.at, here.spot
    if not legs:
        raise Refused("Without a leg there is nothing to value. Add one from the chain.")
    priced = [_priced(here, leg) for leg in legs]
    made = [leg for _, leg in priced]
    nearest = nearest_settlement(made, base)
    last = max((leg.settlement for leg in made if leg.sign != 0), default=base)
    when = min(max(base, pull.when if pull.when is not None else base), last)
    settles = {date: cube.settlement_at for date, cube in history.cubes.items()}
    moved = shifted(
        made, pull.vol / 100, {settles[d]: by / 100 for d, by in pull.by_expiration.items() if d in settles}
    )
    if pull.moving:
        moved = _along_curves(here, priced, moved)
    facts = summary(made, spot, base, smile_of(history, index, nearest))
    price = spot if pull.price is None else pull.price
    grid = spot_grid(made, spot, 61 if here.terms.american else 161)
    pulled = profit(moved, grid, spot, base, when)
    greeks_now = greek_curves(made, np.array([spot]), spot, base, base)
    greeks_then = greek_curves(moved, np.array([price]), spot, base, when)
    out: dict[str, Any] = {
        **head(symbol, here),
        "legs": [_leg_out(symbol, held, leg, scale) for held, leg in priced],
        "when": when, "nearest": nearest, "last": last, "grid": grid.round(2).tolist(),
        "now": _money(profit(made, grid, spot, base, base), scale), "then": _money(pulled, scale),
        "at_expiration": _money(profit(made, grid, spot, base, nearest), scale),
        "then_break_evens": [round(x, 2) for x in crossings(grid, pulled)],
        "price": round(price, 2), "then_here": round(float(profit(moved, np.array([price]), spot, base, when)[0]) * scale, 2),
        "premium": round(-sum(leg.contracts * leg.opened for leg in made if leg.sign != 0) * scale, 2),
        "greeks": {name: round(float(value[0]) * scale, 6) for name, value in greeks_now.items()},
        "greeks_then": {name: round(float(value[0]) * scale, 6) for name, value in greeks_then.items()},
        "greek": None, "surface": _surface(moved, here, spot, base, nearest, last, scale),
        **_capital(here, priced, spot, scale), **figures(facts, scale),
        "glyph": glyph([Holding(ContractKey.parse(h.contract, symbol), round(h.contracts), 0.0) for h, _ in priced if h.contract and round(h.contracts)], spot),
    }  # fmt: skip
    if pull.greek is not None:
        curve = greek_curves(moved, grid, spot, base, when)[pull.greek]
        out["greek"] = {"name": pull.greek, "values": (curve * scale).round(6).tolist()}
    return out


def _along_curves(
    here: Instant, priced: Sequence[tuple[Held, PayoffLeg]], moved: Sequence[PayoffLeg]
) -> list[PayoffLeg]:
    """The legs with their expirations' curves, along which their volatilities move."""
    view = here.history.view(here.index)
    known: dict[dt.date, Smile | None] = {}
    out = []
    for (held, _), leg in zip(priced, moved, strict=True):
        if held.contract is not None:
            date = ContractKey.parse(held.contract, view.underlying.symbol).expiration
            if date not in known:
                known[date] = smile_at(view, date)
            leg = replace(leg, curve=known[date])
        out.append(leg)
    return out


def _priced(here: Instant, held: Held) -> tuple[Held, PayoffLeg]:
    history = here.history
    if held.contract is None:
        return held, underlying_leg(held.contracts, here.spot if held.opened is None else held.opened)
    try:
        key = ContractKey.parse(held.contract, history.underlying.symbol)
    except ValueError as error:
        raise Refused(f"{error}.", [{"path": "legs", "message": str(error)}]) from error
    cube = history.cubes.get(key.expiration)
    if cube is None or not cube.start <= here.index < cube.end or cube.row(key.right, key.strike) is None:
        raise Refused(
            f"{key.label} is not listed at this instant. Take the leg off, or choose another instant.",
            [{"path": "legs", "message": f"{held.contract} is not listed"}],
        )
    quote = history.view(here.index).quote(key)
    opened = held.opened
    if opened is None:
        if not quote.valid:
            raise Refused(f"{key.label} has no quote at this instant; give the price it is opened at.")
        opened = 0.5 * (quote.bid + quote.ask) * float(here.terms.quantum)
    leg = payoff_leg(history, here.index, Holding(key, 1, opened))
    return held, PayoffLeg(
        held.contracts,
        leg.sign,
        leg.strike,
        leg.settlement,
        leg.vol,
        leg.forward,
        opened,
        leg.american,
        leg.rate,
        leg.dividends,
    )


def _leg_out(symbol: str, held: Held, leg: PayoffLeg, scale: int) -> dict[str, Any]:
    key = None if held.contract is None else ContractKey.parse(held.contract, symbol)
    return {
        "contract": None if key is None else key.code, "expiration": None if key is None else key.expiration,
        "label": "the underlying" if key is None else key.label, "contracts": held.contracts, "opened": round(leg.opened, 4),
        "iv": round(100 * leg.vol, 2) if math.isfinite(leg.vol) else None,
        "premium": round(-leg.contracts * leg.opened * scale, 2),
    }  # fmt: skip


def _money(values: Any, scale: int) -> list[float]:
    return (np.asarray(values) * scale).round(2).tolist()


def _surface(
    legs: Sequence[PayoffLeg], here: Instant, spot: float, base: int, nearest: int, last: int, scale: int
) -> dict[str, Any]:
    """P/L on a grid of dates and prices: from the instant to the nearest expiration, and to the last one."""
    dates = sorted({*np.linspace(base, nearest, SURFACE_DATES).astype(int).tolist(), last})
    grid = spot_grid(legs, spot)
    prices = np.unique(np.append(np.linspace(grid[0], grid[-1], SURFACE_PRICES - 1), spot))
    return {
        "dates": dates, "prices": prices.round(2).tolist(),
        "profit": [_money(profit(legs, prices, spot, base, at), scale) for at in dates],
    }  # fmt: skip


def _capital(here: Instant, priced: Sequence[tuple[Held, PayoffLeg]], spot: float, scale: int) -> dict[str, Any]:
    """Capital by the strategy-based rules; ``None`` where legs are not whole contracts or the underlying is short."""
    units = sum(leg.contracts for _, leg in priced if leg.sign == 0)
    whole = all(float(leg.contracts).is_integer() for _, leg in priced)
    if not whole or units < 0:
        return {"capital": None, "capital_for": "whole contracts and no short underlying are needed to say"}
    legs = [
        Leg(int(leg.contracts), leg.sign, float(leg.strike), leg.settlement, leg.opened)
        for _, leg in priced
        if leg.sign != 0
    ]
    share = share_of(here.terms.kind)
    parts = requirement(legs, spot, share, int(units)).parts
    words = max(parts, key=lambda part: part.amount).words if parts else ""
    return {"capital": round(capital(legs, spot, share, int(units)) * scale, 2), "capital_for": words}

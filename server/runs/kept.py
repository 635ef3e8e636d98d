"""A trade as its page shows it, stored with its run: what data is corrected or taken out later does not move it."""

from __future__ import annotations

import datetime as dt
import json
import math
from dataclasses import astuple
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
import zstandard

from observe.payoffs import glyph, greeks, payoff_of
from strell_core.engine.plan import Plan
from strell_core.engine.state import ClosedTrade, LegClose
from strell_core.market.chains import shuffled, unshuffled
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS, shown_price
from strell_core.market.timeline import Timeline
from strell_core.market.view import ChainView, ExpirationSlice
from strell_core.pricing.held import Holding, payoff_leg
from strell_core.pricing.payoff import PayoffLeg, nearest_settlement
from strell_core.pricing.smile import Smile, fit_smile
from strell_core.results.causes import CAUSES, Causes
from strell_core.results.equity import trade_path

VERSION = 3
"""2: with P/L by cause and each leg's volatility over time; 3: with its history."""
PATH_POINTS = 1200
_ARRAYS = {"at": "<i8", "spot": "<i4", "pnl": "<i8"}


def leg_facts(history: Timeline, trade: ClosedTrade) -> list[dict[str, Any]]:
    """Its legs with their quotes and Greeks at both ends."""
    multiplier = history.view(history.at_or_before(trade.opened_at)).underlying.multiplier
    return [_leg_facts(history, leg, trade, multiplier) for leg in trade.legs]


def keep(
    plan: Plan, history: Timeline, trade: ClosedTrade, told: list[dict[str, Any]], why: Causes,
    events: list[dict[str, Any]] | None = None,
) -> bytes:  # fmt: skip
    """Everything a trade's page needs beside its row, compressed; ``told``: its legs as :func:`leg_facts` gives them; ``events``:
    its history as :func:`runs.trade_history.history_of` does."""
    entry = history.at_or_before(trade.opened_at)
    view, quantum = history.view(entry), history.underlying.quantum
    first = [leg for leg in trade.legs if not leg.opened_at]  # not those that took another's place
    holdings = [
        Holding(leg.contract, leg.contracts, shown_price(leg.contract, leg.opened_parts, quantum)) for leg in first
    ]
    legs = [payoff_leg(history, entry, holding) for holding in holdings]
    path = trade_path(history, trade)
    rows = np.unique(np.linspace(0, len(path.pnl) - 1, min(len(path.pnl), PATH_POINTS)).round().astype(int))
    arrays = {
        "at": history.times[path.begin + rows], "spot": history.spot[path.begin + rows], "pnl": path.pnl[rows],
        **{f"leg{number}": mids for number, mids in enumerate(path.legs[:, rows])},
        **{f"cause{number}": np.round(100 * summed) for number, summed in enumerate(why.course[:, rows])},
        **{f"vol{number}": np.nan_to_num(np.round(10_000 * vol)) for number, vol in enumerate(why.vols[:, rows])},
    }  # fmt: skip
    facts = {
        "version": VERSION, "currency": view.underlying.currency, "quantum": float(quantum), "zone": history.calendar.tz.key,
        "multiplier": view.underlying.multiplier, "glyph": glyph(holdings, view.spot / 100), "base": view.instant,
        "spot": view.spot / 100, "nearest": min((history.settles_at(leg.contract) for leg in trade.legs if not leg.contract.is_unit), default=view.instant),
        "when": next((e.entry.schedule.id for e in plan.entries if e.id == trade.entry), ""),
        "legs": told,
        "payoff": [[None if value != value else value for value in astuple(leg)[:10]] for leg in legs],
        "curve": _curve_inputs(view, nearest_settlement(legs, view.instant)),
        "points": len(rows), "events": events,
        "causes": {"legs": why.legs.round(2).tolist(), "dealing": why.dealing.round(2).tolist(), "costs": round(why.costs, 2)},
    }  # fmt: skip
    body = json.dumps(facts, separators=(",", ":")).encode()
    packed = [shuffled(np.asarray(values).astype(_ARRAYS.get(name, "<i8"))) for name, values in arrays.items()]
    return zstandard.ZstdCompressor(level=3).compress(b"".join([len(body).to_bytes(4, "little"), body, *packed]))


def _leg_facts(history: Timeline, leg: LegClose, trade: ClosedTrade, multiplier: int) -> dict[str, Any]:
    """A leg with its quotes and Greeks when it was opened, with its trade or later in another's place, and when it was
    closed."""
    entry, leaving = history.at_or_before(leg.opened_at or trade.opened_at), history.at_or_before(leg.closed_at)
    quantum = float(history.underlying.quantum)
    holding = Holding(leg.contract, leg.contracts, 0.0)
    side = {}
    for name, index in (("entry", entry), ("exit", leaving)):
        quote = history.view(index).quote(leg.contract)
        has = quote.valid
        side[name] = {
            "bid": round(quote.bid * quantum, 2) if has else None,
            "ask": round(quote.ask * quantum, 2) if has else None, **greeks(history, index, holding),
        }  # fmt: skip
    opened, closed = (
        shown_price(leg.contract, parts, history.underlying.quantum) for parts in (leg.opened_parts, leg.closed_parts)
    )
    return {
        "label": leg.contract.label + _came(history, leg, trade), "contract": leg.contract.code, "contracts": leg.contracts,
        "opened": round(opened, 4), "closed": round(closed, 4), "how": leg.how, "since": leg.opened_at or trade.opened_at, "until": leg.closed_at,
        "opened_shown": _at(history, leg.opened_at or trade.opened_at), "closed_shown": _at(history, leg.closed_at),
        "pnl": round(leg.contracts * (closed - opened) * multiplier / leg.contract.divisor, 2), **side,
    }  # fmt: skip


def _at(history: Timeline, at: int) -> str:
    return history.calendar.local(at).strftime("%-d %b %Y %H:%M")


def _came(history: Timeline, leg: LegClose, trade: ClosedTrade) -> str:
    """When an option came that was not there from the first, told beside its name."""
    if not leg.opened_at or leg.contract.is_unit:
        return ""
    at, first = history.calendar.local(leg.opened_at), history.calendar.local(trade.opened_at)
    return f", from {at:%-d %b}" if at.date() != first.date() else f", from {at:%H:%M}"


def _curve_inputs(view: ChainView, settlement: int) -> dict[str, Any] | None:
    """What the curve of the nearest expiration is fitted to, when somebody looks."""
    for date in view.listed(settlement):
        calls, puts = view.slice(date, "call"), view.slice(date, "put")
        if (calls.ask > 0).any() or (puts.ask > 0).any():
            seconds, paid = view.dividends(settlement)
            return {
                "expiration": date.isoformat(), "settlement": settlement, "rate": view.interest(date),
                "american": view.underlying.american, "forward": calls.forward if math.isfinite(calls.forward) else None,
                "strikes": calls.strikes.tolist(), "dividends": [seconds.tolist(), paid.tolist()],
                "quotes": [[s.bid.tolist(), s.ask.tolist(), s.iv.tolist(), s.delta.tolist()] for s in (calls, puts)],
            }  # fmt: skip
    return None


def _curve(facts: dict[str, Any]) -> Smile | None:
    given = facts["curve"]
    if given is None:
        return None
    date, strikes = dt.date.fromisoformat(given["expiration"]), np.array(given["strikes"])
    forward = math.nan if given["forward"] is None else given["forward"]
    calls, puts = (
        ExpirationSlice(
            date, right, given["settlement"], forward, strikes, np.array(bid, np.int32), np.array(ask, np.int32),
            np.array(iv, np.uint16), np.array(delta, np.int16), np.zeros(len(strikes), np.int32),
        )
        for right, (bid, ask, iv, delta) in zip(("call", "put"), given["quotes"], strict=True)
    )  # fmt: skip
    seconds, paid = (np.array(values, np.float64) for values in given["dividends"])
    return fit_smile(
        calls,
        puts,
        facts["base"],
        facts["spot"],
        given["rate"],
        facts["quantum"],
        None,
        given["american"],
        (seconds, paid),
    )


def detail(kept: bytes, row: dict[str, Any], at: int | None) -> dict[str, Any]:
    """A stored trade as its page shows it, its payoff as of epoch second ``at``."""
    data = zstandard.ZstdDecompressor().decompress(kept)
    facts, place = _facts(data)
    arrays: dict[str, Any] = {}
    kept_names = [*_ARRAYS, *(f"leg{number}" for number in range(len(facts["legs"])))]
    if "causes" in facts:
        kept_names += [f"cause{number}" for number in range(len(CAUSES))]
        kept_names += [f"vol{number}" for number in range(len(facts["legs"]))]
    for name in kept_names:
        kind = _ARRAYS.get(name, "<i8")
        end = place + facts["points"] * np.dtype(kind).itemsize
        arrays[name] = unshuffled(data[place:end], kind, facts["points"])
        place = end
    zone = ZoneInfo(facts["zone"])
    worth = facts["quantum"] * facts["multiplier"] / PARTS
    mids = [arrays[f"leg{number}"] for number in range(len(facts["legs"]))]
    legs = [PayoffLeg(*_read(values)) for values in facts["payoff"]]
    return {
        "row": row, "legs": facts["legs"], "glyph": facts["glyph"], "decided_rule": facts["when"],
        "currency": facts["currency"], "nearest": facts["nearest"],
        "path": {
            "at": arrays["at"].tolist(),
            "local": [dt.datetime.fromtimestamp(t, zone).strftime("%Y-%m-%dT%H:%M") for t in arrays["at"].tolist()],
            "spot": (arrays["spot"] / 100).round(2).tolist(), "pnl": (arrays["pnl"] * worth).round(2).tolist(),
            "legs": [
                _while_held(arrays["at"], leg, (values * ContractKey.parse(leg["contract"]).divisor / PARTS * facts["quantum"]).round(4))
                for leg, values in zip(facts["legs"], mids, strict=True)
            ],
        },
        "causes": _causes(facts, arrays), "events": facts.get("events"),
        "payoff": payoff_of(legs, facts["base"], facts["spot"], facts["multiplier"], _curve(facts), 0.0, at),
    }  # fmt: skip


def events(kept: bytes) -> list[dict[str, Any]]:
    """A stored trade's history; nothing of one from before it was kept."""
    return _facts(zstandard.ZstdDecompressor().decompress(kept))[0].get("events") or [] if kept else []


def _facts(data: bytes) -> tuple[dict[str, Any], int]:
    """What is kept beside the arrays, and where these begin."""
    size = int.from_bytes(data[:4], "little")
    return json.loads(data[4 : 4 + size]), 4 + size


def _while_held(at: Any, leg: dict[str, Any], mids: Any) -> list[float | None]:
    """A leg's mids, none before it was opened and after it was closed."""
    if "since" not in leg:  # it was kept before this was
        return list(mids.tolist())
    held = (at >= leg["since"]) & (at <= leg["until"])
    return [mid if there else None for mid, there in zip(mids.tolist(), held.tolist(), strict=True)]


def _causes(facts: dict[str, Any], arrays: dict[str, Any]) -> dict[str, Any] | None:
    """Where its P/L came from; nothing of a trade that was kept before this was told."""
    if "causes" not in facts:
        return None
    told = facts["causes"]
    legs = [
        {**dict(zip(CAUSES, leg, strict=True)), "dealing": dealing}
        for leg, dealing in zip(told["legs"], told["dealing"], strict=True)
    ]
    vols = [arrays[f"vol{number}"] for number in range(len(facts["legs"]))]
    return {
        "legs": legs, "costs": told["costs"],
        "course": {cause: (arrays[f"cause{number}"] / 100).round(2).tolist() for number, cause in enumerate(CAUSES)},
        "vols": [[value / 100 if value else None for value in vol.tolist()] for vol in vols],
    }  # fmt: skip


def _read(values: list[Any]) -> list[Any]:
    """A payoff leg's fields from JSON: what was not known is NaN, dividends are pairs."""
    out: list[Any] = [math.nan if value is None else value for value in values]
    out[9] = tuple((int(when), float(paid)) for when, paid in out[9])
    return out

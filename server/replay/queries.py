"""Everything a replay page shows at its clock's instant, made from one reading of the state."""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import numpy as np
from django.contrib.auth.models import User

from observe.chain_table import chain_table
from observe.payoffs import glyph, greeks, payoff
from replay.life import HeldContract, Life, life
from replay.models import ReplayFill, ReplaySession
from replay.services import active_fills, facts, history_of
from runs.outlook import outlooks
from strategies.models import Strategy
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Observation
from strell_core.market.prices import PARTS, shown_price
from strell_core.market.timeline import Timeline
from strell_core.pricing.black import GREEKS
from strell_core.pricing.held import Holding
from strell_core.results.equity import equity_at
from strell_core.strategy.sentences import sheet

BAR_POINTS = 500
HORIZON_SESSIONS = 5
LATEST = 30


def latest(user: User) -> list[dict[str, Any]]:
    """The sessions that were last gone on with, without looking at what is in them."""
    found = ReplaySession.objects.of(user).select_related("underlying", "strategy").order_by("-updated_at")[:LATEST]
    return [
        {
            "id": session.pk, "name": session.name, "underlying": session.underlying.symbol, "updated_at": session.updated_at,
            "strategy": session.strategy.latest.document["name"] if session.strategy else "",
        }
        for session in found
    ]  # fmt: skip


def scene(
    session: ReplaySession, expiration: str | None = None, payoff_at: int | None = None, symbol: str | None = None
) -> dict[str, Any]:
    """Chain, position, payoff, rules and time bar at the session's instant. ``symbol``: of which underlying chain, payoff and
    prices are shown; without one that of the trade it began with, else the one whose snapshots are its clock."""
    history = history_of(session)
    index = history.at_or_before(session.cursor)
    fills = active_fills(session)
    here = life(session, history, fills)
    symbols = [session.underlying.symbol, *here.market.others]
    looked_at = symbol if symbol in symbols else _of_its_trade(session) or symbols[0]
    shown = here.market.on_clock(looked_at)
    local = history.calendar.local(session.cursor)
    held = here.held()
    open_held = [h for h in held if h.contracts]
    # a payoff is over one price
    own = [h for h in held if h.contract.underlying == looked_at]
    holdings = [Holding(h.contract, h.contracts, _points(shown, h.contract, h.average)) for h in own if h.contracts]
    realised = sum(_worth(shown, h.realised, h.multiplier) for h in own)
    return {
        **facts(session), "at": session.cursor, "local": local.strftime("%Y-%m-%dT%H:%M"), "zone": local.tzname(),
        "symbol": looked_at, "symbols": symbols, "spot": int(shown.spot[index]) / 100, "currency": shown.underlying.currency,
        "chain": chain_table(shown, index, {h.contract: h.contracts for h in own if h.contracts}, expiration), "account": _account(index, session, here, open_held),
        "legs": [_leg(here, index, h) for h in held],
        "payoff": payoff(shown, index, holdings, realised, payoff_at) if holdings else None,
        "glyph": glyph(holdings, int(shown.spot[index]) / 100), "outlooks": _outlooks(session, index, here),
        "bar": _bar(session, history, shown, index, fills, here), "single": bool(history.is_single[index]),
        "aside": session.fills.exclude(set_aside=None).count(), "undoes": max((f.pk for f in fills if f.by == "hand"), default=None),
        "is_first": index == 0, "is_last": index == len(history.times) - 1,
    }  # fmt: skip


def _of_its_trade(session: ReplaySession) -> str:
    """The underlying of the run's trade that a session began with; nothing of another session."""
    legs = session.trade.trade["legs"] if session.trade else []
    return ContractKey.parse(legs[0]["contract"], session.underlying.symbol, only=False).underlying if legs else ""


def _points(history: Timeline, contract: ContractKey, parts: float | Fraction) -> float:
    return round(shown_price(contract, parts, history.underlying.quantum), 4)


def _mark(here: Life, index: int, held: HeldContract) -> tuple[float | None, float | None]:
    """Mid and closable value of one contract in parts, a long that nobody bids for at 0; ``None``: unvalued."""
    bid, ask = here.of(held.contract).quote_at(held.contract, index)
    if not (0 <= bid <= ask and ask > 0):
        return None, None
    away = here.plan.unit_halves[held.contract.underlying] // held.contract.divisor if held.contract.is_unit else 0
    return (bid + ask) / 2, ask + away if held.contracts < 0 else bid - away


def _worth(history: Timeline, parts: Any, multiplier: int) -> float:
    return round(float(parts) * float(history.underlying.quantum) * multiplier / PARTS, 2)


def _leg(here: Life, index: int, held: HeldContract) -> dict[str, Any]:
    multiplier, history = held.multiplier, here.of(held.contract)
    mid, closable = _mark(here, index, held) if held.contracts else (None, None)
    of_greeks = greeks(history, index, Holding(held.contract, held.contracts, 0.0))
    pnl = None
    if held.contracts == 0:
        pnl = _worth(history, held.realised, multiplier)
    elif closable is not None:
        pnl = _worth(history, held.realised + held.contracts * (closable - held.average), multiplier)
    return {
        "contract": held.contract.code, "label": held.contract.named(history.underlying is not here.market.main.underlying), "contracts": held.contracts,
        "opened": _points(history, held.contract, held.average) if held.contracts else None,
        "mid": None if mid is None else _points(history, held.contract, mid), "closable": None if closable is None else _points(history, held.contract, closable),
        "pnl": pnl, "settled": held.settled, **(of_greeks if held.contracts else dict.fromkeys((*GREEKS, "iv"))),
    }  # fmt: skip


def _account(index: int, session: ReplaySession, here: Life, open_held: list[HeldContract]) -> dict[str, Any]:
    mids, outs = [], []
    totals: dict[str, float | None] = dict.fromkeys(GREEKS, 0.0)
    for held in open_held:
        mid, closable = _mark(here, index, held)
        multiplier, history = held.multiplier, here.of(held.contract)
        mids.append(None if mid is None else _worth(history, held.contracts * mid, multiplier))
        outs.append(None if closable is None else _worth(history, held.contracts * closable, multiplier))
        values = greeks(history, index, Holding(held.contract, held.contracts, 0.0))
        for name in GREEKS:
            value, total = values[name], totals[name]
            scale = held.contracts * multiplier
            totals[name] = None if value is None or total is None else total + value * scale
    cash, start = float(here.cash), float(session.cash)
    valued, closes = None not in mids, None not in outs
    return {
        "cash": round(cash, 2), "costs": float(here.costs),
        "equity": round(cash + sum(m for m in mids if m is not None), 2) if valued else None,
        "pnl_mid": round(cash - start + sum(m for m in mids if m is not None), 2) if valued else None,
        "pnl_closable": round(cash - start + sum(o for o in outs if o is not None), 2) if closes else None,
        "greeks": totals,
    }  # fmt: skip


def _outlooks(session: ReplaySession, index: int, here: Life) -> list[dict[str, Any]]:
    """What the strategy's exits and adjustments say of every open trade now."""
    if session.revision is None:
        return []
    return outlooks(session.revision.document, here.plan, here.history.state, Observation(here.market, index))


def _said(session: ReplaySession, history: Timeline, here: Life) -> list[dict[str, Any]]:
    """What the rules did by themselves, as marks of the time bar."""
    if session.revision is None:
        return []
    written = sheet(session.revision.document)
    known = {(mark["at"], mark["kind"]) for mark in session.marks}
    out = []
    for reason in here.history.reasons:
        if (reason.at, "entry" if reason.kind == "entry" else "exit") in known:
            continue  # the run did the same then
        number = written.numbered(reason.rule)
        by = f"sentence {number}" if number else "a rule"
        if reason.kind == "entry":
            legs = ", ".join(ContractKey.parse(code).label for code in reason.values["contracts"])
            out.append({"at": reason.at, "kind": "entry", "text": f"{by} entered: {legs}"})
        elif reason.kind == "left":
            out.append({"at": reason.at, "kind": "exit", "text": f"{by} left"})
    return out


def _bar(
    session: ReplaySession, history: Timeline, shown: Timeline, index: int, fills: list[ReplayFill], here: Life
) -> dict[str, Any]:
    """Underlying and P/L from the session's start to now, with marks, and where the axis ends."""
    begin = min(history.at_or_before(session.start), index)
    rows = np.unique(np.linspace(begin, index, min(index - begin + 1, BAR_POINTS)).round().astype(int))
    first_day = int(history.session_of[begin])
    last_day = min(len(history.dates) - 1, int(history.session_of[index]) + HORIZON_SESSIONS)
    known = [m["at"] for m in session.marks if m["at"] <= int(history.times[-1])]
    end = max([int(history.times[history.first[last_day + 1] - 1]), *known])
    hand = [
        {
            "at": f.at,
            "kind": "fill",
            "text": f"{'bought' if f.contracts > 0 else 'sold'} {abs(f.contracts)} {ContractKey.parse(f.contract).label}",
        }
        for f in fills
        if f.by == "hand"
    ]
    ends = history.at_or_before(end)
    days = [
        {
            "at": int(history.times[history.first[d]]),
            "until": int(history.times[history.first[d + 1] - 1]),
            "label": f"{history.dates[d]:%a %-d %b}",
        }
        for d in range(first_day, int(history.session_of[ends]) + 1)
    ]
    return {
        "at": history.times[rows].tolist(), "spot": (shown.spot[rows] / 100).round(2).tolist(),
        "pnl": _pnl_series(session, here, rows), "marks": [*session.marks, *_said(session, history, here), *hand],
        "start": int(history.times[begin]), "end": end, "days": days,
    }  # fmt: skip


def _pnl_series(session: ReplaySession, here: Life, rows: Any) -> list[float]:
    """Equity at mid less starting cash at timeline indices ``rows``; a missing mark carries the last."""
    equity, _ = equity_at(here.market, here.history, rows, session.cash)
    return [round(float(value) - float(session.cash), 2) for value in equity]


def on_track(strategy: Strategy) -> dict[str, Any]:
    """What replays have to show for a strategy: how many, and the name of the one whose note was written last."""
    kept = strategy.replays.filter(deleted_at=None).order_by("-updated_at").values_list("name", "note")
    return {"replays": len(kept), "latest_note": next((name for name, note in kept if note), "")}

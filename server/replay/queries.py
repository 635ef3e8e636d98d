"""Everything a replay page shows at its clock's instant, made from one reading of the state."""

from __future__ import annotations

from typing import Any

import numpy as np

from observe.chain_table import chain_table
from observe.payoffs import Holding, glyph, greeks, payoff
from replay.models import ReplayFill, ReplaySession
from replay.position import Deal, Position, carried, multipliers, position
from replay.services import active_fills, facts, history_of
from runs.rows import amount_text
from strategies.models import Strategy
from strell_core.engine.ledger import Held
from strell_core.engine.marks import stretch
from strell_core.engine.plan import make_plan
from strell_core.engine.settlement import settlement_parts
from strell_core.engine.state import LegState, TradeState
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS, money, parts_to_money
from strell_core.market.timeline import Timeline, valid_quotes
from strell_core.pricing.black import GREEKS
from strell_core.strategy import catalogue
from strell_core.strategy.document import parse
from strell_core.strategy.kinds import TRUTH_WORDS
from strell_core.strategy.reasons import reason_text
from strell_core.strategy.sentences import sheet

BAR_POINTS = 500
HORIZON_SESSIONS = 5


def scene(session: ReplaySession, expiration: str | None, payoff_at: int | None) -> dict[str, Any]:
    """Chain, position, payoff, rules and time bar at the session's instant."""
    history = history_of(session)
    index = history.at_or_before(session.cursor)
    fills = active_fills(session)
    here = position(history, fills, session.cash, session.cursor)
    local = history.calendar.local(session.cursor)
    open_held = here.open
    holdings = [Holding(h.contract, h.contracts, _points(history, h.average)) for h in open_held]
    realised = here.realised_quanta * float(history.underlying.quantum)
    return {
        **facts(session), "at": session.cursor, "local": local.strftime("%Y-%m-%dT%H:%M"), "zone": local.tzname(),
        "spot": int(history.spot[index]) / 100, "currency": history.underlying.currency,
        "chain": chain_table(history, index, {h.contract: h.contracts for h in open_held}, expiration), "account": _account(history, index, session, here),
        "legs": [_leg(history, index, h, here.multiplier[h.contract]) for h in here.held],
        "payoff": payoff(history, index, holdings, realised, payoff_at) if holdings else None,
        "glyph": glyph(holdings, int(history.spot[index]) / 100), "rules": _rules(session, history, index, here, fills),
        "bar": _bar(session, history, index, fills), "single": bool(history.is_single[index]),
        "aside": session.fills.exclude(set_aside=None).count(), "can_undo": any(f.by == "hand" for f in fills),
        "is_first": index == 0, "is_last": index == len(history.times) - 1,
    }  # fmt: skip


def _points(history: Timeline, parts: Any) -> float:
    return round(float(parts) / PARTS * float(history.underlying.quantum), 4)


def _mark(history: Timeline, index: int, held: Held) -> tuple[float | None, float | None]:
    """Mid and closable value of one contract in parts; ``None``: unvalued."""
    quote = history.view(index).quote(held.contract)
    if not quote.valid:
        return None, None
    out = quote.ask if held.contracts < 0 else quote.bid
    return (quote.bid + quote.ask) * PARTS / 2, out * PARTS if out > 0 else None


def _worth(history: Timeline, parts: Any, multiplier: int) -> float:
    return round(float(parts) * float(history.underlying.quantum) * multiplier / PARTS, 2)


def _leg(history: Timeline, index: int, held: Held, multiplier: int) -> dict[str, Any]:
    mid, closable = _mark(history, index, held) if held.contracts else (None, None)
    of_greeks = greeks(history, index, Holding(held.contract, held.contracts, 0.0))
    pnl = None
    if held.contracts == 0:
        pnl = _worth(history, held.realised, multiplier)
    elif closable is not None:
        pnl = _worth(history, held.realised + held.contracts * (closable - held.average), multiplier)
    return {
        "contract": held.contract.code, "label": held.contract.label, "contracts": held.contracts,
        "opened": _points(history, held.average) if held.contracts else None,
        "mid": None if mid is None else _points(history, mid), "closable": None if closable is None else _points(history, closable),
        "pnl": pnl, "settled": held.settled_at is not None, **(of_greeks if held.contracts else dict.fromkeys((*GREEKS, "iv"))),
    }  # fmt: skip


def _account(history: Timeline, index: int, session: ReplaySession, here: Position) -> dict[str, Any]:
    mids, outs = [], []
    totals: dict[str, float | None] = dict.fromkeys(GREEKS, 0.0)
    for held in here.open:
        mid, closable = _mark(history, index, held)
        multiplier = here.multiplier[held.contract]
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


def _rules(
    session: ReplaySession, history: Timeline, index: int, here: Position, fills: list[ReplayFill]
) -> list[dict[str, Any]]:
    """What each exit sentence of the strategy says of the position now."""
    made = [fill for fill in fills if fill.at <= session.cursor]
    if session.revision is None or not here.open or not made:
        return []
    document = session.revision.document
    plan = make_plan(parse(document), history)
    legs = tuple(LegState(h.contract.code, h.contract, h.contracts, round(h.average)) for h in here.open)
    opening = -sum(f.contracts * f.price_parts for f in made if f.order == made[0].order)
    opened_on = history.calendar.local(made[0].at).date()
    trade = TradeState(1, 1, made[0].at, made[0].at, opened_on, legs, opening, round(here.realised))
    try:
        now = stretch(plan, trade, history, index, index + 1)
    except ValueError:
        return []

    def as_money(parts: int) -> str:
        amount = money(parts_to_money(parts, plan.quantum, plan.multiplier(opened_on)))
        return amount_text(amount, history.underlying.currency)

    out = []
    for rule, found in plan.exits:
        truth = int(found.test(now, rule.params)[0])
        sentence = next(s for s in sheet(document).sentences if s.id == rule.id)
        declaration = catalogue.sentences("leave")[rule.kind]
        text = reason_text(declaration, truth, found.values(now, rule.params, 0), as_money)
        out.append({"number": sentence.number, "sentence": sentence.text, "truth": TRUTH_WORDS[truth], "text": text})
    return sorted(out, key=lambda item: item["number"])


def _bar(session: ReplaySession, history: Timeline, index: int, fills: list[ReplayFill]) -> dict[str, Any]:
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
        "at": history.times[rows].tolist(), "spot": (history.spot[rows] / 100).round(2).tolist(),
        "pnl": _pnl_series(history, session, fills, rows), "marks": [*session.marks, *hand],
        "start": int(history.times[begin]), "end": end, "days": days,
    }  # fmt: skip


def _pnl_series(history: Timeline, session: ReplaySession, fills: list[ReplayFill], rows: Any) -> list[float]:
    """Equity at mid less starting cash at timeline indices ``rows``; a missing mark carries the last."""
    ends = [index for index in sorted(history.splits) if rows[0] < index <= rows[-1]]
    out: list[float] = []
    for part in np.split(rows, np.searchsorted(rows, ends)):
        if len(part):
            out += _pnl_stretch(history, carried(history, fills, int(history.times[part[-1]])), part)
    return out


def _pnl_stretch(history: Timeline, deals: list[Deal], rows: Any) -> list[float]:
    """The same over snapshots between which nothing was split."""
    times = history.times[rows]
    total = np.zeros(len(rows))
    multiplier = multipliers(history, deals)
    for contract in sorted({deal.contract for deal in deals}):
        scale = float(history.underlying.quantum) * multiplier[contract] / PARTS
        cube = history.cubes[contract.expiration]
        row = cube.row(contract.right, contract.strike)
        inside = np.clip(rows - cube.start, 0, cube.bid.shape[1] - 1)
        bid, ask = cube.bid[row, inside].astype(np.int64), cube.ask[row, inside].astype(np.int64)
        valid = valid_quotes(bid, ask)
        last = np.maximum.accumulate(np.where(valid, np.arange(len(rows)), 0))
        mark = ((bid + ask) * (PARTS / 2))[last]
        settled = settlement_parts(history, contract, int(times[-1]))
        if settled is not None:
            mark = np.where(times >= cube.settlement_at, settled, mark)
        for deal in (d for d in deals if d.contract == contract):
            made = times >= deal.at
            total += np.where(made, deal.contracts * (mark - deal.price_parts) * scale - float(deal.commission), 0.0)
    return [round(float(value), 2) for value in total]


def on_track(strategy: Strategy) -> dict[str, Any]:
    """What replays have to show for a strategy: how many, and the name of the one whose note was written last."""
    kept = strategy.replays.filter(deleted_at=None)
    noted = kept.exclude(note="").order_by("-updated_at")
    return {"replays": kept.count(), "latest_note": noted.values_list("name", flat=True).first() or ""}

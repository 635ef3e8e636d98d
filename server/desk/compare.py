"""A deployment's session beside a backtest of the same session: decision by decision, fill by fill."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

from config.errors import Conflict, NotThere
from desk.deployed import document_of, plan_of, reason_words, symbol_of
from desk.models import Decision, Deployment
from strell_core.engine.run import History, run_steps
from strell_core.engine.state import ClosedTrade, EngineState, LegClose, LegState, Reason, TradeState
from strell_core.engine.stored import load, order_of
from strell_core.market.market import Market
from strell_core.market.prices import parts_to_price
from venue.live import observed

DECISIONS = ("entry", "no entry", "skipped", "left", "lapsed", "moved", "no adjustment")


def sessions_of(deployment: Deployment) -> list[dt.date]:
    return sorted(set(deployment.decisions.values_list("session", flat=True)), reverse=True)


def compare(deployment: Deployment, session: dt.date) -> dict[str, Any]:
    """Both sides from the same state before the session; the first difference is named."""
    decisions = list(deployment.decisions.filter(session=session).order_by("at"))
    if not decisions:
        raise NotThere("The deployment decided nothing in that session.")
    market = observed(deployment.revision.document, deployment.owner_id)
    timeline = market.main
    number = timeline.session_index(session)
    if number is None:
        raise Conflict("The session's snapshots are no longer there to be compared with.")
    plan = plan_of(deployment, market)
    begin = int(timeline.at_or_before(decisions[0].at))
    end = min(int(timeline.first[number + 1]), int(timeline.at_or_before(deployment.cursor)) + 1)
    state = load(decisions[0].before, symbol_of(deployment))
    history = run_steps(plan, market, begin, max(begin + 1, end), state.cash, state=state)
    lived = [_reason(raw) for row in decisions for raw in row.reasons]
    document = document_of(deployment)
    rows = _aligned(
        document, market, _symbols(state, history, decisions, symbol_of(deployment)), lived, history.reasons
    )
    fills = _fills(market, decisions, history)
    first = next((row for row in rows if not row["same"]), None) or next(
        (row for row in fills if not row["same"]), None
    )
    same = sum(row["same"] for row in rows)
    return {
        "session": session, "rows": rows, "fills": fills, "decisions": len(rows), "same": same,
        "first": None if first is None else _named(first), "until": timeline.calendar.local(int(timeline.times[end - 1])).strftime("%H:%M"),
    }  # fmt: skip


def _symbols(state: EngineState, history: History, decisions: Sequence[Decision], main: str) -> dict[int, str]:
    """The underlying of every trade that either side speaks of; ``main``: where what was stored does not say it."""
    trades: list[ClosedTrade | TradeState] = [*state.trades, *history.closed, *history.state.trades]
    asked = [order_of(raw, main) for row in decisions for raw in row.intents]
    return {order.trade: order.symbol for order in asked} | {trade.number: trade.symbol for trade in trades}


def _reason(raw: dict[str, Any]) -> Reason:
    return Reason(**raw)


def _aligned(
    document: dict[str, Any], market: Market, symbols: Mapping[int, str], lived: list[Reason], tested: list[Reason]
) -> list[dict[str, Any]]:
    """Decisions of both sides in order of time; same means the same words at the same snapshot."""

    def keyed(reasons: list[Reason]) -> dict[tuple[int, str, str], list[Reason]]:
        out: dict[tuple[int, str, str], list[Reason]] = {}
        for reason in reasons:
            if reason.kind in DECISIONS:
                out.setdefault((reason.at, reason.kind, reason.rule), []).append(reason)
        return out

    def said(reason: Reason) -> str:
        return reason_words(document, market.on_clock(symbols.get(reason.trade or 0, "")), reason)

    timeline, ours, theirs = market.main, keyed(lived), keyed(tested)
    rows = []
    for key in sorted({*ours, *theirs}):
        mine, other = ours.get(key, []), theirs.get(key, [])
        for number in range(max(len(mine), len(other))):
            a = mine[number] if number < len(mine) else None
            b = other[number] if number < len(other) else None
            words = [None if r is None else said(r) for r in (a, b)]
            rows.append(
                {
                    "at": key[0], "time": timeline.calendar.local(key[0]).strftime("%H:%M"), "kind": key[1], "rule": key[2],
                    "lived": words[0], "tested": words[1], "same": words[0] == words[1],
                }
            )  # fmt: skip
    return rows


def _fills(market: Market, decisions: Sequence[Decision], history: History) -> list[dict[str, Any]]:
    """What each order of the session was filled at: net price a lot in points, on both sides."""
    lived: dict[str, list[dict[str, Any]]] = {}
    legs: dict[str, dict[str, int]] = {}
    ratios: dict[str, list[int]] = {}
    quanta: dict[str, Decimal] = {}
    asked: dict[str, int] = {}
    for row in decisions:
        for order in [*row.intents, *row.orders]:
            asked[order["id"]] = order["lots"]
            traded = order_of(order, market.main.underlying.symbol).symbol
            quanta[order["id"]] = market.timeline(traded).underlying.quantum
            legs[order["id"]] = {leg["leg_id"]: leg["contracts"] for leg in order["legs"]}
            ratios[order["id"]] = [leg["contracts"] // order["lots"] for leg in order["legs"]]
        for fill in row.fills:
            if fill["prices"]:
                lived.setdefault(fill["order"], []).append(fill)
    out = []
    theirs = _tested_fills(history, decisions[0].at)
    for name in sorted({*lived, *theirs}):
        mine, other = lived.get(name), theirs.get(name)
        price, quantum = None, quanta.get(name, market.main.underlying.quantum)
        # where a leg settled before the rest was dealt there is no price of the whole
        if mine and name in legs and any(fill.get("dealt") for fill in mine):
            price = _in_parts(mine, legs[name], asked[name], quantum)
        elif mine and name in ratios and all(len(fill["prices"]) == len(ratios[name]) for fill in mine):
            # the average of its parts, each by its lots
            parts = [sum(r * p for r, p in zip(ratios[name], fill["prices"], strict=True)) for fill in mine]
            lots = [fill["lots"] or asked[name] for fill in mine]
            paid = sum(n * p for n, p in zip(lots, parts, strict=True))
            price = float(parts_to_price(round(paid / sum(lots)), quantum))
        test = None if other is None else float(parts_to_price(other[1], quantum))
        out.append(
            {
                "order": name, "at": mine[0]["at"] if mine else other[0] if other else None, "lived_at": mine[0]["at"] if mine else None,
                "tested_at": other[0] if other else None, "lived": price, "tested": test,
                "same": price is not None and test is not None and abs(price - test) < 1e-9,
            }
        )  # fmt: skip
    return sorted(out, key=lambda row: row["at"])


def _in_parts(
    fills: Sequence[dict[str, Any]], legs: Mapping[str, int], lots: int, quantum: Decimal
) -> float | None:  # fmt: skip
    """What a lot was filled at leg by leg, points; ``None``: legs of it were not dealt."""
    left, paid = dict(legs), 0
    for fill in fills:
        for (name, contracts), parts in zip(fill.get("dealt") or left.items(), fill["prices"], strict=True):
            paid += contracts * parts
            left = {**left, name: left[name] - contracts}
    return None if any(left.values()) else float(parts_to_price(round(paid / lots), quantum))


def _tested_fills(history: History, since: int) -> dict[str, tuple[int, int]]:
    """Order id to instant and net parts a lot, from the backtest's own fills."""
    out: dict[str, tuple[int, int]] = {}
    trades: list[ClosedTrade | TradeState] = [*history.closed, *history.state.trades]
    for trade in trades:
        lots = trade.lots
        legs: list[LegClose | LegState] = [*trade.legs]
        if isinstance(trade, TradeState):
            legs = [*trade.closed_legs, *legs]
        net = sum(leg.contracts * leg.opened_parts for leg in legs) // lots
        if trade.opened_at >= since:
            out[f"{trade.number}-open"] = (trade.opened_at, net)
        closed = [leg for leg in legs if isinstance(leg, LegClose) and leg.how == "order"]
        if closed and closed[0].closed_at >= since:
            out[f"{trade.number}-close"] = (
                closed[0].closed_at,
                -sum(leg.contracts * leg.closed_parts for leg in closed) // lots,
            )
    return out


def _price(points: float) -> str:
    """A net price a lot, what is paid positive."""
    return f"{abs(points):.2f} {'debit' if points > 0 else 'credit'}"


def _named(row: dict[str, Any]) -> str:
    """The first difference in one sentence."""
    if "order" in row:
        if row["lived"] is None and row["tested"] is None:
            return f"Order {row['order']} was dealt at the market after one of its legs had settled."
        if row["lived"] is None:
            return f"Order {row['order']} was filled in the backtest for {_price(row['tested'])} and not at the market."
        if row["tested"] is None:
            return f"Order {row['order']} was filled at the market for {_price(row['lived'])} and not in the backtest."
        gap = row["lived"] - row["tested"]
        return f"Order {row['order']}: filled for {_price(row['lived'])} a lot, in the backtest for {_price(row['tested'])}; {abs(gap):.2f} {'worse' if gap > 0 else 'better'}."
    if row["lived"] is None:
        return f"At {row['time']} the backtest {row['tested']}; the deployment did not."
    if row["tested"] is None:
        return f"At {row['time']} the deployment {row['lived']}; the backtest did not."
    return f"At {row['time']} the deployment {row['lived']}; the backtest {row['tested']}."

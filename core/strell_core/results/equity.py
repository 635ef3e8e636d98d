"""Equity by session and the path of single trades, marked at mid (semantics rule 12)."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal

import numpy as np
import numpy.typing as npt

from strell_core.engine.marks import carried_over
from strell_core.engine.pieces import closed_pieces
from strell_core.engine.run import History
from strell_core.engine.state import ClosedTrade, LegClose, TradeState
from strell_core.market.market import Market, market_of
from strell_core.market.prices import PARTS
from strell_core.market.timeline import Timeline
from strell_core.market.view import valid_quotes

Floats = npt.NDArray[np.float64]
STILL_OPEN = 2**62


@dataclass(frozen=True)
class HeldLeg:
    """One leg from its first to its last snapshot: timeline indices ``[begin, end)``."""

    leg: LegClose
    begin: int
    end: int
    opened_on: dt.date
    """Of its trade."""


@dataclass(frozen=True)
class EquityCurve:
    """One value a session, at its last snapshot. ``stale`` marks sessions whose position had to be
    valued at an older mark. Money as floats: for analysis, never for the ledger."""

    sessions: npt.NDArray[np.int64]
    equity: Floats
    stale: npt.NDArray[np.bool_]
    in_market: npt.NDArray[np.bool_]


def held_legs(timeline: Timeline, legs: Sequence[LegClose], opened_at: int) -> list[HeldLeg]:
    out = []
    opened_on = timeline.dates[int(timeline.session_of[int(np.searchsorted(timeline.times, opened_at))])]
    for leg in legs:
        begin = int(np.searchsorted(timeline.times, leg.opened_at or opened_at))
        end = int(np.searchsorted(timeline.times, leg.closed_at))
        out.append(HeldLeg(leg, begin, end, opened_on))
    return out


def leg_mid(timeline: Timeline, held: HeldLeg) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.bool_]]:
    """Mid in parts of each held snapshot (the last valid one carried on), and where it is stale."""
    bid, ask = timeline.quotes(held.leg.contract, held.begin, held.end)
    valid = valid_quotes(bid, ask)
    return carried_over(bid, ask, valid, held.leg.opened_parts), ~valid


def all_legs(
    timeline: Timeline, closed: Sequence[ClosedTrade], still_open: Sequence[TradeState]
) -> list[tuple[int, HeldLeg]]:
    """Every leg of trades with the number of its trade; those still held end behind the timeline."""
    out: list[tuple[int, HeldLeg]] = []
    for trade in closed:
        out += [(trade.number, held) for held in held_legs(timeline, trade.legs, trade.opened_at)]
    for open_trade in still_open:
        open_legs = [
            closed for leg in open_trade.legs for closed in closed_pieces(leg, leg.came, 0, STILL_OPEN, "order")
        ]
        legs = held_legs(timeline, [*open_trade.closed_legs, *open_legs], open_trade.opened_at)
        out += [(open_trade.number, held) for held in legs]
    return out


def equity_curve(histories: Market | Timeline, history: History, begin: int, end: int, cash: Decimal) -> EquityCurve:
    """Cash plus mid marks at the end of every session of ``[begin, end)`` of the clock."""
    timeline = market_of(histories).main
    low, high = int(timeline.session_of[begin]), int(timeline.session_of[end - 1])
    sessions = np.arange(low, high + 1)
    equity, stale = equity_at(histories, history, timeline.first[sessions + 1] - 1, cash)
    in_market = np.zeros(len(sessions), np.bool_)
    last = len(timeline.times) - 1
    for _, held in all_legs(timeline, history.closed, history.state.trades):
        # the session in which it ended is one of them
        ended = int(timeline.session_of[min(held.end, last)])
        in_market[int(timeline.session_of[held.begin]) - low : ended - low + 1] = True
    return EquityCurve(sessions, equity, stale, in_market)


def equity_at(
    histories: Market | Timeline, history: History, at: npt.NDArray[np.int64], cash: Decimal
) -> tuple[Floats, npt.NDArray[np.bool_]]:
    """Cash plus mid marks at the clock's snapshots ``at`` (rising), and where a mark is an older one."""
    market = market_of(histories)
    timeline = market.main
    moved_at = np.array([entry.at for entry in history.entries], np.int64)
    moved = np.cumsum([0.0, *(float(entry.amount) for entry in history.entries)])
    equity = float(cash) + moved[np.searchsorted(moved_at, timeline.times[at], side="right")]
    stale = np.zeros(len(at), np.bool_)
    for _, held in all_legs(timeline, history.closed, history.state.trades):
        inside = np.flatnonzero((at >= held.begin) & (at < held.end))
        if len(inside):
            there = market.on_clock(held.leg.contract.underlying)
            mid, old = leg_mid(there, held)
            scale = float(there.underlying.quantum) * there.multiplier(held.opened_on) / PARTS
            equity[inside] += held.leg.contracts * mid[at[inside] - held.begin] * scale
            stale[inside] |= old[at[inside] - held.begin]
    return equity, stale


@dataclass(frozen=True)
class TradePath:
    """A trade from its entry to its end. P/L in parts times contracts before costs; ``legs`` holds
    each leg's mid in parts ``(legs, n)``."""

    begin: int
    pnl: npt.NDArray[np.int64]
    legs: npt.NDArray[np.int64]


def trade_path(timeline: Timeline, trade: ClosedTrade) -> TradePath:
    """Mid P/L at every snapshot from the entry to the exit, both included."""
    begin = int(np.searchsorted(timeline.times, trade.opened_at))
    end = int(np.searchsorted(timeline.times, trade.closed_at)) + 1
    pnl = np.zeros(end - begin, np.int64)
    marks = []
    for held in held_legs(timeline, trade.legs, trade.opened_at):
        mid, _ = leg_mid(timeline, held)
        ahead = np.full(held.begin - begin, held.leg.opened_parts)
        whole = np.concatenate([ahead, mid, np.full(end - begin - len(ahead) - len(mid), held.leg.closed_parts)])
        pnl += held.leg.contracts * (whole - held.leg.opened_parts)
        marks.append(whole)
    return TradePath(begin, pnl, np.array(marks))

"""Marks of a trade over a stretch of snapshots."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.engine.changed import changed
from strell_core.engine.corporate import before_splits
from strell_core.engine.plan import Plan
from strell_core.engine.state import LegState, TradeState, with_units
from strell_core.market.market import Market, market_of
from strell_core.market.prices import PARTS
from strell_core.market.timeline import Timeline
from strell_core.market.view import valid_quote, valid_quotes
from strell_core.measures.frames import PositionLeg, Stretch
from strell_core.strategy.condition_truths import remember

NEVER = -(2**62)
IntArray = npt.NDArray[np.int64]
BoolArray = npt.NDArray[np.bool_]


def stretch(plan: Plan, trade: TradeState, history: Market | Timeline, begin: int, end: int) -> Stretch:
    """The trade's marks over snapshots ``[begin, end)``, unvalued where a leg has no quote."""
    market = market_of(history)
    timeline, half = market.on_clock(trade.symbol), plan.unit_halves[trade.symbol or plan.strategy.underlying]
    quotes = np.empty((2, len(trade.legs), end - begin), np.int64)
    for place, leg in enumerate(trade.legs):
        if not leg.contract.is_unit and end - begin == 1:
            quotes[:, place, 0] = timeline.quote_at(leg.contract, begin)
        elif not leg.contract.is_unit:
            timeline.put_quotes(leg.contract, begin, end, quotes[0, place], quotes[1, place])
        else:
            quotes[0, place], quotes[1, place] = timeline.quotes(leg.contract, begin, end)
            # what is not recorded has no sides either
            seen = quotes[0, place] >= 0
            quotes[0, place] -= half // leg.contract.divisor * seen
            quotes[1, place] += half // leg.contract.divisor * seen
    bid, ask = quotes
    good = usable(bid, ask)
    legs = []
    for row, leg in enumerate(trade.legs):
        opened_as, opened_at = before_splits(trade, leg) if trade.closed_legs else (None, leg.opened_at)
        legs.append(PositionLeg(
            leg.leg_id, leg.contract, leg.contracts, leg.opened_parts, bid[row], ask[row], good[row], leg.best,
            opened_at or trade.opened_at, opened_as,
        ))  # fmt: skip
    return _joined(plan, market, begin, legs, bid, ask, good, trade, trade.opening, trade.realised, trade.best)


def _joined(
    plan: Plan, market: Market, begin: int, legs: Sequence[PositionLeg], bid: IntArray, ask: IntArray, good: BoolArray,
    trade: TradeState, opening: int, realised: int, best: int | None,
) -> Stretch:  # fmt: skip
    """Legs together, their quotes ``(legs, n)``: marks, and the highest of them."""
    timeline, end = market.on_clock(trade.symbol), begin + bid.shape[1]
    contracts = np.array([leg.contracts for leg in legs], np.int64)
    paid = sum(leg.contracts * leg.opened_parts for leg in legs)
    spreads = np.array([0 if leg.contract.is_unit else abs(leg.contracts) for leg in legs], np.int64)
    settings = plan.strategy.orders["doubtful_marks"]
    mid, closable, valued, doubtful, highest_so_far = marked(
        bid, ask, good, contracts, spreads, realised - paid, settings["percent"] * abs(opening),
        timeline.last_of_several[begin:end], settings["last"] == "wait", NEVER if best is None else best,
    )  # fmt: skip

    def narrow(names: Sequence[str]) -> Stretch:
        rows = [row for row, leg in enumerate(legs) if leg.leg_id in names]
        own = [legs[row] for row in rows]
        premium = -sum(leg.contracts * leg.opened_parts for leg in own if not leg.contract.is_unit)
        highest = own[0].best if len(own) == 1 else None
        return _joined(plan, market, begin, own, bid[rows], ask[rows], good[rows], trade, premium, 0, highest)

    base = 0 if with_units(legs) else opening
    return Stretch(
        legs, base, trade.opened_on, timeline.calendar, timeline.ordinal[begin:end],
        partial(timeline.reached, begin=begin, end=end), timeline.spot[begin:end], closable, mid, valued, doubtful,
        highest_so_far, narrow=narrow, market=market, symbol=trade.symbol, begin=begin,
        opened_at=trade.opened_at, worth=float(timeline.underlying.quantum) / PARTS * timeline.multiplier(trade.opened_on),
        adjustments=trade.adjustments, memory=trade.memory,
    )  # fmt: skip


@njit(cache=True, nogil=True, error_model="numpy")
def marked(
    bid: IntArray, ask: IntArray, good: BoolArray, contracts: IntArray, spreads: IntArray, before: int, widest: int,
    last: BoolArray, waits: bool, best: int,
) -> tuple[IntArray, IntArray, BoolArray, BoolArray, IntArray]:  # fmt: skip
    """Quotes of legs ``(legs, n)`` as marks of all of them ``(n,)``: mid and closable P/L, whether they are valued,
    whether they are doubtful, the highest mid so far. ``before``: P/L that no quote changes; ``spreads``: contracts whose
    spreads add up to a mark's width, of which a hundredfold is doubtful beyond ``widest``; ``waits``: as is the ``last``
    snapshot of a session; ``best``: the highest mid before."""
    legs, n = bid.shape
    mid, closable, highest = np.empty(n, np.int64), np.empty(n, np.int64), np.empty(n, np.int64)
    valued, doubtful = np.empty(n, np.bool_), np.empty(n, np.bool_)
    for i in range(n):
        middle, closing, width, all_good = before, before, 0, True
        for leg in range(legs):
            low, high = bid[leg, i], ask[leg, i]
            middle += contracts[leg] * ((low + high) >> 1)
            closing += contracts[leg] * (high if contracts[leg] < 0 else low)
            width += spreads[leg] * (high - low)
            all_good &= good[leg, i]
        mid[i], closable[i], valued[i] = middle, closing, all_good
        # without a quote of every leg there is no mark that could be firm
        doubtful[i] = not all_good or width * 100 > widest or (waits and last[i])
        if all_good and middle > best:
            best = middle
        highest[i] = best
    return mid, closable, valued, doubtful, highest


@njit(cache=True, nogil=True, error_model="numpy")
def usable(bid: IntArray, ask: IntArray) -> BoolArray:
    """:func:`strell_core.market.view.valid_quotes` of quotes ``(legs, n)``."""
    legs, n = bid.shape
    good = np.empty((legs, n), np.bool_)
    for leg in range(legs):
        for i in range(n):
            good[leg, i] = valid_quote(bid[leg, i], ask[leg, i])
    return good


def known_by_pnl(
    timeline: Timeline, index: int, opened_on: dt.date, opening: int, pnl: tuple[int, int] | None
) -> Stretch:
    """A position of which premium and P/L (mid, closable) are known and its legs are not, at one snapshot; ``None``:
    unvalued. Nobody doubts its marks."""
    mid, closable = (np.array([value], np.int64) for value in pnl or (0, 0))
    valued = np.array([pnl is not None])

    def narrow(names: Sequence[str]) -> Stretch:
        raise ValueError("the legs of this position are not known")

    here = slice(index, index + 1)
    return Stretch(
        (), opening, opened_on, timeline.calendar, timeline.ordinal[here],
        partial(timeline.reached, begin=index, end=index + 1), timeline.spot[here], closable, mid, valued, np.zeros(1, np.bool_), np.where(valued, mid, NEVER), narrow=narrow,
        market=market_of(timeline), begin=index,
    )  # fmt: skip


def with_best(trade: TradeState, best: int) -> TradeState:
    """The trade with its best P/L so far, if it has one."""
    return changed(trade, best=best) if best > NEVER and best != trade.best else trade


def with_paths(plan: Plan, trade: TradeState, ahead: Stretch) -> TradeState:
    """The trade at the end of a stretch: its best P/L so far, its legs' where a rule looks at legs, and what its conditions
    need of the past."""
    trade = with_best(trade, int(ahead.best[-1]))
    asked = plan.entry(trade.entry).remembers
    if asked:
        trade = changed(trade, memory=remember(asked, ahead.frame))
    if plan.looks_at_legs:
        found = (int(ahead.narrow([leg.leg_id]).best[-1]) for leg in trade.legs)
        highest = [best if best > NEVER else None for best in found]
        if highest != [leg.best for leg in trade.legs]:
            pairs = zip(trade.legs, highest, strict=True)
            trade = changed(trade, legs=tuple(changed(leg, best=best) for leg, best in pairs))
    return trade


@njit(cache=True, nogil=True, error_model="numpy")
def carried_over(bid: IntArray, ask: IntArray, valid: BoolArray, opened: int) -> IntArray:
    """A held leg's mid in parts at every snapshot, its last valid one where there is none, else what it was ``opened``
    for. Shapes ``(n,)``; :func:`carried` says it of one."""
    mids, last = np.empty(len(bid), np.int64), opened
    for i in range(len(bid)):
        if valid[i]:
            last = (bid[i] + ask[i]) >> 1
        mids[i] = last
    return mids


@njit(cache=True, nogil=True, error_model="numpy")
def carried_at(bid: IntArray, ask: IntArray, valid: BoolArray, opened: int, at: int) -> int:
    """The same at one snapshot."""
    while at >= 0 and not valid[at]:
        at -= 1
    return opened if at < 0 else (bid[at] + ask[at]) >> 1


def carried(timeline: Timeline, trade: TradeState, leg: LegState, index: int) -> int:
    """Mid of a held leg at a snapshot in parts, else of its last valid quote since it was opened, else what it was
    opened for."""
    bid, ask = timeline.quote_at(leg.contract, index)
    if 0 <= bid <= ask and ask > 0:
        return (bid + ask) // 2
    since = int(np.searchsorted(timeline.times, leg.opened_at or trade.opened_at))
    bids, asks = timeline.quotes(leg.contract, since, max(since, index))
    known = np.flatnonzero(valid_quotes(bids, asks))
    return int(bids[known[-1]] + asks[known[-1]]) // 2 if len(known) else leg.opened_parts


@dataclass(frozen=True)
class TradeMark:
    """A trade at one instant, parts times contracts; ``None``: unvalued."""

    mid: int | None
    closable: int | None


def mark(plan: Plan, trade: TradeState, history: Market | Timeline, index: int) -> TradeMark:
    at = stretch(plan, trade, history, index, index + 1)
    return TradeMark(int(at.mid[0]), int(at.closable[0])) if at.valued[0] else TradeMark(None, None)

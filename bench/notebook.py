"""A backtest as it is written in a notebook, with pandas: what Strell's are measured beside."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import pandas as pd

from strell_core.market.chains import SessionChain
from strell_core.market.timeline import Timeline

POINTS = 0.05
"""Of a quantum."""
WITHIN = 0.15
"""How far from the wanted delta a strike is taken."""


@dataclass(frozen=True)
class Sheet:
    """What the notebook has in its first cell; times are minutes of the day."""

    legs: Sequence[tuple[bool, float, int]]
    """Call or put, delta, contracts; all in one expiration."""
    days: tuple[int, int, int]
    """To expiration, and its bounds."""
    weekdays: tuple[int, ...]
    at: int
    open_at_once: int
    target: float
    """Share of the credit at which it leaves with a profit; a mark wider than half of the credit is not trusted."""
    loss: float
    """The same with a loss."""
    leaves: tuple[int, int]
    """So many days before expiration, at a time."""


def quote_table(chains: Sequence[SessionChain], timeline: Timeline) -> pd.DataFrame:
    """One row a quote, as a notebook would have it from a file (made before the clock starts)."""
    parts = []
    for chain in chains:
        n, m = chain.bid.shape
        session = timeline.session_index(chain.date)
        assert session is not None
        index = int(timeline.first[session]) + np.arange(m)
        delta = np.full((n, m), np.nan)
        for row, contract in enumerate(chain.contracts):
            cube = timeline.cubes[contract.expiration]
            at = cube.row(contract.right, contract.strike)
            column = index - cube.start
            delta[row] = np.where(cube.delta[at, column] == -32768, np.nan, cube.delta[at, column] / 10_000)
        parts.append(
            pd.DataFrame(
                {
                    "time": np.tile(chain.times, n),
                    "expiration": np.repeat([c.expiration.toordinal() for c in chain.contracts], m),
                    "right": np.repeat([c.right == "call" for c in chain.contracts], m),
                    "strike": np.repeat([c.strike for c in chain.contracts], m),
                    "bid": chain.bid.ravel() * POINTS, "ask": chain.ask.ravel() * POINTS, "delta": delta.ravel(),
                }
            )
        )  # fmt: skip
    return pd.concat(parts, ignore_index=True)


def notebook(quotes: pd.DataFrame, sheet: Sheet, dates: Sequence[dt.date]) -> list[dict[str, Any]]:
    """The way people write it: group by time, look at the slice, keep positions in dictionaries. ``dates``: sessions."""
    trades: list[dict[str, Any]] = []
    positions: list[dict[str, Any]] = []
    last_day, decided_today = None, False
    groups = quotes.groupby("time", sort=True)
    instants = pd.to_datetime(list(groups.groups), unit="s", utc=True).tz_convert("Europe/Lisbon")
    closes = {
        at
        for at, after in zip(instants, [*instants[1:], None], strict=True)
        if after is None or after.date() != at.date()
    }
    ordinals = np.array([date.toordinal() for date in dates])
    for now, (instant, chain) in zip(instants, groups, strict=True):
        if now.date() != last_day:
            last_day, decided_today = now.date(), False
            positions = [position for position in positions if position["order"] != "open"]
        usable = chain[(chain.bid >= 0) & (chain.ask > 0) & (chain.bid <= chain.ask + 1e-9)]
        clock, today = now.hour * 60 + now.minute, now.date().toordinal()
        for position in list(positions):
            legs, marks = position["legs"], []
            for expiration, right, strike, _ in legs:
                found = usable[(usable.expiration == expiration) & (usable.right == right) & (usable.strike == strike)]
                marks.append(found.iloc[0] if len(found) else None)
            if all(mark is not None for mark in marks):
                each = [(n, mark) for (*_, n), mark in zip(legs, marks, strict=True)]
                opening = sum(-n * (mark.bid if n < 0 else mark.ask) for n, mark in each)
                closing = sum(n * (mark.bid if n > 0 else mark.ask) for n, mark in each)
                mid = sum(n * (mark.bid + mark.ask) / 2 for n, mark in each)
                width = sum(abs(n) * (mark.ask - mark.bid) for n, mark in each)
                sold = all(mark.bid > 0 for n, mark in each if n < 0)
                if position["order"] == "open" and sold:
                    position.update(credit=opening, opened=instant, order="")
                elif position["order"] == "close":
                    trades.append({**position, "closed": instant, "pnl": position["credit"] + closing})
                    positions.remove(position)
                    continue
                if position["order"] == "":
                    credit = position["credit"]
                    lost = -(credit + mid) >= sheet.loss * credit - 1e-9
                    earned = credit + closing >= sheet.target * credit - 1e-9
                    if lost or (earned and width <= 0.5 * credit + 1e-9 and now not in closes):
                        position["order"] = "close"
            if position["order"] == "":
                day = ordinals[np.searchsorted(ordinals, legs[0][0] - sheet.leaves[0], side="right") - 1]
                if today > day or (today == day and clock >= sheet.leaves[1]):
                    position["order"] = "close"
        if decided_today or now.weekday() not in sheet.weekdays or clock < sheet.at:
            continue
        decided_today = True
        if len(positions) >= sheet.open_at_once:
            continue
        days = usable.expiration - today
        near = usable[(days >= sheet.days[1]) & (days <= sheet.days[2])]
        if not len(near):
            continue
        target = min(near.expiration.unique(), key=lambda e: (abs(e - today - sheet.days[0]), e))
        near = near[(near.expiration == target) & near.delta.notna()]
        wanted: list[tuple[int, bool, float, int]] = []
        for right, delta, contracts in sheet.legs:
            side = near[near.right == right]
            for _, other, strike, n in wanted:
                if n * contracts < 0 and other == right:
                    side = side[side.strike != strike]
            away = ((side.delta.abs() - delta).abs() * 10_000).round()
            outward = -side.strike if right else side.strike
            best = pd.DataFrame({"away": away, "outward": outward}).sort_values(["away", "outward"]).index[0]
            if away[best] > WITHIN * 10_000:
                break
            wanted.append((int(target), right, side.strike[best], contracts))
        if len(wanted) == len(sheet.legs):
            positions.append({"legs": wanted, "order": "open"})
    return trades

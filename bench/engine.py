"""The demo strangle over the five-minute part: ours against a plain pandas notebook, same trades."""

from __future__ import annotations

import time
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

from bench.timing import median_seconds, table
from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks, run_steps
from strell_core.formats.strategies import from_text
from strell_core.market.chains import SessionChain
from strell_core.market.timeline import Timeline
from strell_core.strategy.document import parse
from tests.demo import demo_chains, demo_history

STRANGLE = Path(__file__).resolve().parents[1] / "docs" / "strategies" / "harbour-strangle.yaml"
CASH = Decimal(50_000)


def quote_table(chains: list[SessionChain], timeline: Timeline) -> pd.DataFrame:
    """One row a quote, as a notebook would have it from a file (made before the clock starts)."""
    parts = []
    for chain in chains:
        n, m = chain.bid.shape
        session = timeline.session_index(chain.date)
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
                    "bid": chain.bid.ravel() * 0.05, "ask": chain.ask.ravel() * 0.05, "delta": delta.ravel(),
                }
            )
        )  # fmt: skip
    return pd.concat(parts, ignore_index=True)


def notebook(quotes: pd.DataFrame) -> list[dict[str, Any]]:
    """The way people write it: group by time, look at the slice, keep the position in a dictionary."""
    trades: list[dict[str, Any]] = []
    position: dict[str, Any] | None = None
    order = ""
    wanted: list[tuple[int, bool, int]] = []
    last_day = None
    decided_today = False
    groups = quotes.groupby("time", sort=True)
    for instant, chain in groups:
        now = pd.Timestamp(instant, unit="s", tz="UTC").tz_convert("Europe/Lisbon")
        if now.date() != last_day:
            last_day, decided_today = now.date(), False
            if order == "open":
                order = ""
        usable = chain[(chain.bid >= 0) & (chain.ask > 0) & (chain.bid <= chain.ask + 1e-9)]
        clock = now.hour * 60 + now.minute
        is_close = clock == 17 * 60 + 30

        def quote(leg: tuple[int, bool, int], rows: pd.DataFrame = usable) -> pd.Series | None:
            found = rows[(rows.expiration == leg[0]) & (rows.right == leg[1]) & (rows.strike == leg[2])]
            return found.iloc[0] if len(found) else None

        legs = wanted if order == "open" else position["legs"] if position else []
        marks = [quote(leg) for leg in legs]
        whole = bool(legs) and all(mark is not None for mark in marks)
        if order == "open" and whole and all(mark.bid > 0 for mark in marks):
            position = {"legs": wanted, "credit": sum(mark.bid for mark in marks), "opened": instant}
            order = ""
        elif order == "close" and whole:
            cost = sum(mark.ask for mark in marks)
            trades.append({**position, "closed": instant, "cost": cost})
            position, order = None, ""
        if position and order == "" and whole:
            cost, mid = sum(mark.ask for mark in marks), sum((mark.bid + mark.ask) / 2 for mark in marks)
            width = sum(mark.ask - mark.bid for mark in marks)
            credit = position["credit"]
            if mid - credit >= 1.5 * credit - 1e-9 or (
                credit - cost >= 0.5 * credit - 1e-9 and width <= 0.5 * credit + 1e-9 and not is_close
            ):
                order = "close"
        if position and order == "":
            left = position["legs"][0][0] - now.date().toordinal()
            if left <= 1 and clock >= 15 * 60 + 45:
                order = "close"
        if position is None and order == "" and not decided_today and now.weekday() in (0, 2) and clock >= 15 * 60 + 45:
            decided_today = True
            days = usable.expiration - now.date().toordinal()
            near = usable[(days >= 5) & (days <= 18)]
            if len(near):
                target = min(near.expiration.unique(), key=lambda e: (abs(e - now.date().toordinal() - 10), e))
                near = near[(near.expiration == target) & near.delta.notna()]
                wanted = []
                for right in (True, False):
                    side = near[near.right == right]
                    best = side.iloc[(side.delta.abs() - 0.20).abs().argsort(kind="stable").iloc[0]]
                    wanted.append((int(target), right, int(best.strike)))
                order = "open"
        if clock >= 15 * 60 + 45 and now.weekday() in (0, 2):
            decided_today = True
    return trades


def run() -> None:
    timeline = demo_history()
    plan = make_plan(parse(from_text(STRANGLE.read_text())), timeline)
    begin, end = int(timeline.first[630]), len(timeline.times)
    quotes = quote_table(list(demo_chains()[630:]), timeline)
    began = time.perf_counter()
    by_hand = notebook(quotes)
    slow = time.perf_counter() - began
    ours = run_blocks(plan, timeline, begin, end, CASH)
    mine = [(t.opened_at, t.closed_at, round(t.gross / 2000 * 0.05, 2)) for t in ours.closed]
    theirs = [(t["opened"], t["closed"], round(t["credit"] - t["cost"], 2)) for t in by_hand]
    same = sum(a == b for a, b in zip(mine, theirs, strict=False))
    blocks = median_seconds(lambda: run_blocks(plan, timeline, begin, end, CASH), 9)
    steps = median_seconds(lambda: run_steps(plan, timeline, begin, end, CASH), 3)
    whole = median_seconds(lambda: run_blocks(plan, timeline, 0, end, CASH), 9)
    table(
        f"Backtest of the demo strangle, 120 five-minute sessions, {end - begin} snapshots, {len(quotes) / 1e6:.1f} million quotes",
        ("method", "seconds", "blocks are faster by", "trades"),
        [
            ("Strell, blocks", f"{blocks:.4f}", "", str(len(mine))),
            ("Strell, one snapshot after another", f"{steps:.3f}", f"{steps / blocks:.0f}", str(len(mine))),
            ("pandas notebook", f"{slow:.1f}", f"{slow / blocks:.0f}", f"{len(theirs)}, {same} of them the same"),
            ("Strell, blocks, all 750 sessions", f"{whole:.4f}", "", str(len(run_blocks(plan, timeline, 0, end, CASH).closed))),
        ],
    )  # fmt: skip

"""Backtests beside a plain pandas notebook that opens and closes the same trades: the demo strangle over the five-minute part, and a
45-day condor with three exits over a year of five-minute sessions."""

from __future__ import annotations

import time
from collections.abc import Sequence
from decimal import Decimal
from pathlib import Path
from typing import Any

import numpy as np
from numba import njit

from bench.notebook import Sheet, notebook, quote_table
from bench.timing import median_seconds, table
from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks, run_steps
from strell_core.engine.variants import Variants
from strell_core.formats.strategies import from_text
from strell_core.market.chains import SessionChain
from strell_core.market.market import market_of
from strell_core.market.timeline import Timeline
from strell_core.scenario.generator import Settings
from strell_core.strategy.document import normalise, parse
from tests.demo import chains, demo_chains, demo_history, history

STRANGLE = Path(__file__).resolve().parents[1] / "docs" / "strategies" / "harbour-strangle.yaml"
CASH = Decimal(500_000)
EVERY_DAY = ["mon", "tue", "wed", "thu", "fri"]
YEAR = Settings(sessions=252, intraday=252)


def strangle() -> tuple[dict[str, Any], Sheet]:
    sheet = Sheet(
        [(True, 0.2, -1), (False, 0.2, -1)], (10, 5, 18), (0, 2), 15 * 60 + 45, 1, 0.5, 1.5, (1, 15 * 60 + 45)
    )
    return from_text(STRANGLE.read_text()), sheet


def condor() -> tuple[dict[str, Any], Sheet]:
    """Sold at deltas of 0.16, bought at 0.05, three at once; it leaves at half of its credit, at a loss of twice that, and 21 days
    before expiration."""
    legs = [(False, 0.16, -1), (False, 0.05, 1), (True, 0.16, -1), (True, 0.05, 1)]
    picks = [
        {
            "rule": "leg", "side": "sell" if contracts < 0 else "buy", "right": "call" if call else "put", "ratio": 1,
            "strike": {"pick": "nearest_delta", "delta": delta},
            "expiry": {"pick": "same_expiration"} if place else {"pick": "nearest_days", "days": 45, "from": 35, "to": 55},
        }
        for place, (call, delta, contracts) in enumerate(legs)
    ]  # fmt: skip
    document = {
        "name": "condor", "underlyings": ["MK30"],
        "entries": [{
            "id": "entry", "when": [{"rule": "decision_times", "weekdays": EVERY_DAY, "time": "10:00"}],
            "conditions": [{"rule": "open_limit", "limit": 3}], "legs": picks, "size": [{"rule": "fixed_lots", "lots": 1}],
        }],
        "leave": [
            {"rule": "credit_target", "percent": 50}, {"rule": "premium_stop", "percent": 200},
            {"rule": "before_expiration", "days": 21, "time": "15:45"},
        ],
        "orders": [{"rule": "fill_model", "share": 100}],
    }  # fmt: skip
    return normalise(document), Sheet(legs, (45, 35, 55), (0, 1, 2, 3, 4), 600, 3, 0.5, 2.0, (21, 15 * 60 + 45))


@njit(cache=True, nogil=True)
def _read(flat: Any, begins: Any, counts: Any, steps: Any) -> int:
    """Every quote once, as it lies in memory."""
    total = 0
    for place in range(len(begins)):
        at = begins[place]
        for _ in range(counts[place]):
            total += flat[at]
            at += steps[place]
    return total


def reading(told: Variants, begin: int, end: int) -> tuple[float, int]:
    """Seconds that reading what a walk has touched takes by itself, and how many numbers that is: the chain of an expiration at each
    look at which it picked, bid, ask and delta, and bid and ask of held legs to their settlement."""
    known, tape = told.learned.known, told.learned.tape
    looks: list[tuple[int, int, int]] = []
    held: list[tuple[int, int, int]] = []
    for pick in known.picks.rows[: known.picks.count]:
        one = tape.expirations[pick["expiration"][0]]
        columns = int(one["end"] - one["start"])
        looks.append((int(one["cell"] + pick["index"] - one["start"]), 2 * int(one["strikes"]), columns))
    for opening in known.openings.rows[: known.openings.count]:
        pick = known.picks.rows[opening["picked"]]
        for leg in range(pick["legs"] if opening["filled"] else 0):
            one = tape.expirations[pick["expiration"][leg]]
            columns, until = int(one["end"] - one["start"]), min(end, int(one["settles_from"]), int(one["end"]))
            held.append(
                (
                    int(one["cell"] + pick["row"][leg] * columns + opening["index"] - one["start"]),
                    until - int(opening["index"]),
                    1,
                )
            )
    parts = [(flat, *np.array(rows, np.int64).T) for rows, flats in ((looks, (tape.bid, tape.ask, tape.delta)), (held, (tape.bid, tape.ask)))
             for flat in flats]  # fmt: skip
    for part in parts:
        _read(*part)
    numbers = 3 * sum(row[1] for row in looks) + 2 * sum(row[1] for row in held)
    return median_seconds(lambda: [_read(*part) for part in parts], 15), numbers


def beside(
    name: str, document: dict[str, Any], sheet: Sheet, chains_: Sequence[SessionChain], timeline: Timeline, begin: int
) -> None:
    plan, market, end = make_plan(parse(document), timeline), market_of(timeline), len(timeline.times)
    quotes = quote_table(chains_, timeline)
    began = time.perf_counter()
    by_hand = notebook(quotes, sheet, timeline.calendar.between(timeline.dates[0], max(timeline.cubes)))
    slow = time.perf_counter() - began
    ours = run_blocks(plan, timeline, begin, end, CASH)
    mine = [(t.opened_at, t.closed_at, round(t.gross / 2000 * 0.05, 2)) for t in ours.closed]
    theirs = [(t["opened"], t["closed"], round(t["pnl"], 2)) for t in by_hand]
    same = sum(a == b for a, b in zip(mine, theirs, strict=False))
    walk = Variants(market, begin, end)
    told = walk.run(plan, CASH)
    if told.pnl.tolist() != [int(t.pnl * 100) for t in ours.closed]:
        raise SystemExit("the walk does not tell what the run tells")
    read, numbers = reading(walk, begin, end)
    rows = [
        (
            f"pandas notebook, {len(quotes) / 1e6:.1f} million rows",
            f"{slow:.1f}",
            "",
            f"{len(theirs)}, {same} of them the same",
        )
    ]
    for how, run, times in (
        ("Strell, compiled: trades with fills, P/L and equity", lambda: Variants(market, begin, end).run(plan, CASH), 15),
        ("Strell, blocks: with every decision, reason and entry", lambda: run_blocks(plan, timeline, begin, end, CASH), 7),
        ("Strell, one snapshot after another", lambda: run_steps(plan, timeline, begin, end, CASH), 1),
    ):  # fmt: skip
        seconds = median_seconds(run, times)
        rows.append((how, f"{seconds:.5f}", f"{slow / seconds:,.0f}", str(len(mine))))
    rows.append((f"reading the {numbers / 1e6:.2f} million numbers it touched once", f"{read:.5f}", "", ""))
    table(f"{name}, {end - begin} snapshots", ("method", "seconds", "beside the notebook", "trades"), rows)


def run() -> None:
    timeline = demo_history()
    beside(
        "The demo strangle over its 120 five-minute sessions",
        *strangle(),
        demo_chains()[630:],
        timeline,
        int(timeline.first[630]),
    )
    beside(
        "A 45-day condor with three exits over a year of five-minute sessions",
        *condor(),
        list(chains(YEAR)),
        history(YEAR),
        0,
    )

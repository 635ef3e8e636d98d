"""A run's trades told apart: where the columns of its slices come from."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np
import numpy.typing as npt
from django.contrib.auth.models import User

from config.errors import Refused
from market.own import market_for
from runs.models import Run
from runs.rows import ENDS
from strell_core.measures.frames import Frame
from strell_core.measures.measure import MarketMeasure, load
from strell_core.results import metrics
from strell_core.results.slices import Column, Names, Numbers, mean_range, sliced
from strell_core.strategy.document import clock_of
from strell_core.strategy.sentences import sheet

WEEKDAYS = {
    "Mon": "Monday", "Tue": "Tuesday", "Wed": "Wednesday", "Thu": "Thursday", "Fri": "Friday", "Sat": "Saturday", "Sun": "Sunday",
}  # fmt: skip
MONTHS = [
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
]
OTHER_ENDS = {"settlement": "settled in cash", "split": "closed at a split", **ENDS}
MOST_MEASURES = 6


@dataclass(frozen=True)
class Facts:
    """A finished run's trades as columns; what is known of them without its market."""

    numbers: npt.NDArray[np.int64]
    pnl: npt.NDArray[np.float64]
    symbols: npt.NDArray[np.str_]
    """The underlying of each."""
    decided_at: npt.NDArray[np.int64]
    columns: tuple[Column, ...]


def facts(run: Run) -> Facts:
    """Read once a run: a finished one never changes."""
    return _facts(run.pk, run.finished_at)


@lru_cache(maxsize=32)
def _facts(run_id: int, finished_at: dt.datetime) -> Facts:
    run = Run.objects.select_related("revision").get(pk=run_id)
    found = list(run.trades.values_list("row", "trade__decided_at", "trade__entry"))
    rows = [row for row, _, _ in found]
    return Facts(
        np.array([row["number"] for row in rows], np.int64), _numbers(rows, "pnl"),
        np.array([row.get("symbol") or clock_of(run.document) for row in rows], dtype=np.str_),
        np.array([decided for _, decided, _ in found], np.int64),
        tuple(_columns(run.document, rows, [entry or "" for _, _, entry in found])),
    )  # fmt: skip


def _numbers(rows: Sequence[dict[str, Any]], name: str) -> npt.NDArray[np.float64]:
    return np.array([np.nan if row.get(name) is None else row[name] for row in rows], np.float64)


def _columns(document: dict[str, Any], rows: list[dict[str, Any]], entries: list[str]) -> list[Column]:
    """What every trade has to be told apart by, without columns in which all are alike."""
    times = [row["decided"][11:16] for row in rows]
    years, months = [row["opened"][:4] for row in rows], [row["opened"][5:7] for row in rows]
    known = sheet(document)
    exits = [row["rule"] for row in rows]
    by_number = sorted(set(exits), key=lambda rule: known.numbered(rule) or 999)
    whens = {e["id"]: e.get("name") or f"Entry {n}" for n, e in enumerate(document["entries"], 1)}
    lots = _numbers(rows, "lots")
    symbols = [row.get("symbol") or clock_of(document) for row in rows]
    columns: list[Column] = [
        Names("weekday", "Weekday", [row["weekday"] for row in rows], WEEKDAYS),
        Names("time", "Decided at", times, {time: time for time in sorted(set(times))}),
        Names("exit", "Left by", exits, {rule: _end(known, rule) for rule in by_number}),
        Names("entry", "Entry", entries, whens),
        Names("underlying", "Underlying", symbols, {symbol: symbol for symbol in sorted(set(symbols))}),
        Numbers("dte", "Days to expiration", _numbers(rows, "dte"), "days"),
        Numbers("held", "Days held", _numbers(rows, "held"), "days"),
        Numbers("delta", "Delta of a lot", _numbers(rows, "delta"), "", 0.01),
        Numbers("premium", "Premium of a lot", _numbers(rows, "credit") / lots, "", 1.0),
        Numbers("lots", "Lots", lots, ""),
        Names("year", "Year", years, {year: year for year in sorted(set(years))}),
        Names("month", "Month", months, {f"{n:02d}": name for n, name in enumerate(MONTHS, 1)}),
    ]  # fmt: skip
    return [column for column in columns if _differs(column)]


def _differs(column: Column) -> bool:
    if isinstance(column, Names):
        return len(set(column.values)) > 1
    known = column.values[~np.isnan(column.values)]
    return len(known) > 0 and bool(np.ptp(known) > 0)


def _end(known: Any, rule: str) -> str:
    sentence = known.sentence(rule)
    return f"{sentence.number}  {sentence.text}" if sentence else OTHER_ENDS.get(rule, rule)


def market_measures() -> list[MarketMeasure]:
    """Measures of a market that need no value of one's own: what trades may be told apart by beside their own facts."""
    found = [
        measure for measure in load().all()
        if isinstance(measure, MarketMeasure) and measure.declaration.scope in ("market", "clock")
        and not measure.declaration.problems(measure.declaration.defaults())
    ]  # fmt: skip
    return sorted(found, key=lambda measure: measure.declaration.title)


def measured(run: Run, owner_id: int, names: Sequence[str]) -> list[Numbers]:
    """Measures of each trade's underlying as they stood at its decision, in the market as it is recorded today."""
    known = {measure.declaration.id: measure for measure in market_measures()}
    unknown = next((name for name in names if name not in known), None)
    if unknown is not None or len(names) > MOST_MEASURES:
        said = f"There is no measure {unknown!r} of the market." if unknown else f"At most {MOST_MEASURES} measures."
        raise Refused(said, [{"path": "measure", "message": said}])
    market = market_for(run.document, owner_id)
    held = facts(run)
    places = np.maximum(np.searchsorted(market.main.times, held.decided_at, side="right") - 1, 0)
    out = []
    for name in dict.fromkeys(names):
        declaration = known[name].declaration
        values = np.full(len(places), np.nan)
        for symbol in set(held.symbols.tolist()):
            mine = held.symbols == symbol
            frame = Frame(market, 0, len(market.main.times), symbol)
            values[mine] = known[name].over(frame, declaration.defaults())[places[mine]]
        out.append(Numbers(name, declaration.title, values, declaration.unit, declaration.grid or 0.01))
    return out


def slices(user: User, run: Run, choices: Sequence[str], measures: Sequence[str]) -> dict[str, Any]:
    """Cells of every column under ``choices`` (each ``column:key``), and what the trades that they leave made."""
    if run.status != Run.Status.DONE:
        raise Refused(f"Run {run.number} has no result to slice: it is {run.status}.")
    held = facts(run)
    chosen: dict[str, list[str]] = {}
    for choice in choices:
        column, _, key = choice.partition(":")
        chosen.setdefault(column, []).append(key)
    extra = measured(run, user.pk, measures) if measures else []
    columns = [*held.columns, *(column for column in extra if _differs(column))]
    found = sliced(columns, held.pnl, chosen)
    left = np.flatnonzero(found.chosen)
    pnl = held.pnl[left]
    made = metrics.figures_of_pnl(pnl)
    return {
        "columns": [
            {
                "id": column.id, "title": column.title, "measure": isinstance(column, Numbers) and column in extra,
                "cells": [
                    {**vars(cell), "chosen": cell.key in chosen.get(column.id, ())} for cell in found.cells[column.id]
                ],
            }
            for column in columns
        ],
        "trades": held.numbers[left].tolist(),
        "chosen": {
            "count": made.count, "win_rate": made.win_rate, "mean": made.expectancy, "likely": mean_range(pnl),
            "total": float(pnl.sum()), "worst": made.worst, "profit_factor": made.profit_factor,
        },
    }  # fmt: skip

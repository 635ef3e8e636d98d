"""The memory-mapped cache of a timeline: built once from session chains, opened in milliseconds.

A cache is a folder: one flat file a field, and ``index.json`` that says where each expiration lies.
It appears under its final name only when it is complete, so a crash leaves nothing half-made.
"""

from __future__ import annotations

import datetime as dt
import json
import os
import shutil
from bisect import bisect_left
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from strell_core.market.calendars import SessionCalendar
from strell_core.market.chains import NO_QUOTE, SessionChain
from strell_core.market.daily import DailyHistory
from strell_core.market.dividends import Dividend, to_come
from strell_core.market.instruments import Underlying
from strell_core.market.prices import SPOT_SCALE
from strell_core.market.splits import Split
from strell_core.market.tape import Flat
from strell_core.market.timeline import ExpirationCube, Timeline
from strell_core.market.view import NO_DELTA
from strell_core.pricing import premium_table
from strell_core.pricing.black import YEAR_SECONDS, delta_grid

LAYOUT = 4
Deltas = dict[tuple[dt.date, dt.date, int], npt.NDArray[np.int16]]
"""Deltas by session, expiration and epoch second, in the order of the session's chain."""
_FIELDS = {"bid": "<i4", "ask": "<i4", "iv": "<u2", "delta": "<i2"}
ATM_DAYS = 30


def build(
    folder: Path, chains: Callable[[], Iterable[SessionChain]], underlying: Underlying, calendar: SessionCalendar,
    digest: str,
) -> None:  # fmt: skip
    """Write the cache of the sessions that ``chains()`` yields in order (it is called twice)."""
    work = folder.with_name(f"{folder.name}.{os.getpid()}.part")
    shutil.rmtree(work, ignore_errors=True)
    work.mkdir(parents=True)
    index = _plan(chains(), calendar, underlying)
    flat = {
        name: np.memmap(work / name, dtype, "w+", shape=(max(1, index["cells"]),)) for name, dtype in _FIELDS.items()
    }
    axis = _fill(index, chains(), flat, underlying, calendar)
    for values in flat.values():
        values.flush()
    np.savez(work / "axis.npz", **axis)
    (work / "index.json").write_text(json.dumps({**index, "digest": digest, "layout": LAYOUT}))
    if folder.exists():
        shutil.rmtree(work)
    else:
        work.rename(folder)


def in_memory(
    chains: Sequence[SessionChain], underlying: Underlying, calendar: SessionCalendar, digest: str,
    past: DailyHistory | None = None, unfinished: bool = False, deltas: Deltas | None = None,
) -> Timeline:  # fmt: skip
    """A timeline of a few sessions without files: what is being traded. ``past`` is what daily
    measures know of the sessions before them; ``deltas`` keeps what was computed for the next time, while the terms are
    the same."""
    index = _plan(chains, calendar, underlying)
    flat: dict[str, Any] = {name: np.empty(max(1, index["cells"]), dtype) for name, dtype in _FIELDS.items()}
    axis = _fill(index, chains, flat, underlying, calendar, deltas)
    return _timeline({**index, "digest": digest}, axis, flat, underlying, calendar, past, unfinished)


def _fill(
    index: dict[str, Any],
    chains: Iterable[SessionChain],
    flat: dict[str, Any],
    underlying: Underlying,
    calendar: SessionCalendar,
    deltas: Deltas | None = None,
) -> dict[str, Any]:
    """Write quotes into ``flat``; gives the arrays along the time axis."""
    n = index["times_total"]
    flat["bid"][:] = NO_QUOTE
    flat["ask"][:] = NO_QUOTE
    flat["iv"][:] = 0
    flat["delta"][:] = NO_DELTA
    forward = np.full(index["forward_cells"], np.nan)
    interest = np.zeros(index["interest_cells"], np.int32)
    times, spot = np.empty(n, np.int64), np.empty(n, np.int32)
    settlement, atm, traded = [], [], []
    for number, chain in enumerate(chains):
        a = index["first"][number]
        m = len(chain.times)
        times[a : a + m], spot[a : a + m] = chain.times, chain.spot
        settlement.append(chain.settlement)
        atm.append(_atm_iv(chain))
        traded.append(_traded(chain))
        _place(index, number, chain, flat, forward, interest, underlying, calendar, deltas)
    return {
        "times": times, "spot": spot, "settlement": np.array(settlement, np.int32), "atm": np.array(atm),
        "forward": forward, "interest": interest, "traded": np.array(traded, np.float64).reshape(-1, 2).T,
    }  # fmt: skip


def _plan(chains: Iterable[SessionChain], calendar: SessionCalendar, underlying: Underlying) -> dict[str, Any]:
    first, dates = [0], []
    found: dict[dt.date, dict[str, Any]] = {}
    for number, chain in enumerate(chains):
        dates.append(chain.date.isoformat())
        for contract in chain.contracts:
            if contract.settles:
                raise ValueError(f"{contract.code} has a settlement of its own, which a cache cannot hold yet")
            if contract.expiration not in found:
                found[contract.expiration] = {"session": number, "start": first[-1], "strikes": set()}
            found[contract.expiration]["strikes"].add(contract.strike)
        first.append(first[-1] + len(chain.times))
        for expiration in chain.expirations:
            found[expiration].update(last=number, end=first[-1])
    cells = forward_cells = interest_cells = 0
    table = []
    for expiration in sorted(found):
        entry = found[expiration]
        columns, sessions = entry["end"] - entry["start"], entry["last"] - entry["session"] + 1
        strikes = sorted(entry["strikes"])
        table.append(
            {
                "expiration": expiration.isoformat(), "settles": calendar.settlement(expiration, underlying.on(expiration).settles),
                "start": entry["start"], "columns": columns, "session": entry["session"], "sessions": sessions,
                "strikes": strikes, "cell": cells, "forward": forward_cells, "interest": interest_cells,
            }
        )  # fmt: skip
        cells += 2 * len(strikes) * columns
        forward_cells += columns
        interest_cells += 2 * len(strikes) * sessions
    return {
        "dates": dates, "first": first, "times_total": first[-1], "cells": cells, "forward_cells": forward_cells,
        "interest_cells": interest_cells, "expirations": table,
    }  # fmt: skip


def _place(
    index: dict[str, Any], number: int, chain: SessionChain, flat: dict[str, Any], forward: Any, interest: Any,
    underlying: Underlying, calendar: SessionCalendar, deltas: Deltas | None,
) -> None:  # fmt: skip
    table = {entry["expiration"]: entry for entry in index["expirations"]}
    dividends = [Dividend(date, amount) for date, amount in underlying.dividends]
    underlying = underlying.on(chain.date)
    m, a = len(chain.times), index["first"][number]
    begin = 0
    for rank, expiration in enumerate(chain.expirations):
        entry = table[expiration.isoformat()]
        end = begin
        while end < len(chain.contracts) and chain.contracts[end].expiration == expiration:
            end += 1
        strikes, columns = entry["strikes"], entry["columns"]
        position = {strike: i for i, strike in enumerate(strikes)}
        rows = np.array(
            [position[c.strike] + (0 if c.right == "call" else len(strikes)) for c in chain.contracts[begin:end]]
        )
        at, shape = a - entry["start"], (2 * len(strikes), columns)
        window = slice(entry["cell"], entry["cell"] + shape[0] * shape[1])
        for name, values in (("bid", chain.bid), ("ask", chain.ask), ("iv", chain.iv)):
            flat[name][window].reshape(shape)[rows, at : at + m] = values[begin:end]
        sign = np.array([1 if c.right == "call" else -1 for c in chain.contracts[begin:end]], np.int64)
        strike = np.array([c.strike for c in chain.contracts[begin:end]], np.float64)
        rate = underlying.interest(chain.date, expiration)
        found = np.empty((m, end - begin), np.int16)
        ivs = np.ascontiguousarray(chain.iv[begin:end].T)
        for t in range(m):
            key = (chain.date, expiration, int(chain.times[t]))
            if deltas is not None and key in deltas:
                found[t] = deltas[key]
                continue
            years = max(0.0, (entry["settles"] - int(chain.times[t])) / YEAR_SECONDS)
            future = float(chain.forward[rank, t])
            if underlying.american:
                price = int(chain.spot[t]) / 100
                seconds, paid = to_come(dividends, calendar, int(chain.times[t]), entry["settles"])
                found[t] = premium_table.delta_grid(
                    price, future, strike, years, ivs[t], rate, seconds / YEAR_SECONDS, paid, sign
                )
            else:
                found[t] = delta_grid(future, strike, years, ivs[t], rate, sign)
            if deltas is not None:
                deltas[key] = found[t]
        flat["delta"][window].reshape(shape)[rows, at : at + m] = found.T
        forward[entry["forward"] + at : entry["forward"] + at + m] = chain.forward[rank]
        cells = interest[entry["interest"] : entry["interest"] + shape[0] * entry["sessions"]]
        cells.reshape(shape[0], entry["sessions"])[rows, number - entry["session"]] = chain.open_interest[begin:end]
        begin = end


def _atm_iv(chain: SessionChain) -> float:
    """Percent; NaN in a session without listed options or without IV at the money."""
    if not chain.expirations:
        return float("nan")
    target = min(range(len(chain.expirations)), key=lambda i: abs((chain.expirations[i] - chain.date).days - ATM_DAYS))
    forward = float(chain.forward[target, -1])
    calls = [
        (abs(c.strike - forward), i)
        for i, c in enumerate(chain.contracts)
        if c.expiration == chain.expirations[target] and c.right == "call" and chain.iv[i, -1] > 0
    ]
    return float(chain.iv[min(calls)[1], -1]) / 100.0 if calls and np.isfinite(forward) else float("nan")


def _traded(chain: SessionChain) -> tuple[float, float]:
    """Contracts of puts and calls that were traded; NaN where no volume is told."""
    calls = np.array([contract.right == "call" for contract in chain.contracts], np.bool_)
    volume = np.maximum(chain.volume, 0)
    return (float(volume[~calls].sum()), float(volume[calls].sum())) if volume.any() else (np.nan, np.nan)


def open_timeline(folder: Path, underlying: Underlying, calendar: SessionCalendar) -> Timeline:
    """Open a cache; raises ``FileNotFoundError`` if it is not there or of another layout."""
    index = json.loads((folder / "index.json").read_text())
    if index["layout"] != LAYOUT:
        raise FileNotFoundError(f"{folder} has layout {index['layout']}, wanted is {LAYOUT}")
    axis = dict(np.load(folder / "axis.npz"))
    flat: dict[str, Any] = {name: np.memmap(folder / name, dtype, "r") for name, dtype in _FIELDS.items()}
    return _timeline(index, axis, flat, underlying, calendar)


def _ranges(spot: npt.NDArray[np.int32], first: npt.NDArray[np.int64]) -> npt.NDArray[np.float64]:
    """First, highest and lowest price of every session in points; NaN where it has one snapshot."""
    price = spot / SPOT_SCALE
    found: npt.NDArray[np.float64] = np.array(
        [price[first[:-1]], np.maximum.reduceat(price, first[:-1]), np.minimum.reduceat(price, first[:-1])]
    )
    found[:, np.diff(first) == 1] = np.nan
    return found


def _timeline(
    index: dict[str, Any], axis: dict[str, Any], flat: dict[str, Any], underlying: Underlying,
    calendar: SessionCalendar, past: DailyHistory | None = None, unfinished: bool = False,
) -> Timeline:  # fmt: skip
    cubes: dict[dt.date, ExpirationCube] = {}
    for entry in index["expirations"]:
        expiration = dt.date.fromisoformat(entry["expiration"])
        shape = (2 * len(entry["strikes"]), entry["columns"])
        window = slice(entry["cell"], entry["cell"] + shape[0] * shape[1])
        cells = axis["interest"][entry["interest"] : entry["interest"] + shape[0] * entry["sessions"]]
        quotes = {name: np.asarray(values[window]).reshape(shape) for name, values in flat.items()}
        cubes[expiration] = ExpirationCube(
            expiration, entry["settles"], entry["start"], np.array(entry["strikes"], np.float64), quotes["bid"],
            quotes["ask"], quotes["iv"], quotes["delta"],
            axis["forward"][entry["forward"] : entry["forward"] + entry["columns"]],
            cells.reshape(shape[0], entry["sessions"]), entry["session"],
        )  # fmt: skip
    dates = tuple(dt.date.fromisoformat(text) for text in index["dates"])
    first = np.array(index["first"], np.int64)
    splits = tuple(Split(date, ratio) for date, ratio in underlying.splits)
    ranges = _ranges(axis["spot"], first)
    daily = DailyHistory(
        dates, axis["settlement"] / 100.0, axis["atm"], splits=splits, ranges=ranges, traded=axis["traded"]
    )
    if past is not None:
        known = bisect_left(past.dates, dates[0])
        daily = DailyHistory(
            (*past.dates[:known], *dates), np.concatenate([past.close[:known], daily.close]),
            np.concatenate([past.atm_iv[:known], daily.atm_iv]), known, splits,
            np.concatenate([[past.open[:known], past.high[:known], past.low[:known]], ranges], axis=1),
            np.concatenate([[past.puts_traded[:known], past.calls_traded[:known]], axis["traded"]], axis=1),
        )  # fmt: skip
    # what settles at the open does so at the first price of its session
    at_open = np.array([underlying.on(date).settles == "open" for date in dates])
    official = np.where(at_open, axis["spot"][first[:-1]], axis["settlement"])
    made = Timeline(
        underlying, calendar, dates, first, axis["times"], axis["spot"], official, daily, cubes,
        index["digest"], unfinished,
    )  # fmt: skip
    cells = {dt.date.fromisoformat(entry["expiration"]): entry["cell"] for entry in index["expirations"]}
    made.flat = Flat(np.asarray(flat["bid"]), np.asarray(flat["ask"]), np.asarray(flat["delta"]), cells)
    return made

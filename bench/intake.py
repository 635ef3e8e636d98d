"""Loading chains: quotes a second with implied volatilities, memory, bytes a quote; beside pandas in the same run.

The file is written from the scenario's own five-minute sessions. Ours: read, check, lay aside by session,
build with volatilities, compress. The baselines do less: they read, pair calls and puts and solve for the
volatilities out of the money with SciPy, over all rows at once and row by row.
"""

from __future__ import annotations

import math
import multiprocessing
import resource
import tempfile
import time
from pathlib import Path

import numpy as np
import pandas as pd
from scipy.optimize import brentq, elementwise
from scipy.special import ndtr
from scipy.stats import norm

from bench.timing import table
from strell_core.formats.intake import export
from strell_core.formats.intake.rows import blocks, row_type
from strell_core.formats.intake.sessions import build
from strell_core.formats.intake.stage import Stage
from strell_core.formats.intake.tables import sample
from strell_core.market.calendars import marrowick
from strell_core.market.chains import SessionChain, encode
from strell_core.market.extras import encode_extras
from strell_core.scenario.generator import MK30, Scenario, Settings

SESSIONS = 8
CALENDAR = marrowick()


def run() -> None:
    with tempfile.TemporaryDirectory(prefix="strell-") as name:
        folder = Path(name)
        scenario = Scenario(Settings(sessions=60, intraday=SESSIONS))
        chains = [scenario.chain(index) for index in range(60 - SESSIONS, 60)]
        rows, speeds = 0, []
        for kind in ("csv", "parquet"):
            rows = export.write(folder / f"a.{kind}", (export.table(c, MK30, CALENDAR) for c in chains), kind)
        for kind in ("csv", "parquet"):
            with multiprocessing.get_context("spawn").Pool(1) as pool:
                taken, before, peak, size = pool.apply(_ours, (folder, kind))
            mb = (folder / f"a.{kind}").stat().st_size / 1e6
            speeds.append(
                (
                    f"{kind}, {mb:,.0f} MB",
                    f"{rows / taken:,.0f}",
                    f"{before:,.0f}",
                    f"{peak:,.0f}",
                    f"{size / rows:.2f}",
                )
            )
        for words, solve, count in (
            ("vectorised over all rows", "vectorised", 300_000), ("row by row", "by row", 20_000),
        ):  # fmt: skip
            with multiprocessing.get_context("spawn").Pool(1) as pool:
                taken, peak = pool.apply(_pandas, (folder, solve, count))
            name = f"pandas and SciPy {words}, {count:,} rows of the csv"
            speeds.append((name, f"{count / taken:,.0f}", "", f"{peak:,.0f}", ""))
    heads = ("file", "quotes a second, one process", "MB before", "MB at most", "bytes a quote stored")
    table(f"Loading {rows:,} quotes of {SESSIONS} five-minute sessions with volatilities", heads, speeds)
    _beside(chains[0])


def _memory() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1000


def _ours(folder: Path, kind: str) -> tuple[float, float, float, int]:
    _load(folder / f"a.{kind}", folder / "warm", 1)  # kernels are loaded once a process
    before = _memory()
    began = time.perf_counter()
    size = _load(folder / f"a.{kind}", folder / "stage", 10**9)
    return time.perf_counter() - began, before, _memory(), size


def _load(path: Path, place: Path, at_most: int) -> int:
    mapping = sample(path).mapping
    stage = Stage(place, row_type(mapping.columns))
    stage.clear()
    for number, block in enumerate(blocks(path, mapping, lambda _: CALENDAR)):
        stage.add(block.rows)
        if number + 1 >= at_most:
            break
    size = 0
    for symbol, date in stage.sessions():
        built = build(stage.rows(symbol, date), date, MK30, CALENDAR)
        assert built.chain is not None
        size += len(encode(built.chain))
    return size


def _beside(chain: SessionChain) -> None:
    """What optional fields take beside a session: last prices at bids, sizes, delivered volatility and delta."""
    rng = np.random.default_rng(1)
    shape = chain.bid.shape
    fields = {
        "last": np.maximum(chain.bid[:, :1] * 500, 0) + 0 * chain.bid, "bid_size": rng.integers(1, 60, shape),
        "ask_size": rng.integers(1, 60, shape), "volume": np.cumsum(rng.integers(0, 2, shape), axis=1),
        "iv": (chain.iv / 10_000).astype(np.float32), "delta": (chain.iv / 20_000).astype(np.float32),
    }  # fmt: skip
    rows = [(name, f"{len(encode_extras({name: values})) / chain.bid.size:.2f}") for name, values in fields.items()]
    table("Optional fields beside a five-minute session", ("field", "bytes a quote"), rows)


def _pandas(folder: Path, solve: str, count: int) -> tuple[float, float]:
    began = time.perf_counter()
    frame = pd.read_csv(folder / "a.csv", nrows=count)
    at = pd.to_datetime(frame["at"], utc=True)
    settles = pd.to_datetime(frame["expiration"] + " 17:30").dt.tz_localize("Europe/Lisbon").dt.tz_convert("UTC")
    frame["years"] = (settles - at).dt.total_seconds() / (365 * 86_400)
    frame["mid"] = (frame["bid"] + frame["ask"]) / 2
    frame = frame[(frame["bid"] > 0) & (frame["years"] > 0)]
    sides = frame.pivot_table(index=["at", "expiration", "years", "strike"], columns="right", values="mid").dropna()
    sides["gap"] = (sides["call"] - sides["put"]).abs()
    nearest = sides.groupby(["at", "expiration"])["gap"].idxmin()
    paired = sides.loc[nearest].reset_index()
    growth = np.exp(MK30.rate * paired["years"])
    paired["forward"] = paired["strike"] + (paired["call"] - paired["put"]) * growth
    frame = frame.merge(paired[["at", "expiration", "forward"]], on=["at", "expiration"])
    call = (frame["right"] == "call").to_numpy()
    out = np.where(call, frame["strike"] >= frame["forward"], frame["strike"] < frame["forward"])
    frame = frame[out]
    if solve == "vectorised":
        _solve(frame)
    else:
        frame.apply(_solve_row, axis=1)
    return time.perf_counter() - began, _memory()


def _solve_row(row: pd.Series) -> float:
    """Brent's method, as it is commonly written."""
    sign = 1.0 if row["right"] == "call" else -1.0
    spread, price = math.sqrt(row["years"]), row["mid"] * math.exp(MK30.rate * row["years"])
    away = math.log(row["forward"] / row["strike"])

    def miss(vol: float) -> float:
        d1 = away / (vol * spread) + 0.5 * vol * spread
        d2 = d1 - vol * spread
        return sign * (row["forward"] * norm.cdf(sign * d1) - row["strike"] * norm.cdf(sign * d2)) - price

    try:
        return float(brentq(miss, 1e-4, 5.0))
    except ValueError:
        return math.nan


def _solve(frame: pd.DataFrame) -> np.ndarray:
    """SciPy's vectorised bracketing root finder (Chandrupatla)."""
    f, k, t = (frame[name].to_numpy() for name in ("forward", "strike", "years"))
    sign = np.where(frame["right"] == "call", 1.0, -1.0)
    price = frame["mid"].to_numpy() * np.exp(MK30.rate * t)
    root, away = np.sqrt(t), np.log(f / k)

    def miss(vol: np.ndarray, f: np.ndarray, k: np.ndarray, root: np.ndarray, away: np.ndarray, sign: np.ndarray,
             price: np.ndarray) -> np.ndarray:  # fmt: skip
        d1 = away / (vol * root) + 0.5 * vol * root
        return sign * (f * ndtr(sign * d1) - k * ndtr(sign * (d1 - vol * root))) - price

    bracket = (np.full(len(f), 1e-4), np.full(len(f), 5.0))
    return elementwise.find_root(miss, bracket, args=(f, k, root, away, sign, price)).x

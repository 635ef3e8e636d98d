"""The demo's history for tests: generated once, kept in the state folder, made anew when code changes."""

from __future__ import annotations

import dataclasses
import datetime as dt
import hashlib
import math
import os
from collections.abc import Iterator, Sequence
from functools import cache
from pathlib import Path

import numpy as np

import strell_core
from strell_core.formats import cubes
from strell_core.market.calendars import marrowick
from strell_core.market.chains import SessionChain, decode
from strell_core.market.market import Market
from strell_core.market.series import DatedSeries
from strell_core.market.timeline import Timeline
from strell_core.scenario.generator import MK30, Settings
from strell_core.scenario.sessions import generate

STATE = Path(os.environ.get("STRELL_STATE", ".state")) / "test-history"
MADE_BY = ("market", "pricing", "scenario", "formats/cubes.py")


@cache
def code_digest() -> str:
    """Identity of the code that makes histories."""
    root = Path(strell_core.__file__).parent
    whole = hashlib.sha256()
    for name in MADE_BY:
        place = root / name
        for path in sorted(place.rglob("*.py")) if place.is_dir() else [place]:
            whole.update(path.read_bytes())
    return whole.hexdigest()


def kept_at(what: object) -> Path:
    """Where a history is kept that today's code makes of these settings."""
    name = hashlib.sha256(f"{what}{code_digest()}".encode()).hexdigest()[:20]
    return STATE / name


def payloads(settings: Settings) -> list[bytes]:
    """Stored session chains of a scenario, in order."""
    folder = kept_at(settings)
    done = folder / "complete"
    if not done.exists():
        folder.mkdir(parents=True, exist_ok=True)
        for made in generate(settings, settings.sessions, os.cpu_count() or 1):
            (folder / f"{made.index:05d}").write_bytes(made.payload)
        done.touch()
    return [(folder / f"{index:05d}").read_bytes() for index in range(settings.sessions)]


def chains(settings: Settings) -> Iterator[SessionChain]:
    for payload in payloads(settings):
        yield decode(payload)


def history(settings: Settings) -> Timeline:
    folder = kept_at(settings) / "cubes"
    if not (folder / "index.json").exists():
        payloads(settings)
        cubes.build(folder, lambda: chains(settings), MK30, marrowick(), code_digest())
    return cubes.open_timeline(folder, MK30, marrowick())


@cache
def demo_history() -> Timeline:
    """The whole demo: 630 closing sessions, then 120 of five minutes."""
    return history(Settings())


@cache
def demo_chains() -> tuple[SessionChain, ...]:
    return tuple(chains(Settings()))


SHORT = Settings(sessions=90, intraday=25)


REPORTS = (dt.date(2026, 8, 3), dt.date(2026, 9, 8), dt.date(2026, 10, 27))
"""Days of the short history after whose close the tests let the index report."""
BREADTH = "BREADTH"


def breadth(dates: Sequence[dt.date]) -> dict[dt.date, float]:
    """A series of the tests: a number every other day, from a rule of thumb."""
    return {date: round(math.sin(date.toordinal() / 5.0), 3) for date in dates[::2]}


def market_with_reports(settings: Settings) -> Market:
    """A history in which the index reports, with a series of one's own."""
    made, calendar = history(settings), marrowick()
    events = tuple((date, calendar.session(date).close + 600, "Quarterly report") for date in REPORTS)
    made.underlying = dataclasses.replace(made.underlying, events=events)
    values = breadth(made.dates)
    at = [calendar.instant(date + dt.timedelta(days=1), dt.time(0)) for date in values]
    series = DatedSeries(BREADTH, np.array(at, np.int64), np.array(list(values.values())))
    return Market(made, series={BREADTH: series})


@cache
def short_history() -> Timeline:
    """The demo's last 90 sessions, 25 of them with five-minute snapshots, by their own path."""
    return history(SHORT)

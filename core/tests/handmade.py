"""Histories written by hand: a few snapshots with exactly the quotes a test needs.

Made into session chains and through the cube cache, so tests read what the application would.
"""

from __future__ import annotations

import datetime as dt
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from strell_core.formats import cubes
from strell_core.market.calendars import SessionCalendar, marrowick
from strell_core.market.chains import NO_QUOTE, SessionChain
from strell_core.market.instruments import ContractKey, Underlying
from strell_core.market.timeline import Timeline
from strell_core.scenario.generator import MK30

QUANTA_A_POINT = 20
Snapshot = Mapping[str, Any]
"""``{"at": "2026-10-05 15:45", "spot": 3100, "2026-10-16/call/3160": "5.00/5.20", …}``"""


def instant(text: str, calendar: SessionCalendar | None = None) -> int:
    """Epoch second of an exchange-local time like ``2026-10-05 15:45``."""
    when = dt.datetime.fromisoformat(text)
    return (calendar or marrowick()).instant(when.date(), when.time())


def session_chains(
    snapshots: Sequence[Snapshot], settlements: Mapping[str, float] | None = None, listed: bool = True
) -> list[SessionChain]:
    """One chain a date; a session settles at its last spot unless ``settlements`` says otherwise. Contracts are
    listed until they expire, or, not ``listed``, in sessions that quote them only."""
    by_date: dict[dt.date, list[Snapshot]] = {}
    for snapshot in snapshots:
        by_date.setdefault(dt.datetime.fromisoformat(snapshot["at"]).date(), []).append(snapshot)
    every = _quoted(list(snapshots))
    return [
        _chain(date, found, every if listed else _quoted(found), settlements or {}) for date, found in by_date.items()
    ]


def _quoted(snapshots: list[Snapshot]) -> list[ContractKey]:
    return sorted({ContractKey.parse(key, MK30.symbol) for s in snapshots for key in s if "/" in key})


def _chain(
    date: dt.date, snapshots: list[Snapshot], every: list[ContractKey], settlements: Mapping[str, float]
) -> SessionChain:
    contracts = tuple(c for c in every if c.expiration >= date)
    shape = (len(contracts), len(snapshots))
    bid, ask = np.full(shape, NO_QUOTE, np.int32), np.full(shape, NO_QUOTE, np.int32)
    for column, snapshot in enumerate(snapshots):
        for row, contract in enumerate(contracts):
            code = contract.code.removeprefix(f"{MK30.symbol}/")
            if code in snapshot:
                low, high = str(snapshot[code]).split("/")
                bid[row, column] = round(float(low) * QUANTA_A_POINT)
                ask[row, column] = round(float(high) * QUANTA_A_POINT)
    spot = np.array([round(s["spot"] * 100) for s in snapshots], np.int32)
    expirations = tuple(sorted({c.expiration for c in contracts}))
    settled = settlements.get(date.isoformat())
    none = np.zeros(len(contracts), np.int32)
    return SessionChain(
        "MK30", date, np.array([instant(s["at"]) for s in snapshots], np.int64), spot,
        int(spot[-1]) if settled is None else round(settled * 100), expirations,
        np.full((len(expirations), len(snapshots)), np.nan), contracts, bid, ask, np.zeros(shape, np.uint16), none, none,
    )  # fmt: skip


def timeline_of(chains: Sequence[SessionChain], folder: Path | None = None, underlying: Underlying = MK30) -> Timeline:
    """The chains as a timeline, through the cache's own files."""
    place = folder or Path(tempfile.mkdtemp(prefix="strell-")) / "cubes"
    cubes.build(place, lambda: chains, underlying, marrowick(), "handmade")
    return cubes.open_timeline(place, underlying, marrowick())

"""Whether the day or the month comes first in dates like 03/04/2026: the whole file decides, never a row.

A date that can be read two ways is read one way or the other everywhere in a file. Which one fits is counted over all
its rows: the other has months above twelve, quotes on days without a session, expirations before their quote. Where both
fit, nobody but a person can say.
"""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from strell_core.formats.intake.mapping import UNSURE, Mapping
from strell_core.formats.intake.rows import codes_of, parse_date
from strell_core.formats.intake.tables import csv_tables, is_parquet, parquet_tables

ORDERS = ("day first", "month first")
FEW = 5
"""A reading is out of the question when it fits the file so many times worse: a file may hold a few bad rows."""


@dataclass(frozen=True)
class Fit:
    """A file's rows, and how many of them only the other order reads as dates that can be."""

    rows: int
    wrong: dict[str, int]
    example: str

    @property
    def decided(self) -> str | None:
        """The order that fits; ``None``: both do, or neither."""
        first, second = (self.wrong[order] for order in ORDERS)
        if FEW * first < second:
            return ORDERS[0]
        return ORDERS[1] if FEW * second < first else None


def _weekday(date: dt.date) -> bool:
    return date.weekday() < 5


def fit_of(path: Path, mapping: Mapping, is_session: Callable[[dt.date], bool] = _weekday) -> Fit:
    """Both orders over the whole file. Raises :class:`tables.IntakeError` where it cannot be read."""
    known = replace(mapping, date_format=ORDERS[0])
    sessions = mapping.kind in ("chains", "bars")
    pairs: Counter[tuple[str, str]] = Counter()
    reader = parquet_tables(path, known) if is_parquet(path) else csv_tables(path, known)
    for columns, lines, _, _ in reader:
        if not len(lines):
            continue
        codes, texts = codes_of(columns[known.columns["at"]])
        days = [text.replace("T", " ").split(" ")[0] for text in texts]
        if "expiration" in known.columns:
            more, expirations = codes_of(columns[known.columns["expiration"]])
        else:
            more, expirations = np.zeros(len(codes), np.int64), [""]
        found, counts = np.unique(codes * len(expirations) + more, return_counts=True)
        for pair, count in zip(found.tolist(), counts.tolist(), strict=True):
            pairs[days[pair // len(expirations)], expirations[pair % len(expirations)]] += count
    wrong = dict.fromkeys(ORDERS, 0)
    for pair, n in pairs.items():
        not_so = [order for order in ORDERS if not _fits(*pair, order, sessions, is_session)]
        if len(not_so) == 1:  # what fits neither way says nothing about the order
            wrong[not_so[0]] += n
    return Fit(sum(pairs.values()), wrong, next((day for day, _ in pairs if day), ""))


def _fits(day: str, expiration: str, order: str, sessions: bool, is_session: Callable[[dt.date], bool]) -> bool:
    at = parse_date(day, order)
    if at is None or (sessions and not is_session(at[0])):
        return False
    if not expiration:
        return True
    until = parse_date(expiration, order)
    return until is not None and until[0] >= at[0] and until[0].weekday() < 6


def settled(path: Path, mapping: Mapping) -> Mapping:
    """A guessed mapping with the order of its dates as the whole file decides it; unsure where it does not, and where
    too little is known of the file to read it."""
    if mapping.date_format not in (*ORDERS, UNSURE) or replace(mapping, date_format=ORDERS[0]).problems():
        return mapping
    return replace(mapping, date_format=fit_of(path, mapping).decided or UNSURE)


def order_problems(
    path: Path, mapping: Mapping, is_session: Callable[[dt.date], bool] = _weekday
) -> list[tuple[str, str]]:
    """What stands against the order of a mapping's dates, the file having been looked through."""
    if mapping.date_format not in (*ORDERS, UNSURE) or replace(mapping, date_format=ORDERS[0]).problems():
        return []
    fit = fit_of(path, mapping, is_session)
    if mapping.date_format == UNSURE:
        which = fit.decided
        hint = f" Everything in this file fits {which}." if which else ""
        return [
            ("date_format", f"{fit.example} can be read two ways: say whether the day or the month comes first.{hint}")
        ]
    other = ORDERS[1 - ORDERS.index(mapping.date_format)]
    if fit.decided == other:
        wrong, right = fit.wrong[mapping.date_format], fit.wrong[other]
        return [
            (
                "date_format",
                f"Read {mapping.date_format}, {wrong} of {fit.rows} rows have no such date, or one without a session or "
                f"after their expiration; read {other}, {right} have. Choose {other}.",
            )
        ]
    return []

"""A look at a file before it is loaded: its first rows and what they are read as."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from pathlib import Path
from typing import Any

from django.contrib.auth.models import User

from config.errors import Refused
from facts.terms import read_terms
from intake.files import day_finder, find, mapping_problems, reasons_of
from market.models import Underlying
from strell_core.formats.intake import dated
from strell_core.formats.intake.mapping import KINDS, Mapping
from strell_core.formats.intake.rows import REASONS, Block, blocks
from strell_core.formats.intake.tables import IntakeError, Sample, sample


def preview(user: User, intake_id: int, mapping: dict[str, Any] | None, new: dict[str, Any] | None) -> dict[str, Any]:
    """The file's first rows, what they are read as, and what is set aside of the first block."""
    intake = find(user, intake_id)
    raw = mapping if mapping is not None else intake.mapping
    made_terms = read_terms(new if new is not None else intake.terms)
    path = Path(intake.path)
    known = {name: raw[name] for name in Mapping.__dataclass_fields__ if name in raw}
    try:
        candidate = Mapping(**known)
        first = (
            Sample([], [], Mapping(kind="events"), False)
            if dated.is_calendar(path)
            else sample(path, kind=candidate.kind if candidate.kind in KINDS else "")
        )
        problems = mapping_problems(path, candidate, made_terms)
    except (IntakeError, OSError) as error:
        raise Refused(f"The file cannot be read any more: {error}") from error
    except TypeError as error:
        raise Refused(f"This is no mapping: {error}.") from error
    out: dict[str, Any] = {
        "names": first.names, "cells": first.rows[:12], "mapping": candidate.plain(), "guess": first.mapping.plain(),
        "problems": [{"path": place, "message": text} for place, text in problems], "quotes": [], "symbols": [],
        "rejected": {}, "rows": 0, "examples": [], "parquet": first.parquet, "records": [], "is_calendar": dated.is_calendar(path),
    }  # fmt: skip
    if problems:
        return out
    if candidate.kind != "chains":
        return {**out, **_told_dated(path, candidate, made_terms)}
    try:
        block = next(blocks(Path(intake.path), candidate, day_finder(made_terms)), None)
    except IntakeError as error:
        out["problems"] = [{"path": "file", "message": str(error)}]
        return out
    if block is not None:
        out.update(_told(block, made_terms))
    return out


def _told(block: Block, new: dict[str, Any]) -> dict[str, Any]:
    existing = set(Underlying.objects.values_list("symbol", flat=True))
    days_of = day_finder(new)
    quotes = []
    for symbol, rows in block.rows.items():
        for row in rows[:6]:
            at = int(row["at"])
            when = (
                dt.date.fromordinal(int(row["session"])).isoformat()
                if at < 0
                else dt.datetime.fromtimestamp(at, days_of(symbol).tz).strftime("%Y-%m-%d %H:%M:%S %Z")
            )
            quotes.append(
                {
                    "at": when, "symbol": symbol, "expiration": dt.date.fromordinal(int(row["expiration"])),
                    "right": "put" if row["right"] else "call", "strike": int(row["strike"]) / 1000,
                    "bid": None if row["bid"] < 0 else int(row["bid"]) / 10_000, "ask": None if row["ask"] < 0 else int(row["ask"]) / 10_000,
                    "spot": None if row["spot"] < 0 else int(row["spot"]) / 100,
                }
            )  # fmt: skip
    symbols = [{"symbol": s, "known": s in existing, "rows": len(rows)} for s, rows in block.rows.items()]
    counts = Counter(reject.reason for reject in block.rejects)
    examples = [{"line": r.line, "reason": REASONS[r.reason], "text": r.text} for r in block.rejects[:8]]
    return {
        "quotes": quotes[:12], "symbols": symbols[:50], "rows": block.read, "examples": examples,
        "rejected": {REASONS[name]: count for name, count in counts.most_common()},
    }  # fmt: skip


def _told_dated(path: Path, mapping: Mapping, new: dict[str, Any]) -> dict[str, Any]:
    """The first block of a file of dated facts."""
    try:
        block = next(dated.records(path, mapping, day_finder(new, mapping.kind)), None)
    except IntakeError as error:
        return {"problems": [{"path": "file", "message": str(error)}]}
    if block is None:
        return {}
    existing = set(Underlying.objects.values_list("symbol", flat=True))
    about = mapping.kind not in ("rates", "series")
    subjects = Counter(record.subject for record in block.rows)
    counts = Counter(reject.reason for reject in block.rejects)
    reasons = reasons_of(mapping.kind)
    shown = [
        {
            "subject": r.subject, "date": r.date,
            "at": None if r.at is None else dt.datetime.fromtimestamp(r.at, day_finder(new, mapping.kind)(r.subject).tz).strftime("%H:%M:%S %Z"),
            "values": {name: value for name, value in r.values.items() if value is not None},
        }
        for r in block.rows[:12]
    ]  # fmt: skip
    return {
        "records": shown, "rows": block.read,
        "symbols": [{"symbol": s, "known": s in existing or not about, "rows": n} for s, n in subjects.most_common(50)],
        "examples": [{"line": r.line, "reason": reasons[r.reason], "text": r.text} for r in block.rejects[:8]],
        "rejected": {reasons[name]: count for name, count in counts.most_common()},
    }  # fmt: skip

"""Files on their way into the data: uploaded, looked at, started, cancelled, taken back.

The work itself is :mod:`market.intake_work`, in the worker.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import shutil
from collections import Counter
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from typing import Any, BinaryIO
from zoneinfo import ZoneInfo

from django.conf import settings
from django.contrib.auth.models import User
from django.db import transaction

from config.errors import Conflict, NotThere, Refused
from config.push import notify
from market import dated as dated_facts
from market.calendars import calendar_for, calendar_of
from market.contract_terms import read_terms, usual_terms
from market.models import ColumnMapping, Intake, SessionChainRow, Underlying
from market.refresh import later
from strell_core.formats.intake import dated
from strell_core.formats.intake.mapping import KINDS, Mapping, MappingError
from strell_core.formats.intake.rows import REASONS, Block, blocks
from strell_core.formats.intake.tables import IntakeError, Sample, sample
from strell_core.market.calendars import DayCount, ZoneDays

Status = Intake.Status
MAX_BYTES = 40 << 30


def reasons_of(kind: str) -> dict[str, str]:
    """Why rows of a file of one kind are set aside, in words."""
    return REASONS if kind == "chains" else {**REASONS, **dated.REASONS}


def folder_of(intake: Intake) -> Path:
    return Path(settings.INTAKE) / str(intake.pk)


def find(user: User, intake_id: int) -> Intake:
    found = Intake.objects.of(user).filter(pk=intake_id).first()
    if found is None:
        raise NotThere("There is no such intake.")
    return found


# -- before it starts
def receive(user: User, name: str, file: BinaryIO) -> Intake:
    """Keep an uploaded file and guess what its columns are."""
    intake = Intake.objects.create(owner=user, name=Path(name).name[:200], path="", size=0, digest="")
    folder = folder_of(intake)
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / "file"
    try:
        whole, size = hashlib.sha256(), 0
        with open(path, "wb") as out:
            while data := file.read(1 << 20):
                size += len(data)
                if size > MAX_BYTES:
                    raise Refused(f"The file is larger than {MAX_BYTES >> 30} GiB. Split it.")
                whole.update(data)
                out.write(data)
        return _known(intake, path, size, whole.hexdigest())
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        intake.delete()
        raise


def point_to(user: User, path: Path) -> Intake:
    """An intake of a file that lies on this machine; it stays where it is."""
    if not path.is_file():
        raise Refused(f"There is no file {path}.")
    whole = hashlib.sha256()
    with open(path, "rb") as file:
        while data := file.read(1 << 20):
            whole.update(data)
    intake = Intake.objects.create(owner=user, name=path.name[:200], path="", size=0, digest="")
    folder_of(intake).mkdir(parents=True, exist_ok=True)
    try:
        return _known(intake, path.resolve(), path.stat().st_size, whole.hexdigest())
    except BaseException:
        intake.delete()
        raise


def _known(intake: Intake, path: Path, size: int, whole: str) -> Intake:
    try:
        guessed = guessed_mapping(path)
    except IntakeError as error:
        raise Refused(str(error), [{"path": "file", "message": str(error)}]) from error
    intake.path, intake.size, intake.digest, intake.mapping = str(path), size, whole, guessed.plain()
    intake.terms = usual_terms()
    intake.save()
    return intake


def guessed_mapping(path: Path, kind: str = "") -> Mapping:
    """What a file seems to hold and how; raises :class:`IntakeError`."""
    return Mapping(kind="events") if dated.is_calendar(path) else sample(path, kind=kind).mapping


def _is_calendar(intake: Intake) -> bool:
    path = Path(intake.path)
    return path.is_file() and dated.is_calendar(path)


def _problems(path: Path, mapping: Mapping) -> list[tuple[str, str]]:
    return dated.calendar_problems(mapping) if dated.is_calendar(path) else mapping.problems(sample(path).names)


def read_mapping(raw: dict[str, Any], is_calendar: bool = False) -> Mapping:
    try:
        if is_calendar:
            return Mapping(
                kind="events", zone=str(raw.get("zone", "UTC")), underlying=str(raw.get("underlying", "")).upper()
            )
        return Mapping.parse(raw)
    except MappingError as error:
        raise Refused(str(error), [{"path": place, "message": text} for place, text in error.problems]) from error
    except TypeError as error:
        raise Refused(f"This is no mapping: {error}.") from error


def day_finder(new: dict[str, Any], kind: str = "chains") -> Callable[[str], DayCount]:
    """By which calendar the days of a file's subject are counted: its exchange's, by its symbol."""

    @cache
    def days_of(symbol: str) -> DayCount:
        if kind in ("rates", "series"):
            return ZoneDays(ZoneInfo("UTC"))
        row = Underlying.objects.filter(symbol=symbol).first()
        return calendar_of(new["calendar"]) if row is None else calendar_for(row)

    return days_of


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
        problems = _problems(path, candidate)
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


@transaction.atomic
def start(
    user: User, intake_id: int, mapping: dict[str, Any], new: dict[str, Any], adds: bool, queue: bool = True
) -> Intake:
    """Queue an intake; one that failed or was cancelled goes on or begins again. Without ``queue`` the caller
    carries it out."""
    intake = Intake.objects.select_for_update().get(pk=find(user, intake_id).pk)
    if intake.status in Intake.ACTIVE:
        raise Conflict("It is under way already.")
    if intake.status == Status.DONE:
        raise Conflict("It was loaded already. Take it back first, or upload the file again.")
    checked = read_mapping(mapping, _is_calendar(intake))
    made_terms = read_terms(new)
    try:
        problems = _problems(Path(intake.path), checked)
    except (IntakeError, OSError) as error:
        raise Refused(f"The file cannot be read any more: {error}") from error
    if problems:
        raise Refused(
            " ".join(text for _, text in problems), [{"path": place, "message": text} for place, text in problems]
        )
    same = intake.staged and intake.mapping == checked.plain() and intake.terms == made_terms and intake.adds == adds
    if not same:
        intake.staged, intake.stored, intake.report, intake.rows = False, 0, {}, 0
    intake.mapping, intake.terms, intake.adds = checked.plain(), made_terms, adds
    intake.status, intake.message, intake.attempts, intake.cancel_requested = Status.QUEUED, "", 0, False
    intake.doing, intake.share, intake.finished_at = "waiting for a worker", 0.0, None
    intake.save()
    if queue:
        enqueue(intake)
    return intake


def enqueue(intake: Intake) -> None:
    from market.tasks import take_in

    take_in.defer(intake_id=intake.pk)
    notify(intake.owner_id, "intake", intake.pk)


@transaction.atomic
def cancel(user: User, intake_id: int) -> Intake:
    intake = Intake.objects.select_for_update().get(pk=find(user, intake_id).pk)
    if intake.status == Status.QUEUED:
        intake.status, intake.finished_at = Status.CANCELLED, dt.datetime.now(dt.UTC)
    elif intake.status == Status.RUNNING:
        intake.cancel_requested = True
    else:
        raise Conflict(f"It is {intake.status}; there is nothing to cancel.")
    intake.save()
    notify(user.pk, "intake", intake.pk)
    return intake


def forget(user: User, intake_id: int) -> None:
    """Take a file that is not in use out of the list; what it brought stays."""
    intake = find(user, intake_id)
    if intake.status in Intake.ACTIVE:
        raise Conflict("Cancel it first.")
    shutil.rmtree(folder_of(intake), ignore_errors=True)
    intake.delete()


@transaction.atomic
def take_back(user: User, intake_id: int) -> Intake:
    """Undo an intake: versions that were there before it are current again."""
    intake = Intake.objects.select_for_update().get(pk=find(user, intake_id).pk)
    if intake.status in Intake.ACTIVE:
        raise Conflict("Cancel it first.")
    facts = dated_facts.put_back(intake)
    if facts:
        for row in dated_facts.resting_on(intake.mapping.get("kind", ""), intake.report.get("sessions", {})):
            later(row)
    brought = list(SessionChainRow.objects.filter(intake=intake).select_related("underlying"))
    if not brought and not facts:
        raise Conflict("It brought nothing that could be taken back.")
    touched = {chain.underlying for chain in brought}
    for chain in brought:
        versions = SessionChainRow.objects.filter(underlying=chain.underlying, date=chain.date)
        if chain.current:
            before = versions.exclude(intake=intake).filter(version__lt=chain.version).order_by("-version").first()
            versions.filter(pk=chain.pk).update(current=False)
            if before is not None:
                versions.filter(pk=before.pk).update(current=True)
    intake.status, intake.staged, intake.stored, intake.report = Status.TAKEN_BACK, False, 0, {}
    count, what = (len(brought), "session") if brought else (facts, "fact")
    intake.message = f"1 {what} was taken back." if count == 1 else f"{count} {what}s were taken back."
    intake.save()
    for row in touched:
        later(row)
    return intake


def rejects(intake: Intake) -> Iterator[str]:
    """The rejects as lines of a CSV file."""
    yield "line,reason,text\r\n"
    for path in sorted((folder_of(intake) / "rejects").glob("*.csv")):
        with open(path, newline="") as file:
            yield from file


# -- mappings under a name
def save_mapping(user: User, name: str, mapping: dict[str, Any]) -> ColumnMapping:
    name = name.strip()
    if not 1 <= len(name) <= 60:
        raise Refused(
            "A mapping needs a name of 1 to 60 characters.", [{"path": "name", "message": "1 to 60 characters"}]
        )
    made, _ = ColumnMapping.objects.update_or_create(
        owner=user, name=name, defaults={"mapping": read_mapping(mapping).plain()}
    )
    return made

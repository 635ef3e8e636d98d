"""Files as they arrive: where they lie, whose they are, what they seem to hold."""

from __future__ import annotations

import hashlib
import shutil
from collections.abc import Callable
from functools import cache
from pathlib import Path
from typing import Any, BinaryIO
from zoneinfo import ZoneInfo

from django.conf import settings
from django.contrib.auth.models import User

from config.errors import NotThere, Refused
from facts.terms import usual_terms
from market.calendars import calendar_for, calendar_of
from market.models import Intake, Underlying
from strell_core.formats.intake import dated
from strell_core.formats.intake.date_order import order_problems, settled
from strell_core.formats.intake.mapping import Mapping, MappingError
from strell_core.formats.intake.rows import REASONS
from strell_core.formats.intake.tables import IntakeError, sample
from strell_core.market.calendars import DayCount, SessionCalendar, ZoneDays

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
    return Mapping(kind="events") if dated.is_calendar(path) else settled(path, sample(path, kind=kind).mapping)


def holds_calendar(intake: Intake) -> bool:
    path = Path(intake.path)
    return path.is_file() and dated.is_calendar(path)


def mapping_problems(path: Path, mapping: Mapping, new: dict[str, Any]) -> list[tuple[str, str]]:
    """What stands against reading a file this way; of its dates, the whole file is asked."""
    if dated.is_calendar(path):
        return dated.calendar_problems(mapping)
    problems = mapping.problems(sample(path).names)
    if any(place != "date_format" for place, _ in problems):
        return problems
    days = day_finder(new, mapping.kind)(mapping.underlying) if mapping.underlying else None
    order = (
        order_problems(path, mapping, days.__contains__)
        if isinstance(days, SessionCalendar)
        else order_problems(path, mapping)
    )
    return order or problems


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

"""Intakes started, cancelled, taken back; mappings kept under a name.

The work itself is :mod:`intake.work`, in the worker.
"""

from __future__ import annotations

import datetime as dt
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from config.errors import Conflict, Refused
from config.push import notify
from facts import dated as dated_facts
from facts.terms import read_terms
from intake.files import find, folder_of, holds_calendar, mapping_problems, read_mapping
from market.ask import defer, refresh_later
from market.models import ColumnMapping, Intake, SessionChainRow
from market.rights import need_change
from strell_core.formats.intake.tables import IntakeError

Status = Intake.Status


@transaction.atomic
def start(
    user: User, intake_id: int, mapping: dict[str, Any], new: dict[str, Any], adds: bool, queue: bool = True
) -> Intake:
    """Queue an intake; one that failed or was cancelled goes on or begins again. Without ``queue`` the caller
    carries it out."""
    intake = Intake.objects.select_for_update(no_key=True).get(pk=find(user, intake_id).pk)
    if intake.status in Intake.ACTIVE:
        raise Conflict("It is under way already.")
    if intake.status == Status.DONE:
        raise Conflict("It was loaded already. Take it back first, or upload the file again.")
    checked = read_mapping(mapping, holds_calendar(intake))
    made_terms = read_terms(new)
    try:
        problems = mapping_problems(Path(intake.path), checked, made_terms)
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
    defer("market.take_in", intake_id=intake.pk)
    notify(intake.owner_id, "intake", intake.pk)


@transaction.atomic
def cancel(user: User, intake_id: int) -> Intake:
    intake = Intake.objects.select_for_update(no_key=True).get(pk=find(user, intake_id).pk)
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
    intake = Intake.objects.select_for_update(no_key=True).get(pk=find(user, intake_id).pk)
    if intake.status in Intake.ACTIVE:
        raise Conflict("Cancel it first.")
    brought = list(SessionChainRow.objects.filter(intake=intake).select_related("underlying"))
    touched = {chain.underlying for chain in brought}
    for row in touched:
        need_change(user, row)
    facts = dated_facts.put_back(intake)
    if facts:
        for row in dated_facts.resting_on(intake.mapping.get("kind", ""), intake.report.get("sessions", {})):
            refresh_later(row)
    if not brought and not facts:
        raise Conflict("It brought nothing that could be taken back.")
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
        refresh_later(row)
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

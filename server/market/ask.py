"""Asking for work by the job's name: whoever asks need not know who does it."""

from __future__ import annotations

from typing import Any, TypeVar

from django.db import models, transaction
from procrastinate.contrib.django import app
from procrastinate.contrib.django.models import ProcrastinateJob
from procrastinate.exceptions import AlreadyEnqueued

from market.models import Underlying


def defer(job: str, once: str | None = None, **facts: Any) -> None:
    """Have a worker do a job once the present transaction is stored; ``facts`` are JSON values. ``once``: of jobs with
    this name one waits at a time, and they are done one after another."""
    task = app.configure_task(job, queueing_lock=once, lock=once)
    try:
        with transaction.atomic():
            task.defer(**facts)
    except AlreadyEnqueued:
        pass  # what waits will find what is there then


Row = TypeVar("Row", bound=models.Model)


def forgotten(queued: models.QuerySet[Row], job: str, fact: str) -> models.QuerySet[Row]:
    """Of rows that wait for a job which names them by ``fact``, those that none names: a worker that dies between taking
    its job and the row leaves one that nobody comes to any more. Asked for twice is done once."""
    waiting = ProcrastinateJob.objects.filter(task_name=job, status="todo").values_list(f"args__{fact}", flat=True)
    return queued.exclude(pk__in=list(waiting))


def refresh_later(row: Underlying) -> None:
    """Have a worker bring what is read of an underlying up to its chains and facts; until then everyone reads what
    they read before."""
    defer("market.fold", f"fold {row.symbol}", symbol=row.symbol)

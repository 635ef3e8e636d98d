"""Asking for work by the job's name: whoever asks need not know who does it."""

from __future__ import annotations

from typing import Any

from django.db import transaction
from procrastinate.contrib.django import app
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


def refresh_later(row: Underlying) -> None:
    """Have a worker bring what is read of an underlying up to its chains and facts; until then everyone reads what
    they read before."""
    defer("market.fold", f"fold {row.symbol}", symbol=row.symbol)

"""Asking for work by the job's name: whoever asks need not know who does it."""

from __future__ import annotations

from typing import Any

from procrastinate.contrib.django import app

from market.models import Underlying


def defer(job: str, **facts: Any) -> None:
    """Have a worker do a job once the present transaction is stored; ``facts`` are JSON values."""
    app.configure_task(job).defer(**facts)


def refresh_later(row: Underlying) -> None:
    """Have a worker bring what is read of an underlying up to its chains and facts; until then everyone reads what
    they read before."""
    defer("market.fold", symbol=row.symbol)

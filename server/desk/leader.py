"""At most one desk decides: an advisory lock on a connection of its own, and an epoch every transaction checks."""

from __future__ import annotations

import datetime as dt

from django.db import transaction

from desk.models import Leader

NAME = "desk"
ALIVE_SECONDS = 8


class Deposed(Exception):
    """Another desk has taken over; this one must stop deciding at once."""


def new_epoch() -> int:
    """Begin to lead: whoever led before is deposed. The caller holds the desk's advisory lock."""
    with transaction.atomic():
        row, _ = Leader.objects.select_for_update(no_key=True).get_or_create(name=NAME)
        row.epoch += 1
        row.beat, row.says = dt.datetime.now(dt.UTC), ""
        row.save()
        return row.epoch


def still_leading(epoch: int) -> None:
    """Hold the epoch for this transaction; raises :class:`Deposed` when it is no longer ours."""
    row = Leader.objects.select_for_update(of=["self"], no_key=True).get(name=NAME)
    if row.epoch != epoch:
        raise Deposed


def beat(epoch: int, says: str = "") -> None:
    changed = Leader.objects.filter(name=NAME, epoch=epoch).update(beat=dt.datetime.now(dt.UTC), says=says)
    if not changed:
        raise Deposed


def alive() -> bool:
    """Whether a desk was heard of within the last seconds."""
    row = Leader.objects.filter(name=NAME).only("beat").first()
    return (
        row is not None
        and row.beat is not None
        and (dt.datetime.now(dt.UTC) - row.beat).total_seconds() < ALIVE_SECONDS
    )

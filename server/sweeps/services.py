"""Asking for sweeps, and what becomes of them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from config.errors import Conflict, NotThere, Refused
from config.push import notify
from market.ask import defer
from market.models import Underlying
from market.timelines import timeline
from runs import services as runs
from runs.models import Run
from strategies import services as strategies
from strell_core.strategy.document import clock_of
from strell_core.strategy.sweeps import UNDERLYING, Dial, Place, SweepError, cells, check, places, taken, values_of
from sweeps.models import Cell, Part, Sweep

MAX_ACTIVE = 4
PART = 50
"""Variants that a worker takes at once."""


def find(user: User, sweep_id: int) -> Sweep:
    found = Sweep.objects.of(user).select_related("strategy", "revision").filter(pk=sweep_id).first()
    if found is None:
        raise NotThere("There is no such sweep.")
    return found


def known(document: dict[str, Any]) -> list[Place]:
    """What of a strategy can be varied, with every underlying that has data."""
    recorded = Underlying.objects.exclude(data_digest="").order_by("symbol").values_list("symbol", flat=True)
    return places(document, list(recorded))


def dials_of(sweep: Sweep) -> list[Dial]:
    return [Dial(tuple(dial["paths"]), tuple(dial["values"])) for dial in sweep.dials]


def _dials(found: Sequence[Place], asked: Sequence[tuple[Sequence[str], str]]) -> list[Dial]:
    """Dials as a person typed them; raises :class:`SweepError` at the one that makes no sense."""
    by_path = {place.path: place for place in found}
    out = []
    for number, (paths, text) in enumerate(asked):
        if not paths or paths[0] not in by_path:
            raise SweepError(f"dials/{number}", "This value is not in the sheet any more; choose it again.")
        try:
            values = values_of(by_path[paths[0]].param, text)
            for other in paths[1:]:
                wrong = by_path[other].param.problem if other in by_path else None
                if wrong is None or any(wrong(value) for value in values):
                    raise SweepError("paths", "Values that are varied together have to be of one kind.")
        except SweepError as error:
            raise SweepError(f"dials/{number}/{error.path}", error.message) from error
        out.append(Dial(tuple(paths), tuple(values)))
    check(out, found)
    return out


@transaction.atomic
def ask(
    user: User, strategy_id: int, start: dt.date, end: dt.date, cash: Decimal, asked: Sequence[tuple[Sequence[str], str]],
    drawn: int | None = None,
) -> Sweep:  # fmt: skip
    """Queue a sweep over values of a strategy's latest revision; its parts are enqueued with their rows."""
    strategy = strategies.find(user, strategy_id)
    revision = strategy.latest
    runs.check_request(timeline(clock_of(revision.document)), start, end, cash, "blocks")
    runs.refuse_held(strategy, end, "A sweep would fit to them: end it before.")
    try:
        dials = _dials(known(revision.document), asked)
        made = cells(dials, drawn)
    except SweepError as error:
        raise Refused(error.message, [{"path": error.path, "message": error.message}]) from error
    if Sweep.objects.of(user).filter(status=Sweep.Status.RUNNING).count() >= MAX_ACTIVE:
        raise Conflict(f"{MAX_ACTIVE} sweeps are under way already. Wait for one, or cancel it.")
    # of one underlying together: a worker keeps its history
    made.sort(key=lambda cell: str(taken(dials, cell).get(UNDERLYING)))
    type(strategy).objects.select_for_update(no_key=True).get(pk=strategy.pk)
    last = strategy.sweeps.order_by("-number").values_list("number", flat=True).first() or 0
    sweep = Sweep.objects.create(
        strategy=strategy, revision=revision, number=last + 1, start=start, end=end, cash=cash, drawn=drawn,
        dials=[{"paths": dial.paths, "values": dial.values} for dial in dials],
    )  # fmt: skip
    Cell.objects.bulk_create(
        (Cell(sweep=sweep, place=place, at=cell) for place, cell in enumerate(made)), batch_size=500
    )
    for first in range(0, len(made), PART):
        enqueue(Part.objects.create(sweep=sweep, first=first, last=min(first + PART, len(made))))
    say(sweep)
    return sweep


def enqueue(part: Part) -> None:
    defer("sweeps.execute", part_id=part.pk)


def say(sweep: Sweep) -> None:
    notify(sweep.strategy.owner_id, "sweep", sweep.pk, strategy=sweep.strategy_id)


def _held(user: User, sweep_id: int) -> Sweep:
    """The sweep, held until the transaction ends."""
    return Sweep.objects.select_for_update(no_key=True).get(pk=find(user, sweep_id).pk)


@transaction.atomic
def cancel(user: User, sweep_id: int) -> Sweep:
    """Stop at the variants that are being computed; what is there stays, and it can go on."""
    sweep = _held(user, sweep_id)
    if sweep.status == Sweep.Status.RUNNING:
        sweep.status, sweep.finished_at = Sweep.Status.CANCELLED, dt.datetime.now(dt.UTC)
        sweep.save(update_fields=["status", "finished_at"])
        say(sweep)
    return sweep


@transaction.atomic
def go_on(user: User, sweep_id: int) -> Sweep:
    """Compute what a cancelled sweep still lacks."""
    sweep = _held(user, sweep_id)
    if sweep.status != Sweep.Status.CANCELLED:
        raise Conflict(f"Sweep {sweep.number} is {sweep.status}; only a cancelled one can go on.")
    sweep.status, sweep.finished_at = Sweep.Status.RUNNING, None
    sweep.save(update_fields=["status", "finished_at"])
    for part in sweep.parts.exclude(status=Part.Status.DONE):
        part.status, part.lease_until = Part.Status.QUEUED, None
        part.save(update_fields=["status", "lease_until"])
        enqueue(part)
    say(sweep)
    return sweep


@transaction.atomic
def delete(user: User, sweep_id: int) -> None:
    """Take a sweep off every page. It can be brought back with :func:`restore` for a day."""
    sweep = _held(user, sweep_id)
    if sweep.status == Sweep.Status.RUNNING:
        raise Conflict("Cancel the sweep before deleting it.")
    sweep.deleted_at = dt.datetime.now(dt.UTC)
    sweep.save(update_fields=["deleted_at"])
    say(sweep)


@transaction.atomic
def restore(user: User, sweep_id: int) -> Sweep:
    """Bring a deleted sweep back; one that is there stays as it is."""
    found = Sweep.objects.filter(pk=sweep_id, strategy__owner=user, strategy__deleted_at=None)
    if not found.update(deleted_at=None):
        raise NotThere("There is no such sweep any more.")
    sweep = find(user, sweep_id)
    say(sweep)
    return sweep


def forget() -> int:
    """Do away with sweeps that were deleted a day ago; how many there were."""
    long_ago = dt.datetime.now(dt.UTC) - runs.UNDO_FOR
    return Sweep.objects.filter(deleted_at__lt=long_ago).delete()[1].get("sweeps.Sweep", 0)


def open_cell(user: User, sweep_id: int, place: int) -> Run:
    """A variant as a run: the one there is of the same rules and period, or a new one."""
    sweep = find(user, sweep_id)
    cell = sweep.cells.filter(place=place).first()
    if cell is None:
        raise NotThere(f"Sweep {sweep.number} has no variant {place}.")
    if cell.problem:
        raise Refused(f"These rules cannot be run: {cell.problem}")
    values = taken(dials_of(sweep), cell.at)
    there = sweep.strategy.runs.there().filter(
        revision=sweep.revision, values=values, start=sweep.start, end=sweep.end, cash=sweep.cash
    ).exclude(status__in=(Run.Status.CANCELLED, Run.Status.FAILED, Run.Status.INTERRUPTED)).first()  # fmt: skip
    return there or runs.ask(
        user, sweep.strategy_id, sweep.start, sweep.end, sweep.cash, "blocks", sweep.revision, values
    )

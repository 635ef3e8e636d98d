"""Computing a sweep, part by part."""

from __future__ import annotations

import datetime as dt
import logging
import os
import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import cache, cached_property
from typing import Any

from django.conf import settings
from django.db import transaction

from config.errors import Refused
from config.heartbeat import beating
from market.ask import forgotten
from market.own import market_for, plan_for
from market.timelines import timeline
from runs.models import Variant
from strell_core.market.market import Market
from strell_core.results.variant import Cells, Outcome
from strell_core.strategy.document import DocumentError
from strell_core.strategy.edits import rules_digest
from strell_core.strategy.sweeps import Dial, Variations, taken
from sweeps.models import Cell, Part, Sweep
from sweeps.services import dials_of, enqueue, say

log = logging.getLogger("strell.sweeps")
STORE_EVERY = 1.0
"""Seconds after which what was computed is stored and told."""
WORKER = f"{socket.gethostname()} {os.getpid()}"[:80]


class Stopped(Exception):
    """The sweep was cancelled, or the part is somebody else's by now."""


def carry_out(part_id: int) -> None:
    """Compute what a part's variants lack. Safe to call twice: the second finds nothing to do."""
    part = _claim(part_id)
    if part is None:
        return
    mine = Part.objects.filter(pk=part.pk, status=Part.Status.RUNNING, attempts=part.attempts)
    done, known = _Done(part), _Known(part.sweep)
    try:
        with beating(lambda: mine.update(lease_until=_lease()), settings.RUN_LEASE_SECONDS / 3), done:
            for cell in part.sweep.cells.filter(place__gte=part.first, place__lt=part.last, done_at=None):
                done.add(cell, _compute(known, cell))
                if done.is_late and not (done.keep() and mine.filter(sweep__status=Sweep.Status.RUNNING).exists()):
                    raise Stopped
            if not done.keep():
                raise Stopped
    except Stopped:
        mine.update(status=Part.Status.QUEUED, lease_until=None)
        return
    mine.update(status=Part.Status.DONE, lease_until=None)
    say(part.sweep)
    _end(part.sweep)


@transaction.atomic
def _claim(part_id: int) -> Part | None:
    part = (
        Part.objects.select_for_update(of=["self"], no_key=True)
        .select_related("sweep__revision", "sweep__strategy")
        .filter(pk=part_id, status=Part.Status.QUEUED, sweep__status=Sweep.Status.RUNNING)
        .first()
    )
    if part is None:
        return None
    part.status, part.attempts, part.lease_until = Part.Status.RUNNING, part.attempts + 1, _lease()
    part.save()
    return part


def _lease() -> dt.datetime:
    return dt.datetime.now(dt.UTC) + dt.timedelta(seconds=settings.RUN_LEASE_SECONDS)


class _Done:
    """Variants that are computed and not stored yet: they are stored together, and told, once a second."""

    def __init__(self, part: Part) -> None:
        self.part = part
        self.cells: list[Cell] = []
        self.counted: dict[str, float | None] = {}
        self.stored = time.monotonic()

    def __enter__(self) -> None: ...

    def __exit__(self, *error: object) -> None:
        """What was computed is not lost with what failed."""
        self.keep()

    def add(self, cell: Cell, computed: _Computed) -> None:
        cell.problem, cell.done_at, cell.done_by = computed.problem, dt.datetime.now(dt.UTC), WORKER
        if computed.made is not None:
            cell.figures, cell.daily = computed.made.figures, computed.made.daily.astype("<f4").tobytes()
            self.counted[computed.digest] = computed.made.figures["sharpe"]
        self.cells.append(cell)

    @property
    def is_late(self) -> bool:
        return time.monotonic() - self.stored > STORE_EVERY

    @transaction.atomic
    def keep(self) -> bool:
        """Store them; false where the part is somebody else's by now."""
        cells, counted, self.cells, self.counted = self.cells, self.counted, [], {}
        self.stored = time.monotonic()
        mine = Part.objects.select_for_update(no_key=True).filter(
            pk=self.part.pk, status=Part.Status.RUNNING, attempts=self.part.attempts
        )
        if not mine.exists():
            return False
        if cells:
            # they are there: bulk_update would say every value of every row in a case of its own
            Cell.objects.bulk_create(
                cells, update_conflicts=True, unique_fields=["sweep", "place"],
                update_fields=["figures", "daily", "problem", "done_at", "done_by"],
            )  # fmt: skip
            Variant.count(self.part.sweep.strategy_id, counted)
            say(self.part.sweep)
        return True


@dataclass(frozen=True)
class _Computed:
    """What came of a variant: its outcome with the digest of its rules, or why they cannot be run."""

    made: Outcome | None = None
    digest: str = ""
    problem: str = ""


class _Known:
    """What a sweep's variants have in common, made when the first of them asks."""

    def __init__(self, sweep: Sweep) -> None:
        self.sweep, self.history = sweep, cache(timeline)

    @cached_property
    def dials(self) -> list[Dial]:
        return dials_of(self.sweep)

    @cached_property
    def variations(self) -> Variations:
        return Variations(self.sweep.revision.document)


def _compute(known: _Known, cell: Cell) -> _Computed:
    try:
        document = known.variations.document(taken(known.dials, cell.at))
        return _Computed(_outcome(known, document), rules_digest(document))
    except DocumentError as error:
        return _Computed(problem="; ".join(problem.message for problem in error.problems))
    except Refused as error:
        return _Computed(problem=error.message)
    except Exception:
        log.exception("variant %s of sweep %s failed", cell.place, known.sweep.pk)
        return _Computed(problem="It failed on an error of ours; it is in the worker's log.")


def _outcome(known: _Known, document: dict[str, Any]) -> Outcome:
    sweep = known.sweep
    market = market_for(document, sweep.strategy.owner_id, known.history)
    plan = plan_for(known.variations.strategy(document), market)
    begin, end = market.main.span(sweep.start, sweep.end)
    if begin == end:
        raise Refused("There is no session of this underlying in the period.")
    with _shared(sweep, market, begin, end) as cells:
        made = cells.outcome(plan, sweep.cash)
        if cells.differed:
            log.error("sweep %s: %s differ from the engine's, which is used", sweep.pk, ", ".join(cells.differed))
            cells.differed = []
    return made


@dataclass(frozen=True)
class _Kept:
    """What variants of a sweep have in common, for one at a time."""

    cells: Cells
    lock: threading.Lock = field(default_factory=threading.Lock)


@contextmanager
def _shared(sweep: Sweep, market: Market, begin: int, end: int) -> Iterator[Cells]:
    """What variants of a sweep have in common; kept between its parts. Who works on another part at the same time waits: one
    knows more than two, and two threads of a process compute no more than one."""
    key = sweep.pk, market.identity, begin, end
    with _LOCK:
        kept = _KEPT.pop(key, None) or _Kept(Cells(market, begin, end))
        while len(_KEPT) >= MOST_KEPT:
            del _KEPT[next(iter(_KEPT))]
        _KEPT[key] = kept
    with kept.lock:
        yield kept.cells


_KEPT: dict[Any, _Kept] = {}
_LOCK = threading.Lock()
MOST_KEPT = 2


@transaction.atomic
def _end(sweep: Sweep) -> None:
    """The last part ends the sweep."""
    held = Sweep.objects.select_for_update(no_key=True).get(pk=sweep.pk)
    if held.status == Sweep.Status.RUNNING and not held.parts.exclude(status=Part.Status.DONE).exists():
        held.status, held.finished_at = Sweep.Status.DONE, dt.datetime.now(dt.UTC)
        held.save(update_fields=["status", "finished_at"])
        say(held)


def recover() -> int:
    """Parts whose worker died, or that nobody is asked for, are queued again; how many there were."""
    now, count = dt.datetime.now(dt.UTC), 0
    lost = Part.objects.filter(status=Part.Status.RUNNING, lease_until__lt=now)
    for key in lost.values_list("pk", flat=True):
        with transaction.atomic():
            part = lost.select_for_update(skip_locked=True, no_key=True).filter(pk=key).first()
            if part is None:
                continue
            part.status, part.lease_until = Part.Status.QUEUED, None
            part.save(update_fields=["status", "lease_until"])
            enqueue(part)
            count += 1
    queued = Part.objects.filter(status=Part.Status.QUEUED, sweep__status=Sweep.Status.RUNNING)
    for part in forgotten(queued, "sweeps.execute", "part_id"):
        enqueue(part)
        count += 1
    return count

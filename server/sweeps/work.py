"""Computing a sweep, part by part."""

from __future__ import annotations

import datetime as dt
import logging
import os
import socket
import time
from typing import Any

from django.conf import settings
from django.db import transaction

from config.errors import Refused
from config.heartbeat import beating
from market.own import market_for
from runs.models import Variant
from strell_core.engine.plan import make_plan
from strell_core.results.variant import Outcome, outcome
from strell_core.strategy.document import DocumentError, parse, written
from strell_core.strategy.edits import rules_digest
from strell_core.strategy.sweeps import taken, varied
from sweeps.models import Cell, Part, Sweep
from sweeps.services import dials_of, enqueue, say

log = logging.getLogger("strell.sweeps")
TELL_EVERY = 1.0
"""Seconds between two pushes of a part."""
WORKER = f"{socket.gethostname()} {os.getpid()}"[:80]


class Stopped(Exception):
    """The sweep was cancelled, or the part is somebody else's by now."""


def carry_out(part_id: int) -> None:
    """Compute what a part's variants lack. Safe to call twice: the second finds nothing to do."""
    part = _claim(part_id)
    if part is None:
        return
    mine = Part.objects.filter(pk=part.pk, status=Part.Status.RUNNING, attempts=part.attempts)
    told = time.monotonic()
    try:
        with beating(lambda: mine.update(lease_until=_lease()), settings.RUN_LEASE_SECONDS / 3):
            for cell in part.sweep.cells.filter(place__gte=part.first, place__lt=part.last, done_at=None):
                _compute(part.sweep, cell)
                if time.monotonic() - told > TELL_EVERY:
                    told = time.monotonic()
                    say(part.sweep)
                if not mine.filter(sweep__status=Sweep.Status.RUNNING).exists():
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


def _compute(sweep: Sweep, cell: Cell) -> None:
    """A variant's figures, stored at once; rules that cannot be run say why."""
    facts: dict[str, Any] = {}
    try:
        document = written(varied(sweep.revision.document, taken(dials_of(sweep), cell.at)))
        made = _outcome(sweep, document)
    except DocumentError as error:
        facts = {"problem": "; ".join(problem.message for problem in error.problems)}
    except Refused as error:
        facts = {"problem": error.message}
    except Exception:
        log.exception("variant %s of sweep %s failed", cell.place, sweep.pk)
        facts = {"problem": "It failed on an error of ours; it is in the worker's log."}
    else:
        facts = {"figures": made.figures, "daily": made.daily.astype("<f4").tobytes()}
        Variant.count(sweep.strategy_id, rules_digest(document), made.figures["sharpe"])
    now = dt.datetime.now(dt.UTC)
    Cell.objects.filter(pk=cell.pk, done_at=None).update(**facts, done_at=now, done_by=WORKER)


def _outcome(sweep: Sweep, document: dict[str, Any]) -> Outcome:
    market = market_for(document, sweep.strategy.owner_id)
    plan = make_plan(parse(document), market.main)
    begin, end = market.main.span(sweep.start, sweep.end)
    if begin == end:
        raise Refused("There is no session of this underlying in the period.")
    return outcome(plan, market, begin, end, sweep.cash)


@transaction.atomic
def _end(sweep: Sweep) -> None:
    """The last part ends the sweep."""
    held = Sweep.objects.select_for_update(no_key=True).get(pk=sweep.pk)
    if held.status == Sweep.Status.RUNNING and not held.parts.exclude(status=Part.Status.DONE).exists():
        held.status, held.finished_at = Sweep.Status.DONE, dt.datetime.now(dt.UTC)
        held.save(update_fields=["status", "finished_at"])
        say(held)


def recover() -> int:
    """Parts whose worker died are queued again; how many there were."""
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
    return count

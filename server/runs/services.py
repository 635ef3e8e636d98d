"""Asking for runs, cancelling them, bringing them back; what a person says of them."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from config.errors import Conflict, NotThere, Refused
from config.push import notify
from market.ask import defer, forgotten
from market.timelines import timeline
from runs.models import Run
from strategies import services as strategies
from strategies.models import Revision, Strategy
from strell_core.market.timeline import Timeline
from strell_core.strategy.document import clock_of, written
from strell_core.strategy.edits import rules_digest
from strell_core.strategy.sweeps import varied

MAX_ACTIVE = 20
MAX_ATTEMPTS = 3
UNDO_FOR = dt.timedelta(days=1)
"""How long a deleted run can be brought back."""


def find(user: User, run_id: int) -> Run:
    # there may be thousands of decisions, which few ask for
    found = Run.objects.of(user).select_related("strategy", "revision").defer("decisions").filter(pk=run_id).first()
    if found is None:
        raise NotThere("There is no such run.")
    return found


@transaction.atomic
def ask(
    user: User, strategy_id: int, start: dt.date, end: dt.date, cash: Decimal, method: str,
    revision: Revision | None = None, values: dict[str, Any] | None = None, extends: Run | None = None,
    look: bool = False,
) -> Run:  # fmt: skip
    """Queue a backtest of a strategy's latest revision, or of a ``revision`` with other ``values`` by their paths; the
    job is enqueued with its row. ``extends``: a finished run of the same from the same start, of which it goes on. ``look``: at sessions held back too, which is counted."""
    strategy = strategies.find(user, strategy_id)
    revision = revision or strategy.latest
    document = written(varied(revision.document, values)) if values else revision.document
    history = timeline(clock_of(document))
    check_request(history, start, end, cash, method)
    if Run.objects.of(user).filter(status__in=Run.ACTIVE).count() >= MAX_ACTIVE:
        raise Conflict(f"{MAX_ACTIVE} runs are queued or running already. Wait for one, or cancel it.")
    strategy = type(strategy).objects.select_for_update(no_key=True).get(pk=strategy.pk)
    held = strategy.held_from if strategy.held_from is not None and end >= strategy.held_from else None
    if held is not None:
        if not look:
            refuse_held(strategy, end, "End before, or look at them: it is counted.")
        strategy.looks += 1
        strategy.save(update_fields=["looks"])
    last = strategy.runs.order_by("-number").values_list("number", flat=True).first() or 0
    run = Run.objects.create(
        strategy=strategy, revision=revision, values=values or {}, number=last + 1, start=start, end=end, cash=cash,
        digest=rules_digest(document), method=method, extends=extends,
        extended=[*extends.extended, extends.end.isoformat()] if extends else [],
        held_from=held, look=strategy.looks if held else 0,
    )  # fmt: skip
    _enqueue(run)
    return run


@transaction.atomic
def extend(user: User, run_id: int) -> Run:
    """A finished run and the sessions recorded after its end, as a run of its own that computes only those."""
    run = find(user, run_id)
    if run.status != Run.Status.DONE:
        raise Conflict(f"Run {run.number} has no result to go on from: it is {run.status}.")
    if run.figures.get("ruined_on"):
        raise Conflict(f"Run {run.number} ended when all was lost; there is nothing to go on with.")
    held = run.strategy.held_from
    dates = timeline(clock_of(run.document)).dates
    last = max((date for date in dates if held is None or run.look or date < held), default=run.end)
    if last <= run.end:
        rest = "yet" if held is None or run.look else f"that is not held back from {held:%-d %b %Y} on"
        raise Conflict(f"No session after {run.end:%-d %b %Y} is recorded {rest}.")
    return ask(
        user, run.strategy_id, run.start, last, run.cash, run.method, run.revision, run.values, run, bool(run.look)
    )


def refuse_held(strategy: Strategy, end: dt.date, what: str) -> None:
    """Raise :class:`Refused` where sessions to ``end`` are held back; ``what``: what can be done."""
    if strategy.held_from is not None and end >= strategy.held_from:
        message = f"Sessions from {strategy.held_from:%-d %b %Y} on are held back. {what}"
        raise Refused(message, [{"path": "end", "message": message}])


def check_request(history: Timeline, start: dt.date, end: dt.date, cash: Decimal, method: str) -> None:
    """Raise :class:`Refused` at the value that makes no sense."""

    def refuse(path: str, message: str) -> None:
        raise Refused(message, [{"path": path, "message": message}])

    first, last = history.dates[0], history.dates[-1]
    recorded = f"recorded is {first:%-d %b %Y} to {last:%-d %b %Y}"
    if end < start:
        refuse("end", f"The end {end:%-d %b %Y} lies before the start {start:%-d %b %Y}.")
    if end < first or start > last:
        refuse("start", f"There is no data between {start:%-d %b %Y} and {end:%-d %b %Y}: {recorded}.")
    begin, stop = history.span(start, end)
    if begin == stop:
        refuse("start", f"There is no session between {start:%-d %b %Y} and {end:%-d %b %Y}.")
    money_then, money_last = (history.underlying.on(max(date, first)).currency for date in (start, min(end, last)))
    if money_then != money_last:
        refuse(
            "start",
            f"The options change their currency from {money_then} to {money_last} in between. Run each part on its own.",
        )
    if not Decimal(1000) <= cash <= Decimal("1e9"):
        refuse("cash", "Starting cash must lie between 1 000 and 1 000 000 000.")
    if method not in ("blocks", "steps"):
        refuse("method", "The method is blocks or steps.")


def _enqueue(run: Run) -> None:
    defer("runs.execute", run_id=run.pk)
    notify(run.strategy.owner_id, "run", run.pk, strategy=run.strategy_id)


@transaction.atomic
def cancel(user: User, run_id: int) -> Run:
    run = Run.objects.select_for_update(no_key=True).get(pk=find(user, run_id).pk)
    if run.status == Run.Status.QUEUED:
        run.status, run.finished_at = Run.Status.CANCELLED, dt.datetime.now(dt.UTC)
    elif run.status == Run.Status.RUNNING:
        run.cancel_requested = True
    run.save()
    notify(user.pk, "run", run.pk, strategy=run.strategy_id)
    return run


@transaction.atomic
def go_on(user: User, run_id: int) -> Run:
    """Start an interrupted, cancelled or failed run again."""
    run = Run.objects.select_for_update(no_key=True).get(pk=find(user, run_id).pk)
    if run.status in (*Run.ACTIVE, Run.Status.DONE):
        raise Conflict(f"Run {run.number} is {run.status}; only one that stopped can go on.")
    run.status, run.cancel_requested, run.attempts, run.message, run.progress = Run.Status.QUEUED, False, 0, "", 0.0
    run.save()
    _enqueue(run)
    return run


@transaction.atomic
def delete(user: User, run_id: int) -> None:
    """Take a run off every page. It can be brought back with :func:`restore` for a day."""
    run = Run.objects.select_for_update(no_key=True).get(pk=find(user, run_id).pk)
    if run.status in Run.ACTIVE:
        raise Conflict("Cancel the run before deleting it.")
    run.deleted_at = dt.datetime.now(dt.UTC)
    run.save(update_fields=["deleted_at"])
    notify(user.pk, "run", run.pk, strategy=run.strategy_id)


@transaction.atomic
def restore(user: User, run_id: int) -> Run:
    """Bring a deleted run back; one that is there stays as it is."""
    own = Run.objects.filter(strategy__owner=user, strategy__deleted_at=None)
    run = own.select_for_update(of=["self"], no_key=True).filter(pk=run_id).first()
    if run is None:
        raise NotThere("There is no such run any more.")
    run.deleted_at = None
    run.save(update_fields=["deleted_at"])
    notify(user.pk, "run", run.pk, strategy=run.strategy_id)
    return find(user, run_id)


@transaction.atomic
def describe(user: User, run_id: int, words: dict[str, Any]) -> Run:
    """Change what a person says of a run: ``name``, ``note``, ``tags``, ``archived``, ``baseline``; what is not given
    stays. The baseline moves from the run that had it."""
    run = Run.objects.select_for_update(no_key=True).get(pk=find(user, run_id).pk)
    if words.get("baseline"):
        if run.status != Run.Status.DONE:
            raise Conflict(f"Run {run.number} has no result to compare with: it is {run.status}.")
        # the strategy's row keeps two who choose at once apart
        type(run.strategy).objects.select_for_update(no_key=True).get(pk=run.strategy_id)
        run.strategy.runs.filter(baseline=True).exclude(pk=run.pk).update(baseline=False)
    for name, value in words.items():
        setattr(run, name, value)
    run.save(update_fields=list(words))
    notify(user.pk, "run", run.pk, strategy=run.strategy_id)
    return run


def forget() -> int:
    """Do away with runs that were deleted a day ago; how many there were."""
    long_ago = dt.datetime.now(dt.UTC) - UNDO_FOR
    return Run.objects.filter(deleted_at__lt=long_ago).delete()[1].get("runs.Run", 0)


def recover() -> int:
    """Runs whose worker died, or that nobody is asked for, are queued again; after three tries they are called
    interrupted."""
    now = dt.datetime.now(dt.UTC)
    count = 0
    for key in Run.objects.filter(status=Run.Status.RUNNING, lease_until__lt=now).values_list("pk", flat=True):
        with transaction.atomic():
            run = Run.objects.select_for_update(skip_locked=True, no_key=True).filter(
                pk=key, status=Run.Status.RUNNING, lease_until__lt=now
            ).first()  # fmt: skip
            if run is None:
                continue
            count += 1
            if run.attempts < MAX_ATTEMPTS:
                run.status = Run.Status.QUEUED
                run.save(update_fields=["status"])
                _enqueue(run)
            else:
                run.status = Run.Status.INTERRUPTED
                run.message = f"The worker stopped {run.attempts} times while it was running. Go on to try again."
                run.save(update_fields=["status", "message"])
                notify(run.strategy.owner_id, "run", run.pk, strategy=run.strategy_id)
    for run in forgotten(Run.objects.filter(status=Run.Status.QUEUED), "runs.execute", "run_id"):
        _enqueue(run)
        count += 1
    return count

"""Asking for runs, cancelling them, carrying them out."""

from __future__ import annotations

import datetime as dt
import logging
import time
from decimal import Decimal
from typing import Any

import numba
import numpy as np
from django.conf import settings
from django.contrib.auth.models import User
from django.db import transaction

from config.errors import Conflict, NotThere, Refused
from config.heartbeat import beating
from config.push import notify
from market.ask import defer
from market.own import market_for
from market.timelines import timeline
from runs.kept import keep, leg_facts
from runs.models import Run, RunTrade, Variant
from runs.queries import decisions
from runs.rows import open_row, trade_row
from strategies import services as strategies
from strategies.models import Revision
from strell_core.engine.code import deciding_code
from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks, run_steps
from strell_core.engine.state import to_plain
from strell_core.market.timeline import Timeline
from strell_core.measures.measure import MarketMeasure, load
from strell_core.pricing.surface import CONVENTIONS
from strell_core.results import metrics
from strell_core.results.causes import causes
from strell_core.results.report import Report, report
from strell_core.strategy.document import clock_of, parse, written
from strell_core.strategy.edits import rules_digest
from strell_core.strategy.sweeps import varied

log = logging.getLogger("strell.runs")
MAX_ACTIVE = 20
MAX_ATTEMPTS = 3
UNDO_FOR = dt.timedelta(days=1)
"""How long a deleted run can be brought back."""
REPORT_EVERY = 0.2


class Cancelled(Exception):
    """The user asked the run to stop."""


def find(user: User, run_id: int) -> Run:
    found = Run.objects.of(user).select_related("strategy", "revision").filter(pk=run_id).first()
    if found is None:
        raise NotThere("There is no such run.")
    return found


@transaction.atomic
def ask(
    user: User, strategy_id: int, start: dt.date, end: dt.date, cash: Decimal, method: str,
    revision: Revision | None = None, values: dict[str, Any] | None = None,
) -> Run:  # fmt: skip
    """Queue a backtest of a strategy's latest revision, or of a ``revision`` with other ``values`` by their paths; the
    job is enqueued with its row."""
    strategy = strategies.find(user, strategy_id)
    revision = revision or strategy.latest
    document = written(varied(revision.document, values)) if values else revision.document
    history = timeline(clock_of(document))
    check_request(history, start, end, cash, method)
    if Run.objects.of(user).filter(status__in=Run.ACTIVE).count() >= MAX_ACTIVE:
        raise Conflict(f"{MAX_ACTIVE} runs are queued or running already. Wait for one, or cancel it.")
    type(strategy).objects.select_for_update(no_key=True).get(pk=strategy.pk)
    last = strategy.runs.order_by("-number").values_list("number", flat=True).first() or 0
    run = Run.objects.create(
        strategy=strategy, revision=revision, values=values or {}, number=last + 1, start=start, end=end, cash=cash,
        digest=rules_digest(document), method=method,
    )  # fmt: skip
    _enqueue(run)
    return run


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
    """Runs whose worker died are queued again; after three tries they are called interrupted."""
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
    return count


def carry_out(run_id: int) -> None:
    """Run a queued backtest to its end. Safe to call twice: the second finds nothing to do."""
    run = _claim(run_id)
    if run is None:
        return
    mine = Run.objects.filter(pk=run.pk, status=Run.Status.RUNNING, attempts=run.attempts)
    try:
        with beating(lambda: mine.update(lease_until=_lease()), settings.RUN_LEASE_SECONDS / 3):
            result = _compute(run)
    except Cancelled:
        _end(run, Run.Status.CANCELLED, "Cancelled; nothing was kept of it.")
    except Refused as error:
        _end(run, Run.Status.FAILED, error.message)
    except Exception:
        log.exception("run %s failed", run_id)
        _end(run, Run.Status.FAILED, "The run failed on an error of ours; it is in the worker's log.")
    else:
        _keep(run, *result)


@transaction.atomic
def _claim(run_id: int) -> Run | None:
    run = Run.objects.select_for_update(no_key=True).select_related("strategy", "revision").filter(pk=run_id).first()
    if run is None or run.status != Run.Status.QUEUED:
        return None
    run.status, run.attempts, run.progress = Run.Status.RUNNING, run.attempts + 1, 0.0
    run.started_at = dt.datetime.now(dt.UTC)
    run.lease_until = _lease()
    run.save()
    notify(run.strategy.owner_id, "run", run.pk, strategy=run.strategy_id)
    return run


def _lease() -> dt.datetime:
    return dt.datetime.now(dt.UTC) + dt.timedelta(seconds=settings.RUN_LEASE_SECONDS)


def _compute(run: Run) -> tuple[Timeline, Report, list[RunTrade], list[dict[str, Any]]]:
    history = timeline(clock_of(run.document))
    plan = make_plan(parse(run.document), history)
    begin, end = history.span(run.start, run.end)
    method = run_blocks if run.method == "blocks" else run_steps
    progress = _reporter(run, begin, end)
    whole = market_for(run.document, run.strategy.owner_id)
    result = method(plan, whole, begin, end, run.cash, progress, until_ruin=True)
    made = report(plan, history, result, begin, end, run.cash, run.seed)
    trades, leaving = [], {item.trade: item for item in made.leavings}
    for trade in result.closed:
        progress(end)
        legs, why = leg_facts(history, trade), causes(history, trade)
        row = trade_row(plan, history, run.document, trade, legs, why, leaving.get(trade.number))
        kept = keep(plan, history, trade, legs, why)
        trades.append(RunTrade(number=trade.number, row=row, trade=to_plain(trade), kept=kept))
    return history, made, trades, [open_row(plan, history, item) for item in made.still_open]


def _reporter(run: Run, begin: int, end: int) -> Any:
    last = time.monotonic()

    def progress(index: int) -> None:
        nonlocal last
        if time.monotonic() - last < REPORT_EVERY:
            return
        last = time.monotonic()
        share = (index - begin) / (end - begin)
        Run.objects.filter(pk=run.pk).update(progress=share, lease_until=_lease())
        notify(run.strategy.owner_id, "progress", run.pk, strategy=run.strategy_id, share=round(share, 4))
        if Run.objects.filter(pk=run.pk, cancel_requested=True).exists():
            raise Cancelled

    return progress


def _end(run: Run, status: str, message: str) -> None:
    Run.objects.filter(pk=run.pk).update(
        status=status, message=message, finished_at=dt.datetime.now(dt.UTC), lease_until=None
    )
    notify(run.strategy.owner_id, "run", run.pk, strategy=run.strategy_id)


def _keep(run: Run, history: Timeline, made: Report, trades: list[RunTrade], still_open: list[dict[str, Any]]) -> None:
    """Store results in one transaction: a crash before it leaves a run that can go on."""
    curve, start = made.curve, float(run.cash)
    last = history.first[curve.sessions + 1] - 1
    with transaction.atomic():
        kept = Run.objects.select_for_update(no_key=True).get(pk=run.pk)
        if kept.status != Run.Status.RUNNING:
            return
        kept.trades.all().delete()
        document = run.document
        for trade in trades:
            trade.run = kept
        RunTrade.objects.bulk_create(trades, batch_size=500)
        kept.curve = {
            "dates": [history.dates[s].isoformat() for s in curve.sessions.tolist()],
            "equity": curve.equity.round(2).tolist(),
            "drawdown": metrics.drawdowns(curve.equity, start).round(6).tolist(),
            "spot": (history.spot[last] / 100).round(2).tolist(),
            "vol": _volatility(history, curve.sessions),
        }
        kept.figures, kept.intervals, kept.evidence = made.figures, made.intervals, made.evidence
        kept.decisions = decisions(document, history, made.decisions)
        kept.manifest, kept.open_trades = manifest(run, history), still_open
        kept.status, kept.progress, kept.message, kept.lease_until = Run.Status.DONE, 1.0, "", None
        kept.finished_at = dt.datetime.now(dt.UTC)
        kept.save()
        Variant.count(run.strategy_id, run.digest, made.figures["sharpe"])
        notify(run.strategy.owner_id, "run", run.pk, strategy=run.strategy_id)


def _volatility(history: Timeline, sessions: Any) -> list[float | None]:
    """At-the-money IV over 30 days at the end of every session, in percent."""
    measure = load()["atm_iv"]
    assert isinstance(measure, MarketMeasure)
    values = measure.known(history, {})[sessions + 1]
    return [None if value != value else value for value in values.tolist()]


def manifest(run: Run, history: Timeline) -> dict[str, Any]:
    """What the results depend on: same manifest, same results."""
    whole = market_for(run.document, run.strategy.owner_id)
    series = {name: found.digest for name, found in sorted(whole.series.items())}
    return {
        "rules": run.digest, "revision": run.revision.number, "chains": history.digest,
        "calendar": history.calendar.name, "underlying": clock_of(run.document),
        "start": run.start.isoformat(), "end": run.end.isoformat(), "cash": str(run.cash), "seed": run.seed,
        "method": run.method, "conventions": CONVENTIONS, "code": deciding_code(),
        "numpy": np.__version__, "numba": numba.__version__, **({"series": series} if series else {}),
    }  # fmt: skip

"""Carrying a run out: computed by one worker, kept in one transaction."""

from __future__ import annotations

import datetime as dt
import logging
import time
from dataclasses import dataclass
from typing import Any

import numba
import numpy as np
from django.conf import settings
from django.db import transaction

from config.errors import Refused
from config.heartbeat import beating
from config.push import notify
from market.own import market_for, plan_for
from market.timelines import digest_until
from runs.kept import keep, leg_facts
from runs.models import Carried, Run, RunTrade, Variant
from runs.queries import DECIDING_SHARE, decisions, doing
from runs.rows import open_row, trade_row
from runs.trade_history import history_of
from strell_core.engine.code import deciding_code
from strell_core.engine.plain import to_plain
from strell_core.engine.run import History, run_blocks, run_steps
from strell_core.market.market import Market
from strell_core.market.timeline import Timeline
from strell_core.measures.measure import MarketMeasure, load
from strell_core.pricing.surface import CONVENTIONS
from strell_core.results import metrics
from strell_core.results.causes import causes
from strell_core.results.report import Report, report
from strell_core.results.trade_events import trade_events
from strell_core.strategy.document import clock_of, parse
from strell_core.strategy.sentences import sheet

log = logging.getLogger("strell.runs")
REPORT_EVERY = 0.2


class Cancelled(Exception):
    """The user asked the run to stop."""


def carry_out(run_id: int) -> None:
    """Run a queued backtest to its end. Safe to call twice: the second finds nothing to do."""
    run = _claim(run_id)
    if run is None:
        return
    mine = Run.objects.filter(pk=run.pk, status=Run.Status.RUNNING, attempts=run.attempts)
    try:
        with beating(lambda: mine.update(lease_until=_lease()), settings.RUN_LEASE_SECONDS / 3):
            made = _compute(run)
    except Cancelled:
        _end(run, Run.Status.CANCELLED, "Cancelled; nothing was kept of it.")
    except Refused as error:
        _end(run, Run.Status.FAILED, error.message)
    except Exception:
        log.exception("run %s failed", run_id)
        _end(run, Run.Status.FAILED, "The run failed on an error of ours; it is in the worker's log.")
    else:
        _keep(run, made)


@transaction.atomic
def _claim(run_id: int) -> Run | None:
    run = (
        Run.objects.select_for_update(of=["self"], no_key=True)
        .select_related("strategy", "revision", "extends")
        .filter(pk=run_id)
        .first()
    )
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


@dataclass(frozen=True)
class Made:
    """What a run came to."""

    timeline: Timeline
    history: History
    report: Report
    trades: list[RunTrade]
    still_open: list[dict[str, Any]]
    manifest: dict[str, Any]
    message: str


def _before(run: Run, whole: Market) -> History | None:
    """What the run that this one extends had come to; ``None`` where it has to be computed anew: it extends none, or
    what the other rests on has changed."""
    old = run.extends
    if old is None or old.manifest.get("until") != _until(run, old.end):
        return None
    if any(old.manifest.get(name) != value for name, value in manifest(run, whole).items() if name in RESTS_ON):
        return None
    return Carried.of(old, whole.main.underlying.symbol)


RESTS_ON = ("rules", "start", "cash", "method", "code", "numpy", "numba", "series", "calendar", "conventions")
"""What has to be the same for a run to go on from another."""


def _until(run: Run, end: dt.date) -> dict[str, str]:
    """Identity of all data up to a day, by underlying."""
    return {symbol: digest_until(symbol, end) for symbol in run.document["underlyings"]}


def _compute(run: Run) -> Made:
    # before the data is opened: what is corrected meanwhile makes a run that goes on from this one begin anew
    until = _until(run, run.end)
    whole = market_for(run.document, run.strategy.owner_id)
    history = whole.main
    plan = plan_for(parse(run.document), whole)
    begin, end = history.span(run.start, run.end)
    method = run_blocks if run.method == "blocks" else run_steps
    before = _before(run, whole)
    at = begin if before is None or run.extends is None else history.span(run.start, run.extends.end)[1]
    reporter = _Reporter(run, at, end)
    result = method(
        plan, whole, at, end, run.cash, reporter.at_snapshot, before.state if before else None, until_ruin=True
    )
    if before is not None:
        before.extend(result)
        result = before
    reporter.at_figures()
    made = report(plan, whole, result, begin, end, run.cash, run.seed)
    there = {} if before is None or run.extends is None else {row.number: row for row in run.extends.trades.all()}
    trades, leaving, events = [], {item.trade: item for item in made.leavings}, trade_events(result)
    document = run.document
    written = sheet(document)
    for place, trade in enumerate(result.closed):
        reporter.at_trade(place, len(result.closed))
        old = there.get(trade.number)
        if old is not None:
            trades.append(RunTrade(number=old.number, row=old.row, trade=old.trade, kept=old.kept))
            continue
        its = whole.on_clock(trade.symbol)
        legs, why = leg_facts(its, trade), causes(its, trade)
        row = trade_row(its, document, written, trade, legs, why, leaving.get(trade.number))
        kept = keep(plan, its, trade, legs, why, history_of(its, document, written, events[trade.number]))
        trades.append(RunTrade(number=trade.number, row=row, trade=to_plain(trade), kept=kept))
    anew = run.extends is not None and before is None
    return Made(
        history, result, made, trades, [open_row(whole.on_clock(item.trade.symbol), item) for item in made.still_open],
        {**manifest(run, whole), "until": until},
        f"What run {run.extends.number} rests on has changed: all sessions were computed anew." if anew and run.extends else "",
    )  # fmt: skip


class _Reporter:
    """Says how far a run is, keeps its lease, and stops it where that is asked for."""

    def __init__(self, run: Run, begin: int, end: int) -> None:
        self._run, self._begin, self._end, self._last = run, begin, end, time.monotonic()

    def at_snapshot(self, index: int) -> None:
        """The engine has come to a snapshot."""
        self._say(DECIDING_SHARE * (index - self._begin) / (self._end - self._begin))

    def at_figures(self) -> None:
        """All is decided; figures are to be worked out."""
        self._say(DECIDING_SHARE, at_once=True)

    def at_trade(self, place: int, of: int) -> None:
        """Of so many trades, what the page of one shows is to be made."""
        self._say(DECIDING_SHARE + (1 - DECIDING_SHARE) * place / of)

    def _say(self, share: float, at_once: bool = False) -> None:
        run = self._run
        if time.monotonic() - self._last < REPORT_EVERY and not at_once:
            return
        self._last = time.monotonic()
        Run.objects.filter(pk=run.pk).update(progress=share, lease_until=_lease())
        words = doing(Run.Status.RUNNING, share)
        notify(run.strategy.owner_id, "progress", run.pk, strategy=run.strategy_id, share=round(share, 4), doing=words)
        if Run.objects.filter(pk=run.pk, cancel_requested=True).exists():
            raise Cancelled


def _end(run: Run, status: str, message: str) -> None:
    Run.objects.filter(pk=run.pk).update(
        status=status, message=message, finished_at=dt.datetime.now(dt.UTC), lease_until=None
    )
    notify(run.strategy.owner_id, "run", run.pk, strategy=run.strategy_id)


def _keep(run: Run, made: Made) -> None:
    """Store results in one transaction: a crash before it leaves a run that can go on."""
    history, told = made.timeline, made.report
    curve, start = told.curve, float(run.cash)
    last = history.first[curve.sessions + 1] - 1
    with transaction.atomic():
        kept = Run.objects.select_for_update(no_key=True).get(pk=run.pk)
        if kept.status != Run.Status.RUNNING:
            return
        kept.trades.all().delete()
        document = run.document
        for trade in made.trades:
            trade.run = kept
        RunTrade.objects.bulk_create(made.trades, batch_size=500)
        Carried.keep(kept, made.history)
        kept.curve = {
            "dates": [history.dates[s].isoformat() for s in curve.sessions.tolist()],
            "equity": curve.equity.round(2).tolist(),
            "drawdown": metrics.drawdowns(curve.equity, start).round(6).tolist(),
            "spot": (history.spot[last] / 100).round(2).tolist(),
            "vol": _volatility(history, curve.sessions),
            "holding": told.holding.round(2).tolist(),
        }
        kept.figures, kept.intervals, kept.evidence = told.figures, told.intervals, told.evidence
        kept.decisions = decisions(document, history, told.decisions)
        kept.manifest, kept.open_trades = made.manifest, made.still_open
        kept.status, kept.progress, kept.message, kept.lease_until = Run.Status.DONE, 1.0, made.message, None
        kept.finished_at = dt.datetime.now(dt.UTC)
        kept.save()
        Variant.count(run.strategy_id, {run.digest: told.figures["sharpe"]})
        notify(run.strategy.owner_id, "run", run.pk, strategy=run.strategy_id)


def _volatility(history: Timeline, sessions: Any) -> list[float | None]:
    """At-the-money IV over 30 days at the end of every session, in percent."""
    measure = load()["atm_iv"]
    assert isinstance(measure, MarketMeasure)
    values = measure.known(history, {})[sessions + 1]
    return [None if value != value else value for value in values.tolist()]


def manifest(run: Run, whole: Market) -> dict[str, Any]:
    """What the results depend on: same manifest, same results."""
    history = whole.main
    series = {name: found.digest for name, found in sorted(whole.series.items())}
    return {
        "rules": run.digest, "revision": run.revision.number, "chains": history.digest,
        "calendar": history.calendar.name, "underlying": clock_of(run.document),
        "start": run.start.isoformat(), "end": run.end.isoformat(), "cash": str(run.cash), "seed": run.seed,
        "method": run.method, "conventions": CONVENTIONS, "code": deciding_code(),
        "numpy": np.__version__, "numba": numba.__version__, **({"series": series} if series else {}),
    }  # fmt: skip

"""Reading runs: the track, a run's evidence, one trade in full."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Callable, Sequence
from dataclasses import asdict
from functools import lru_cache
from typing import Any

import numpy as np
from django.contrib.auth.models import User
from django.db.models import F, Func, Q, TextField
from django.db.models.functions import Cast

from config.errors import NotThere, Refused
from market.own import market_for, plan_for
from market.timelines import timeline
from runs import kept
from runs.daily import COLUMNS, daily_greeks
from runs.models import Run, RunTrade
from runs.schemas import RunHead
from strategies.models import Strategy
from strategies.queries import acting_sheet_of
from strell_core.engine.stored import closed_trade
from strell_core.formats.tables import TRADES, WRITERS
from strell_core.market.instruments import ContractKey
from strell_core.market.timeline import Timeline
from strell_core.results import metrics
from strell_core.results.causes import causes
from strell_core.results.figures import FIGURES
from strell_core.results.parted import parted
from strell_core.strategy.document import clock_of, parse, typed
from strell_core.strategy.reasons import sentence_said
from strell_core.strategy.sentences import sheet
from strell_core.strategy.sweeps import UNDERLYING, places

SPARK_POINTS = 60
PATH_POINTS = 1200
LATEST = 60
MOST_FOUND = 20
ROLLING_SESSIONS, ROLLING_TRADES = 63, 20
"""A quarter; and as many trades as say something of a share."""


def on_track(strategy: Strategy) -> dict[str, Any]:
    """What backtests have to show for a strategy."""
    large = ("decisions", "curve", "evidence", "manifest", "open_trades", "revision__document")
    runs = list(strategy.runs.there().select_related("revision").defer(*large).order_by("-number"))
    digest = strategy.revisions.order_by("-number").values_list("digest", flat=True).first()
    # a sweep's variant is not what the sheet says, unless the sheet says the same by now
    done = next(
        (run for run in runs if run.status == Run.Status.DONE and (not run.values or run.digest == digest)), None
    )
    figures = done.figures if done else {}
    equity = done.curve.get("equity", []) if done else []
    every = max(1, len(equity) // SPARK_POINTS)
    return {
        "runs": len(runs), "outdated": sum(run.status == Run.Status.DONE and outdated(run, digest) for run in runs),
        "last_run": done.number if done else None,
        "last_status": runs[0].status if runs else None, "mar": figures.get("mar"),
        "max_drawdown": figures.get("max_drawdown"), "win_rate": figures.get("trades_win_rate"),
        "trades": figures.get("trades_count"), "spark": equity[::every],
    }  # fmt: skip


def outdated(run: Run, digest: str | None) -> bool:
    """Whether neither a run nor the revision it is a variant of is what the sheet says now."""
    return digest not in (run.digest, run.revision.digest)


def variant_text(run: Run) -> str:
    """The values that a sweep's variant has instead of its revision's; nothing of any other run."""
    if not run.values:
        return ""
    told = [
        f"{place.param.label.lower()} {place.text(place.value)}"
        for place in places(run.document)
        if place.path in run.values
    ]
    if UNDERLYING in run.values:
        told.insert(0, run.values[UNDERLYING])
    return ", ".join(dict.fromkeys(told))


def figures_of(run: Run) -> dict[str, Any] | None:
    """A finished run's figures; what was not made yet when it ran has no value."""
    return {name: run.figures.get(name) for name in FIGURES} if run.figures else None


def latest(user: User) -> list[dict[str, Any]]:
    """The last finished runs of all strategies, the newest first: what is found by a name."""
    found = Run.objects.of(user).filter(status=Run.Status.DONE).select_related("revision").order_by("-finished_at")
    return [
        {
            "id": run.pk, "number": run.number, "strategy": run.strategy_id, "name": run.revision.document["name"],
            "variant": variant_text(run), "start": run.start, "end": run.end, "called": run.name,
        }
        for run in found.filter(archived=False).only(
            "number", "name", "strategy_id", "values", "start", "end", "finished_at", "revision", "revision__document"
        )[:LATEST]
    ]  # fmt: skip


def trades_found(user: User, number: int | None, on: dt.date | None) -> list[dict[str, Any]]:
    """Trades by number or by the day of entry, of the last finished run of every strategy."""
    if number is None and on is None:
        return []
    done = Run.objects.of(user).filter(status=Run.Status.DONE, archived=False)
    last = done.order_by("strategy", "-finished_at").distinct("strategy").values_list("pk", flat=True)
    found = RunTrade.objects.filter(run__in=list(last))
    found = found.filter(number=number) if number is not None else found.filter(row__opened__startswith=f"{on}")
    rows = found.select_related("run__revision").order_by("-run__finished_at", "number").only(
        "number", "row", "run__number", "run__strategy_id", "run__finished_at", "run__revision__document"
    )  # fmt: skip
    return [
        {
            "strategy": trade.run.strategy_id, "name": trade.run.revision.document["name"], "run": trade.run.number,
            "trade": trade.number, "opened_shown": trade.row["opened_shown"], "pnl": trade.row["pnl"],
        }
        for trade in rows[:MOST_FOUND]
    ]  # fmt: skip


DECIDING_SHARE = 0.8
"""Of a run's progress, the part in which rules are decided; in the rest figures and what trades' pages show are made."""


def doing(status: str, share: float, stopping: bool = False) -> str:
    """What a run is doing, in words; nothing of one that is over."""
    if status == Run.Status.QUEUED:
        return "waiting for a worker"
    if status != Run.Status.RUNNING:
        return ""
    if stopping:
        return "stopping"
    if share < DECIDING_SHARE:
        return f"{share / DECIDING_SHARE:.0%} of the snapshots decided".replace("%", " %")
    told = (share - DECIDING_SHARE) / (1 - DECIDING_SHARE)
    return f"working out figures and trades, {told:.0%}".replace("%", " %") if told > 0 else "working out figures"


def run_facts(run: Run) -> dict[str, Any]:
    """A run for lists."""
    latest = run.strategy.latest
    return {
        "id": run.pk, "number": run.number, "strategy": run.strategy_id, "strategy_name": latest.document["name"], "revision": run.revision.number,
        "outdated": outdated(run, latest.digest), "variant": variant_text(run), "start": run.start, "end": run.end,
        "cash": float(run.cash), "method": run.method, "status": run.status, "progress": run.progress, "doing": doing(run.status, run.progress, run.cancel_requested),
        "queued_at": run.queued_at, "started_at": run.started_at, "finished_at": run.finished_at,
        "message": run.message, "figures": figures_of(run), "intervals": run.intervals, "cancel_requested": run.cancel_requested,
        "name": run.name, "note": run.note, "tags": run.tags, "archived": run.archived, "baseline": run.baseline,
        "extended": run.extended,
    }  # fmt: skip


def head_facts(run: Run) -> dict[str, Any]:
    """A run with its curve and what else belongs to it alone, without what there may be thousands of."""
    return {
        **run_facts(run), "curve": run.curve, "evidence": run.evidence, "manifest": run.manifest, "held": held_of(run),
        "open_trades": run.open_trades, "document": run.document, "sheet": acting_sheet_of(run.document, run.strategy.owner_id),
    }  # fmt: skip


def whole_facts(run: Run) -> dict[str, Any]:
    """A run with everything."""
    return {**head_facts(run), "decisions": _decisions(run), "trades": list(run.trades.values_list("row", flat=True))}


NOT_OF_THE_ROW = ["causes"]
"""What is kept beside a trade's row and read elsewhere."""


class _RowText(Func):
    """A trade's row as the text it goes out as."""

    template = f"(%(expressions)s - ARRAY{NOT_OF_THE_ROW})::text"
    output_field = TextField()


def run_text(run: Run, without: str | None = None) -> str:
    """A run as :class:`runs.schemas.RunOut` says it, as JSON. Its trades and decisions were kept in the shape they go out
    in, and are not taken apart and put together again: there may be thousands. ``without``: which of the two is not
    wanted."""
    head = RunHead.model_validate(head_facts(run)).model_dump_json(by_alias=True)
    trades = "[]" if without == "trades" else _trades_text(run.pk, run.finished_at)
    decisions = "[]" if without == "decisions" else _decisions_text(run)
    return f'{head[:-1]},"decisions":{decisions},"trades":{trades}}}'


@lru_cache(maxsize=4)
def _trades_text(run_id: int, finished_at: dt.datetime | None) -> str:
    """Read once a run: a finished one never changes, and one that is not has none."""
    rows = RunTrade.objects.filter(run=run_id).annotate(text=_RowText(F("row"))).order_by("number")
    return f"[{','.join(rows.values_list('text', flat=True))}]"


def _decisions_text(run: Run) -> str:
    worded = Run.objects.filter(pk=run.pk, decisions__0__has_key="text").annotate(text=Cast("decisions", TextField()))
    return worded.values_list("text", flat=True).first() or json.dumps(_decisions(run), separators=(",", ":"))


def held_of(run: Run) -> dict[str, Any] | None:
    """What a run that looks at sessions held back made before them and in them."""
    if run.held_from is None or run.status != Run.Status.DONE:
        return None
    dates = [dt.date.fromisoformat(date) for date in run.curve["dates"]]
    trades = [
        (dt.date.fromisoformat(at[:10]), float(pnl)) for at, pnl in run.trades.values_list("row__opened", "row__pnl")
    ]
    before, after = parted(
        dates, np.array(run.curve["equity"], np.float64), float(run.cash), trades, run.held_from, run.seed
    )
    return {"since": run.held_from, "look": run.look, "before": asdict(before), "after": asdict(after)}


def course(run: Run) -> dict[str, Any]:
    """A finished run through time: what every month made, and figures of the stretch before each day."""
    if run.status != Run.Status.DONE:
        raise Refused(f"Run {run.number} has no result: it is {run.status}.")
    dates = [dt.date.fromisoformat(date) for date in run.curve["dates"]]
    equity, start = np.array(run.curve["equity"], np.float64), float(run.cash)
    closed = list(run.trades.order_by("trade__closed_at", "number").values_list("row__closed", "row__pnl"))
    won = metrics.rolling_mean(np.array([float(pnl > 0) for _, pnl in closed]), ROLLING_TRADES)
    told = [why for why in run.trades.values_list("row__causes", flat=True) if why]
    return {
        "causes": {cause: round(sum(why[cause] for why in told), 2) for cause in told[0]} if len(told) == len(closed) and told else None,
        "months": [dict(zip(("year", "month", "pnl", "share"), month, strict=True)) for month in metrics.by_month(dates, equity, start)],
        "sessions": ROLLING_SESSIONS, "dates": run.curve["dates"],
        "sharpe": _known(metrics.rolling_sharpe(metrics.returns(equity, start), ROLLING_SESSIONS)),
        "trades": ROLLING_TRADES, "closed": [closed_at[:10] for closed_at, _ in closed], "won": _known(won),
    }  # fmt: skip


def _known(values: Any) -> list[float | None]:
    return [None if value != value else value for value in values.round(4).tolist()]


def decisions(document: dict[str, Any], history: Timeline, made: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Every decision time with what was decided and why, in words."""
    written = sheet(document)
    known = {sentence.id: sentence for sentence in written.sentences}
    several = len(typed(document).traded) > 1
    out = []
    for item in made:
        sentence = known[item["rule"]]
        if item["kind"] == "entry":
            codes = item["values"]["contracts"]
            text = f"entered {labels(codes, history.underlying.symbol, several)}"
            if "lapsed" in item["values"]:
                text = f"{text}: not filled, {item['values']['lapsed']}"
        else:
            text = sentence_said(written, document, sentence, item["truth"], item["values"])
        out.append(
            {
                "at": item["at"], "local": history.calendar.local(item["at"]).strftime("%Y-%m-%dT%H:%M"),
                "kind": item["kind"], "rule": item["rule"], "trade": item["trade"], "entry": sentence.entry,
                "text": text if item["kind"] == "entry" else f"sentence {sentence.number} said no: {text}",
            }
        )  # fmt: skip
    return out


def labels(codes: Sequence[str], symbol: str, several: bool) -> str:
    """Contracts by their codes in words, their underlying before them where there are ``several``; ``symbol``: whose
    they are where a code does not say it."""
    return ", ".join(ContractKey.parse(code, symbol, only=False).named(several) for code in codes)


def _decisions(run: Run) -> list[dict[str, Any]]:
    """As they were put into words when it ran; of an older run they are put into words now."""
    if not run.decisions or "text" in run.decisions[0]:
        return run.decisions
    return decisions(run.document, timeline(clock_of(run.document)), run.decisions)


def file(run: Run, what: str, kind: str) -> tuple[str, bytes]:
    """Media type and content of a run's trades, equity or decisions as a file; raises :class:`NotThere` for others."""
    if what not in FILES or kind not in WRITERS:
        raise NotThere(f"A run has {', '.join(FILES)}, each as {', '.join(WRITERS)}.")
    columns, rows = FILES[what]
    media, write = WRITERS[kind]
    return media, write(rows(run), columns)


def _legs(run: Run) -> list[dict[str, Any]]:
    return [
        {
            "trade": row["number"], "underlying": row.get("symbol") or clock_of(run.document), "opened": row["opened"], "closed": row["closed"], "lots": row["lots"],
            "leg": number, "expiration": leg["expiration"], "right": leg["right"], "strike": leg["strike"],
            "contracts": leg["contracts"], "open_price": leg["opened"], "close_price": leg["closed"],
            "closed_by": leg["how"], "trade_premium": row["credit"], "trade_pnl": row["pnl"],
            "trade_costs": row["costs"], "exit_sentence": row["sentence"], "exit_reason": row["reason"],
        }
        for row in run.trades.values_list("row", flat=True) for number, leg in enumerate(row["legs"], 1)
    ]  # fmt: skip


def _days(run: Run) -> list[dict[str, Any]]:
    dates = run.curve.get("dates", [])
    vols = run.curve.get("vol") or [None] * len(dates)
    columns = (dates, run.curve.get("equity", []), run.curve.get("drawdown", []), run.curve.get("spot", []), vols)
    return [dict(zip(EQUITY, values, strict=True)) for values in zip(*columns, strict=True)]


def _decided(run: Run) -> list[dict[str, Any]]:
    # earlier runs did not tell entries apart
    return [{name: item.get(name, "") for name in DECISIONS} for item in _decisions(run)]


def _events(run: Run) -> list[dict[str, Any]]:
    return [
        {
            "trade": number, "time": event["local"], "what": event["title"], "sentence": event["sentence"] or "", "times": event["times"],
            "contract": leg["contract"], "contracts": leg["contracts"], "price": leg["price"], "amount": leg["amount"], "text": event["text"],
        }
        for number, stored in run.trades.values_list("number", "kept")
        for event in kept.events(bytes(stored))
        for leg in event["dealt"] or [{"contract": "", "contracts": "", "price": "", "amount": ""}]
    ]  # fmt: skip


HISTORY = ("trade", "time", "what", "sentence", "times", "contract", "contracts", "price", "amount", "text")
EQUITY = ("date", "equity", "drawdown", "underlying", "atm_iv")
DECISIONS = ("local", "kind", "entry", "rule", "trade", "text")
FILES: dict[str, tuple[Sequence[str], Callable[[Run], list[dict[str, Any]]]]] = {
    "trades": (TRADES, _legs), "equity": (EQUITY, _days), "decisions": (DECISIONS, _decided),
    "greeks": (COLUMNS, daily_greeks), "history": (HISTORY, _events),
}  # fmt: skip
"""What of a run goes out as a file: its columns and rows."""


def trade_detail(run: Run, number: int, at: int | None) -> dict[str, Any]:
    """One trade: legs with quotes and Greeks at entry and exit, path, ledger, payoff at a date."""
    row = run.trades.filter(number=number).first()
    if row is None:
        raise NotThere(f"Run {run.number} has no trade {number}.")
    stored = bytes(row.kept)
    if not stored:  # it ran before this was kept
        market = market_for(run.document, run.strategy.owner_id)
        trade = closed_trade(row.trade, market.main.underlying.symbol)
        plan, history = plan_for(parse(run.document), market), market.on_clock(trade.symbol)
        stored = kept.keep(plan, history, trade, kept.leg_facts(history, trade), causes(history, trade))
    return kept.detail(stored, row.row, at)


def touched(user: User, symbol: str, first: str, last: str) -> list[dict[str, Any]]:
    """Finished runs that read sessions of ``symbol`` between two dates, as they were then."""
    read = Q(manifest__underlying=symbol) | Q(manifest__until__has_key=symbol)
    found = Run.objects.of(user).filter(read, status=Run.Status.DONE, start__lte=last, end__gte=first)
    return [
        {"strategy": run.strategy_id, "name": run.revision.document["name"], "run": run.pk, "number": run.number}
        for run in found.select_related("revision")[:50]
    ]

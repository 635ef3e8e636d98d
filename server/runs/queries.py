"""Reading runs: the track, a run's evidence, one trade in full."""

from __future__ import annotations

from typing import Any

import numpy as np
from django.contrib.auth.models import User

from config.errors import NotThere
from market.timelines import timeline
from observe.payoffs import Holding, glyph, greeks, payoff
from runs.models import Run
from strategies.models import Strategy
from strategies.queries import sheet_of
from strell_core.engine.plan import make_plan
from strell_core.engine.state import ClosedTrade
from strell_core.engine.stored import closed_trade
from strell_core.formats.trades import to_csv
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS
from strell_core.market.timeline import Timeline
from strell_core.results.equity import trade_path
from strell_core.strategy import catalogue
from strell_core.strategy.document import clock_of, parse
from strell_core.strategy.reasons import reason_text
from strell_core.strategy.sentences import sheet

SPARK_POINTS = 60
PATH_POINTS = 1200


def on_track(strategy: Strategy) -> dict[str, Any]:
    """What backtests have to show for a strategy."""
    runs = list(strategy.runs.select_related("revision").defer("decisions", "curve", "evidence").order_by("-number"))
    digest = strategy.latest.digest
    done = next((run for run in runs if run.status == Run.Status.DONE), None)
    figures = done.figures if done else {}
    equity = done.curve.get("equity", []) if done else []
    every = max(1, len(equity) // SPARK_POINTS)
    return {
        "runs": len(runs), "outdated": sum(run.status == Run.Status.DONE and run.revision.digest != digest for run in runs),
        "last_run": done.number if done else None,
        "last_status": runs[0].status if runs else None, "mar": figures.get("mar"),
        "max_drawdown": figures.get("max_drawdown"), "win_rate": figures.get("trades_win_rate"),
        "trades": figures.get("trades_count"), "spark": equity[::every],
    }  # fmt: skip


def run_facts(run: Run, whole: bool = False) -> dict[str, Any]:
    """A run for lists, or with its curve, decisions and trades."""
    latest = run.strategy.latest
    out = {
        "id": run.pk, "number": run.number, "strategy": run.strategy_id, "strategy_name": latest.document["name"], "revision": run.revision.number,
        "outdated": run.revision.digest != latest.digest, "start": run.start, "end": run.end,
        "cash": float(run.cash), "method": run.method, "status": run.status, "progress": run.progress,
        "queued_at": run.queued_at, "started_at": run.started_at, "finished_at": run.finished_at,
        "message": run.message, "figures": run.figures or None, "cancel_requested": run.cancel_requested,
    }  # fmt: skip
    if whole:
        out |= {
            "curve": run.curve, "decisions": _decisions(run), "evidence": run.evidence, "manifest": run.manifest,
            "trades": [trade.row for trade in run.trades.all()], "document": run.revision.document, "sheet": sheet_of(run.revision.document),
        }  # fmt: skip
    return out


def _decisions(run: Run) -> list[dict[str, Any]]:
    """Every decision time with what was decided and why, in words."""
    if not run.decisions:
        return []
    document, history = run.revision.document, timeline(clock_of(run.revision.document))
    known = {s.id: (s, catalogue.sentences(s.part)[s.rule]) for s in sheet(document).sentences}
    out = []
    for item in run.decisions:
        sentence, declaration = known[item["rule"]]
        text = item["values"].get("message")
        if item["kind"] == "entry":
            text = "entered " + ", ".join(
                ContractKey.parse(code, history.underlying.symbol).label for code in item["values"]["contracts"]
            )
        elif text is None:
            text = reason_text(declaration, item["truth"], item["values"], str)
        out.append(
            {
                "at": item["at"], "local": history.calendar.local(item["at"]).strftime("%Y-%m-%dT%H:%M"),
                "kind": item["kind"], "rule": item["rule"], "trade": item["trade"],
                "text": text if item["kind"] == "entry" else f"sentence {sentence.number} said no: {text}",
            }
        )  # fmt: skip
    return out


def trades_csv(run: Run) -> str:
    rows = []
    for trade in run.trades.all():
        row = trade.row
        for number, leg in enumerate(row["legs"], 1):
            rows.append(
                {
                    "trade": row["number"], "opened": row["opened"], "closed": row["closed"], "lots": row["lots"],
                    "leg": number, "expiration": leg["expiration"], "right": leg["right"], "strike": leg["strike"],
                    "contracts": leg["contracts"], "open_price": leg["opened"], "close_price": leg["closed"],
                    "closed_by": leg["how"], "trade_premium": row["credit"], "trade_pnl": row["pnl"],
                    "trade_costs": row["costs"], "exit_sentence": row["sentence"], "exit_reason": row["reason"],
                }
            )  # fmt: skip
    return to_csv(rows)


def trade_detail(run: Run, number: int, at: int | None) -> dict[str, Any]:
    """One trade: legs with quotes and Greeks at entry and exit, path, ledger, payoff at a date."""
    row = run.trades.filter(number=number).first()
    if row is None:
        raise NotThere(f"Run {run.number} has no trade {number}.")
    history = timeline(clock_of(run.revision.document))
    trade = closed_trade(row.trade, history.underlying.symbol)
    quantum = float(history.underlying.quantum)
    entry = history.at_or_before(trade.opened_at)
    leaving = history.at_or_before(trade.closed_at)
    first = [leg for leg in trade.legs if not leg.opened_at]  # not those that a split put in another's place
    holdings = [Holding(leg.contract, leg.contracts, leg.opened_parts / PARTS * quantum) for leg in first]
    spot = int(history.spot[entry]) / 100
    plan = make_plan(parse(run.revision.document), history)
    return {
        "row": row.row, "legs": _leg_facts(history, trade, entry, leaving), "path": _path(history, trade),
        "payoff": payoff(history, entry, holdings, at=at), "glyph": glyph(holdings, spot),
        "decided_rule": plan.entry(trade.entry).entry.schedule.id, "currency": history.underlying.currency,
        "nearest": min(history.cubes[leg.contract.expiration].settlement_at for leg in trade.legs),
    }  # fmt: skip


def _leg_facts(history: Timeline, trade: ClosedTrade, entry: int, leaving: int) -> list[dict[str, Any]]:
    quantum, scale = float(history.underlying.quantum), history.view(entry).underlying.multiplier
    out = []
    for leg in trade.legs:
        holding = Holding(leg.contract, leg.contracts, 0.0)
        side = {}
        for name, index in (("entry", entry), ("exit", leaving)):
            quote = history.view(index).quote(leg.contract)
            has = quote.valid
            side[name] = {
                "bid": round(quote.bid * quantum, 2) if has else None,
                "ask": round(quote.ask * quantum, 2) if has else None, **greeks(history, index, holding),
            }  # fmt: skip
        opened, closed = leg.opened_parts / PARTS * quantum, leg.closed_parts / PARTS * quantum
        out.append(
            {
                "label": leg.contract.label, "contract": leg.contract.code, "contracts": leg.contracts,
                "opened": round(opened, 4), "closed": round(closed, 4), "how": leg.how,
                "pnl": round(leg.contracts * (closed - opened) * scale, 2), **side,
            }
        )  # fmt: skip
    return out


def _path(history: Timeline, trade: ClosedTrade) -> dict[str, Any]:
    """P/L, legs' mids and spot along the trade, thinned for the screen but keeping both ends."""
    path = trade_path(history, trade)
    n = len(path.pnl)
    rows = np.unique(np.linspace(0, n - 1, min(n, PATH_POINTS)).round().astype(int))
    quantum = float(history.underlying.quantum)
    scale = history.underlying.on(history.date_at(trade.opened_at)).multiplier
    times = history.times[path.begin + rows]
    return {
        "at": times.tolist(),
        "local": [history.calendar.local(int(t)).strftime("%Y-%m-%dT%H:%M") for t in times],
        "spot": (history.spot[path.begin + rows] / 100).round(2).tolist(),
        "pnl": (path.pnl[rows] / PARTS * quantum * scale).round(2).tolist(),
        "legs": (path.legs[:, rows] / PARTS * quantum).round(4).tolist(),
    }


def touched(user: User, symbol: str, first: str, last: str) -> list[dict[str, Any]]:
    """Finished runs that read sessions of ``symbol`` between two dates, as they were then."""
    found = Run.objects.of(user).filter(
        status=Run.Status.DONE, manifest__underlying=symbol, start__lte=last, end__gte=first
    ).select_related("revision")  # fmt: skip
    return [
        {"strategy": run.strategy_id, "name": run.revision.document["name"], "run": run.pk, "number": run.number}
        for run in found[:50]
    ]

"""What stands in a report, every number as it is written."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any

import numpy as np
from django.conf import settings
from django.contrib.auth.models import User
from django.utils.safestring import SafeString, mark_safe

from runs.compare import compared
from runs.luck import luck_of
from runs.models import Run
from runs.queries import course, run_facts, whole_facts
from runs.slices import facts
from strell_core.market.prices import grouped, signed
from strell_core.results.causes import CAUSES
from strell_core.results.figures import FIGURES, Figure
from strell_core.results.slices import mean_range
from strell_core.strategy.sentences import sheet

MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
BESIDE = (
    "final_equity", "cagr", "return_on_capital", "max_drawdown", "mar", "sharpe", "sharpe_excess", "sortino", "trades_count",
    "trades_win_rate", "trades_expectancy", "trades_profit_factor", "trades_worst", "daily_tail", "capital_most",
    "trades_held", "time_in_market", "longest_flat", "costs", "holding_cagr", "beta", "correlation",
)  # fmt: skip
"""Figures that are set side by side."""
TOLD_IN_HEAD = (
    "ruined_on",
    "exits_delayed",
    "exits_over_night",
    "night_cost",
    "capital_refused",
    "capital_calls",
    "awaiting_value",
    "beyond_size",
    "entries_unfilled",
)
"""Figures that say what to beware of; told at the head when there is something to tell."""


def written(figure: Figure, value: Any) -> str:
    """A figure's value as a page writes it."""
    if value is None:
        return "–"
    match figure.kind:
        case "money":
            return grouped(value, 0 if abs(value) >= 1000 else 2)
        case "share":
            return f"{grouped(100 * value, 1)} %"
        case "ratio":
            return grouped(value, 2)
        case "count":
            return grouped(value)
        case "flag":
            return "yes" if value else "no"
        case _:
            return day(value)


def day(iso: str | dt.date) -> str:
    date = dt.date.fromisoformat(iso) if isinstance(iso, str) else iso
    return f"{date.day} {MONTHS[date.month - 1]} {date.year}"


def cases(share: float) -> str:
    """A share in words that keep their honesty."""
    if share < 0.01:
        return "fewer than 1 of 100 cases"
    if share < 0.1:
        return f"{grouped(100 * share)} of 100 cases"
    return "nearly every case" if share > 0.95 else f"{grouped(10 * share)} of 10 cases"


def of_run(run: Run) -> dict[str, Any]:
    """Everything of a finished run."""
    from runs.reporting import pictures  # loads matplotlib, which nobody else needs

    told, through = whole_facts(run), course(run)
    curve, symbol = run.curve, run.manifest["underlying"]
    currency = run.strategy.underlying.currency
    several = len({row.get("symbol") for row in (*told["trades"], *run.open_trades)}) > 1
    pnl = facts(run).pnl.tolist()
    dates = [dt.date.fromisoformat(date) for date in curve["dates"]]
    drawn = pictures.curve(dates, curve["equity"], curve["drawdown"], curve["spot"], curve.get("vol") or [], currency)
    return {
        **_head(run), "currency": currency, "symbol": symbol,
        "warnings": [
            f"{FIGURES[name].title}: {written(FIGURES[name], told['figures'][name])}"
            for name in TOLD_IN_HEAD if told["figures"].get(name)
        ] + ([] if told["figures"].get("capital_limited") is not False else ["Capital was not limited."]),
        "figures": _figures(told["figures"], run.intervals),
        "curve": _drawing(drawn), "spread": _drawing(pictures.spread(pnl, currency)) if pnl else "",
        "months": _months(through["months"]), "month_names": MONTHS, "causes": _causes(through["causes"], sum(pnl)),
        "rules": _rules(run), "luck": _luck(run, currency), "exits": _exits(told["trades"]),
        "open_trades": [
            {**item, "credit": grouped(item["credit"], 2), "pnl": signed(item["pnl"], 2),
             "legs": (f"{item['symbol']} " if several else "") + "; ".join(f"{signed(leg['contracts'])} {leg['label']}" for leg in item["legs"])}
            for item in run.open_trades
        ],
        "trades": [_trade(row, several) for row in told["trades"]], "manifest": run.manifest,
    }  # fmt: skip


def of_comparison(user: User, runs: Sequence[int]) -> dict[str, Any]:
    """Two to eight finished runs beside the first."""
    from runs.reporting import pictures

    found = compared(user, runs)
    names = [_name(item) for item in found["runs"]]
    curves = [
        ([dt.date.fromisoformat(date) for date in item["curve"]["dates"]], [100 * value / item["cash"] for value in item["curve"]["equity"]])
        for item in found["runs"]
    ]  # fmt: skip
    return {
        "version": settings.VERSION, "made": dt.datetime.now(dt.UTC).strftime("%-d %b %Y %H:%M UTC"), "title": "Runs compared",
        "runs": [
            {
                **{key: item[key] for key in ("note", "variant", "revision", "underlying")}, "name": name,
                "period": f"{day(item['start'])} – {day(item['end'])}", "colour": colour, "dashed": dash == "--",
            }
            for name, item, (colour, dash) in zip(names, found["runs"], pictures.STROKES, strict=False)
        ],
        "figures": [
            {"title": FIGURES[name].title, "explains": FIGURES[name].explains, "values": [written(FIGURES[name], item["figures"][name]) for item in found["runs"]]}
            for name in BESIDE
        ],
        "curves": _drawing(pictures.overlay(curves)), "sentences": found["sentences"],
        "differences": [
            {**_difference(item), "name": names[[r["id"] for r in found["runs"]].index(item["run"])], "base": names[0]}
            for item in found["differences"]
        ],
    }  # fmt: skip


def _drawing(svg: str) -> SafeString:
    # ours, made of numbers and of symbols that matplotlib has escaped
    return mark_safe(svg)


def _name(item: dict[str, Any]) -> str:
    return f"{item['strategy_name']}, run {item['number']}" + (f" “{item['name']}”" if item["name"] else "")


def _head(run: Run) -> dict[str, Any]:
    told = run_facts(run)
    return {
        "version": settings.VERSION, "made": dt.datetime.now(dt.UTC).strftime("%-d %b %Y %H:%M UTC"), "title": _name(told), "run": told,
        "period": f"{day(run.start)} – {day(run.end)}", "cash": grouped(run.cash),
        "computed": "" if run.finished_at is None else run.finished_at.strftime("%-d %b %Y %H:%M UTC"),
    }  # fmt: skip


def _figures(figures: dict[str, Any], intervals: dict[str, Any]) -> list[dict[str, str]]:
    out = []
    for name, figure in FIGURES.items():
        if figures.get(name) is None:
            continue
        likely = intervals.get(name)
        between = "" if likely is None else " to ".join(written(figure, value) for value in likely)
        out.append(
            {
                "title": figure.title,
                "value": written(figure, figures[name]),
                "likely": between,
                "explains": figure.explains,
            }
        )
    return out


def _months(months: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """By year, twelve cells each and the year's sum."""
    years = sorted({item["year"] for item in months})
    out = []
    for year in years:
        own = {item["month"]: item["pnl"] for item in months if item["year"] == year}
        cells = [
            {"text": signed(own[month]), "lost": own[month] < 0} if month in own else {"text": "", "lost": False}
            for month in range(1, 13)
        ]
        out.append({"year": year, "months": cells, "whole": signed(sum(own.values())), "lost": sum(own.values()) < 0})
    return out


def _causes(causes: dict[str, float] | None, whole: float) -> list[dict[str, str]]:
    if causes is None:
        return []
    names = (*CAUSES, "dealing", "costs")
    return [{"name": name, "value": signed(causes[name])} for name in names] + [
        {"name": "together", "value": signed(whole)}
    ]


def _rules(run: Run) -> list[dict[str, Any]]:
    """The sheet that ran, with how often each sentence spoke."""
    sections: dict[str, list[dict[str, Any]]] = {}
    for sentence in sheet(run.document).sentences:
        counts = run.evidence.get(sentence.id)
        if sentence.off:
            spoke = "off"
        elif counts is None:
            spoke = ""
        elif sentence.section in ("leave", "legs"):
            spoke = f"{grouped(counts['true'])} times"
        else:
            asked = counts["true"] + counts["no"] + counts["unvalued"]
            spoke = f"said no {grouped(counts['no'])} of {grouped(asked)} times" if asked else ""
        sections.setdefault(sentence.section, []).append(
            {"number": sentence.number, "text": sentence.text, "note": sentence.note, "spoke": spoke}
        )
    return [{"section": name, "sentences": found} for name, found in sections.items()]


def _luck(run: Run, currency: str) -> list[str]:
    found = luck_of(run)
    many = "one variant" if found["variants"] == 1 else f"{grouped(found['variants'])} variants"
    out = []
    if found["chance"] is None:
        out.append("Too few sessions to judge by chance: sixty are the least.")
    else:
        out.append(
            f"With {many} of this strategy tried, a result this good is expected by chance in {cases(found['chance'])}."
        )
    if found["deflated"] is not None:
        over = (
            f"above {grouped(found['best_by_chance'], 2)}, which the best of them reaches without any edge,"
            if found["variants"] > 1
            else "above zero"
        )
        out.append(
            f"That the true Sharpe ratio is {over} is {grouped(100 * found['deflated'])} % likely (deflated Sharpe ratio)."
        )
    if found["best"]:
        best = found["best"]
        out.append(
            f"All trades together made {signed(best['total'])} {currency}; without the best one {signed(best['without_best'])}, without the best {best['few']} {signed(best['without_few'])}."
        )
    if found["order"]:
        order = found["order"]
        out.append(
            f"In other orders of the same trades the deepest fall is {signed(order['middle'])} {currency} in the middle, and deeper than {signed(order['deep'])} in one of twenty."
        )
    return out


def _exits(trades: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """What trades made by the sentence that left them."""
    by: dict[tuple[int, str], list[float]] = {}
    for row in trades:
        name = f"sentence {row['sentence']}" if row["sentence"] else row["reason"]
        by.setdefault((row["sentence"] or 99, name), []).append(row["pnl"])
    out = []
    for (_, name), pnl in sorted(by.items()):
        likely = mean_range(np.array(pnl, np.float64))
        out.append({
            "name": name, "count": grouped(len(pnl)), "won": f"{grouped(100 * sum(value > 0 for value in pnl) / len(pnl))} %",
            "mean": signed(sum(pnl) / len(pnl)), "whole": signed(sum(pnl)), "likely": "" if likely is None else f"{signed(likely[0])} to {signed(likely[1])}",
        })  # fmt: skip
    return out


def _trade(row: dict[str, Any], several: bool) -> dict[str, Any]:
    legs = " ".join(
        f"{signed(leg['contracts'])}\u00d7{'underlying' if leg['right'] == 'unit' else str(leg['strike']) + leg['right'][0].upper()}"
        for leg in row["legs"]
    )
    return {
        "number": row["number"], "opened": row["opened_shown"], "closed": row["closed_shown"],
        "legs": f"{row['symbol']} {legs}" if several else legs, "dte": row["dte"],
        "credit": grouped(row["credit"], 2), "pnl": signed(row["pnl"], 2), "lost": row["pnl"] < 0,
        "left": f"{row['sentence']}: {row['reason']}" if row["sentence"] else row["reason"],
    }  # fmt: skip


def _difference(found: dict[str, Any]) -> dict[str, Any]:
    """A run against the first in sentences."""
    out = []
    if found["yearly"] is not None:
        low, high = (f"{signed(100 * value, 1)}" for value in found["likely"])
        out.append(
            f"Over {grouped(found['sessions'])} sessions in common it makes {signed(100 * found['yearly'], 1)} points of return a year more; likely {low} to {high}. Runs without a true difference lie this far apart in {cases(found['chance'])}."
        )
    out.append(
        f"On {grouped(found['both'])} days both entered, which made {signed(found['both_apart'])} of difference; on {grouped(found['only'])} it alone ({signed(found['only_made'])}), on {grouped(found['base_only'])} the first alone ({signed(found['base_only_made'])})."
    )
    return {"texts": out}

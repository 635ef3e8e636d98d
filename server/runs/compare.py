"""Finished runs side by side, of one strategy or of several."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Any

import numpy as np
from django.contrib.auth.models import User

from config.errors import NotThere, Refused
from runs.models import Run
from runs.queries import run_facts
from strell_core.results import metrics
from strell_core.results.compare import days, difference
from strell_core.strategy.differences import differences

MOST = 8
MOST_DAYS = 100


def compared(user: User, ids: Sequence[int]) -> dict[str, Any]:
    """The first is what the others are compared with."""
    asked = list(dict.fromkeys(ids))
    if not 2 <= len(asked) <= MOST:
        raise Refused(f"Two to {MOST} runs are compared.")
    found = Run.objects.of(user).select_related("strategy__underlying", "revision").in_bulk(asked)
    missing = [pk for pk in asked if pk not in found]
    if missing:
        raise NotThere("One of these runs is not there, or not there any more.")
    runs = [found[pk] for pk in asked]
    waits = next((run for run in runs if run.status != Run.Status.DONE), None)
    if waits is not None:
        raise Refused(
            f"Run {waits.number} of {waits.revision.document['name']} has no result yet: it is {waits.status}."
        )
    base = runs[0]
    return {
        "runs": [
            {**run_facts(run), "underlying": run.strategy.underlying.symbol, "curve": run.curve} for run in runs
        ],
        "sentences": differences([run.document for run in runs]),
        "differences": [_against(run, base) for run in runs[1:]],
    }  # fmt: skip


def _daily(run: Run) -> dict[dt.date, float]:
    made = metrics.returns(np.array(run.curve["equity"], np.float64), float(run.cash))
    return {dt.date.fromisoformat(date): value for date, value in zip(run.curve["dates"], made.tolist(), strict=True)}


def _trades(run: Run) -> list[tuple[dt.date, float]]:
    found = run.trades.values_list("row__opened", "row__pnl")
    return [(dt.date.fromisoformat(opened[:10]), float(pnl)) for opened, pnl in found]


def _against(run: Run, base: Run) -> dict[str, Any]:
    made = difference(_daily(run), _daily(base), base.seed)
    paired = days(_trades(run), _trades(base))
    both = [day for day in paired if day.one is not None and day.other is not None]
    return {
        "run": run.pk, **(made._asdict() if made else {"sessions": 0, "yearly": None, "likely": None, "chance": None}),
        "both": len(both), "both_apart": sum(day.apart for day in both),
        "only": sum(day.other is None for day in paired), "only_made": sum(day.one or 0.0 for day in paired if day.other is None),
        "base_only": sum(day.one is None for day in paired),
        "base_only_made": sum(day.other or 0.0 for day in paired if day.one is None),
        "days": [
            {"date": day.date, "one": day.one, "other": day.other, "apart": day.apart}
            for day in paired[:MOST_DAYS] if day.apart
        ],
    }  # fmt: skip

"""Reading sweeps."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from django.db.models import Count, Q

from strell_core.results import luck
from strell_core.results.figures import FIGURES
from strell_core.results.plateau import neighbourhoods
from strell_core.results.variant import TOLD
from strell_core.strategy.sentences import sheet
from strell_core.strategy.sweeps import Place, suggested
from sweeps.models import Sweep
from sweeps.services import dials_of, known

BEST_BY = ("mar", "sharpe", "cagr", "return_on_capital", "trades_expectancy", "trades_profit_factor", "final_equity")
"""Figures by which variants are ranked: more is better."""


def dials(document: dict[str, Any]) -> list[dict[str, Any]]:
    """What of a strategy can be varied."""
    numbers = {sentence.id: sentence.number for sentence in sheet(document).sentences}
    return [
        {
            "path": place.path, "sentence": numbers.get(place.sentence), "label": place.param.label, "kind": place.param.of_kind.editor,
            "value": place.value, "text": place.text(place.value), "unit": place.param.unit, "suggested": suggested(place),
        }
        for place in known(document)
    ]  # fmt: skip


def sweep_facts(sweep: Sweep) -> dict[str, Any]:
    """A sweep for lists."""
    found = sweep.cells.aggregate(all=Count("id"), done=Count("id", filter=~Q(done_at=None)))
    return {
        "id": sweep.pk, "number": sweep.number, "strategy": sweep.strategy_id, "revision": sweep.revision.number,
        "start": sweep.start, "end": sweep.end, "cash": float(sweep.cash), "status": sweep.status, "drawn": sweep.drawn,
        "queued_at": sweep.queued_at, "finished_at": sweep.finished_at, "cells_count": found["all"], "cells_done": found["done"],
        "dials": _dials(sweep),
    }  # fmt: skip


def _dials(sweep: Sweep) -> list[dict[str, Any]]:
    document = sweep.revision.document
    by_path: dict[str, Place] = {place.path: place for place in known(document)}
    numbers = {sentence.id: sentence.number for sentence in sheet(document).sentences}
    out = []
    for dial in dials_of(sweep):
        place = by_path[dial.paths[0]]
        out.append(
            {
                "label": place.param.label, "sentences": [numbers[by_path[path].sentence] for path in dial.paths if by_path[path].sentence],
                "paths": dial.paths, "taken": dial.values, "values": [place.text(value) for value in dial.values],
                "now": dial.values.index(place.value) if place.value in dial.values else None,
                "steps": place.param.of_kind.editor != "choice",
            }
        )  # fmt: skip
    return out


def whole(sweep: Sweep) -> dict[str, Any]:
    """A sweep with every variant, how good their neighbours are, and what choosing the best is worth."""
    cells = list(sweep.cells.values("place", "at", "figures", "problem", "done_at"))
    facts = sweep_facts(sweep)
    steps = [dial["steps"] for dial in facts["dials"]]
    at = [cell["at"] for cell in cells]
    near = neighbourhoods(at, np.array([_values(cells, name) for name in BEST_BY]).T, steps)
    return {
        **facts,
        "figures": [{"id": name, "title": FIGURES[name].title, "kind": FIGURES[name].kind, "explains": FIGURES[name].explains} for name in TOLD],
        "best_by": list(BEST_BY),
        "cells": [
            {
                "place": cell["place"], "at": cell["at"], "done": cell["done_at"] is not None, "problem": cell["problem"],
                "figures": cell["figures"],
                "near": {name: None if math.isnan(value) else value for name, value in zip(BEST_BY, near[number].tolist(), strict=True)},
            }
            for number, cell in enumerate(cells)
        ],
        "luck": _luck(sweep) if sweep.status != Sweep.Status.RUNNING else None,
    }  # fmt: skip


def _values(cells: Sequence[Mapping[str, Any]], name: str) -> Any:
    found = [(cell["figures"] or {}).get(name) for cell in cells]
    return np.array([math.nan if value is None else value for value in found], np.float64)


def _luck(sweep: Sweep) -> dict[str, Any] | None:
    """Of the variant with the best Sharpe ratio, among all of this sweep."""
    rows: list[tuple[float, Any]] = [
        (figures["sharpe"], np.frombuffer(bytes(daily), "<f4").astype(np.float64))
        for figures, daily in sweep.cells.exclude(figures=None).values_list("figures", "daily")
        if figures and figures["sharpe"] is not None
    ]
    length = max((len(daily) for _, daily in rows), default=0)
    rows = [(ratio, daily) for ratio, daily in rows if len(daily) == length]
    if len(rows) < 2:
        return None
    ratios = [ratio for ratio, _ in rows]
    best = int(np.argmax(ratios))
    made = luck.searched(rows[best][1], ratios)
    over = luck.overfit(np.array([daily for _, daily in rows]))
    return {
        **made._asdict(), "sharpe": ratios[best],
        "overfit": None if over is None else over.probability, "splits": None if over is None else over.splits,
    }  # fmt: skip

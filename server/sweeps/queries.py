"""Reading sweeps."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from django.db.models import Count, Q

from config.errors import Refused
from market.timelines import timeline
from strell_core.results import luck
from strell_core.results.figures import FIGURES
from strell_core.results.plateau import neighbourhoods
from strell_core.results.variant import TOLD
from strell_core.results.walk import walk
from strell_core.strategy.document import clock_of
from strell_core.strategy.sentences import sheet
from strell_core.strategy.sweeps import Place, suggested
from sweeps.models import Sweep
from sweeps.services import dials_of, known

BEST_BY = ("mar", "sharpe", "cagr", "return_on_capital", "trades_expectancy", "trades_profit_factor", "final_equity")
"""Figures by which variants are ranked: more is better."""


LEAST_TRAINED, LEAST_JUDGED = 40, 5
"""Sessions on which a variant can be chosen, and judged."""


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
    out: list[dict[str, Any]] = []
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
    called = Counter(told["label"] for told in out)
    for told in out:
        if called[told["label"]] > 1 and told["sentences"]:
            # the deltas of the shorts, and those of the wings
            told["label"] += f" ({', '.join(str(number) for number in told['sentences'])})"
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


def _moving(sweep: Sweep) -> list[tuple[int, float, Any]]:
    """Place, Sharpe ratio and daily returns of every variant with trades, over the sessions that most have."""
    rows = [
        (place, figures["sharpe"], np.frombuffer(bytes(daily), "<f4").astype(np.float64))
        for place, figures, daily in sweep.cells.exclude(figures=None).values_list("place", "figures", "daily")
        if figures and figures["sharpe"] is not None
    ]
    length = max((len(daily) for _, _, daily in rows), default=0)
    return [row for row in rows if len(row[2]) == length]


def walked(sweep: Sweep, train: int, test: int, anchored: bool) -> dict[str, Any]:
    """Its variants chosen on so many sessions and judged on those that followed; raises :class:`Refused` where that
    cannot be."""
    rows = _moving(sweep)
    if sweep.status == Sweep.Status.RUNNING or len(rows) < 2:
        raise Refused("There are no two finished variants with trades to choose from yet.")
    dates = timeline(clock_of(sweep.revision.document)).dates
    dates = tuple(date for date in dates if sweep.start <= date <= sweep.end)
    daily = np.array([own for _, _, own in rows])
    if len(dates) != daily.shape[1]:
        raise Refused("The recorded sessions have changed since this sweep. Run it again to walk through it.")
    for path, given, least in (("train", train, LEAST_TRAINED), ("test", test, LEAST_JUDGED)):
        if given < least:
            raise Refused(f"At least {least} sessions.", [{"path": path, "message": f"At least {least} sessions."}])
    found = walk(daily, train, test, anchored)
    if found is None:
        message = f"{len(dates)} sessions are too few for two stretches of {test} after the first {train}."
        raise Refused(message, [{"path": "train", "message": message}])
    places = [place for place, _, _ in rows]
    now = _now(sweep)
    beside = None if now not in places else np.cumprod(1 + daily[places.index(now), train:])
    return {
        **{name: getattr(found, name) for name in ("sharpe", "before", "middle", "best", "beaten")},
        "dates": dates[train:], "equity": (100 * np.cumprod(1 + found.daily)).round(3).tolist(),
        "beside": None if beside is None else (100 * beside).round(3).tolist(),
        "steps": [
            {
                "train_from": dates[step.train_from], "test_from": dates[step.test_from], "test_to": dates[step.test_to - 1],
                "place": None if step.chosen is None else places[step.chosen], "before": step.before, "after": step.after,
            }
            for step in found.steps
        ],
    }  # fmt: skip


def _now(sweep: Sweep) -> int | None:
    """The place of the variant that has what its revision has."""
    has = [dial["now"] for dial in _dials(sweep)]
    return sweep.cells.filter(at=has).values_list("place", flat=True).first() if None not in has else None


def _luck(sweep: Sweep) -> dict[str, Any] | None:
    """Of the variant with the best Sharpe ratio, among all of this sweep."""
    rows = _moving(sweep)
    if len(rows) < 2:
        return None
    ratios = [ratio for _, ratio, _ in rows]
    best = int(np.argmax(ratios))
    made = luck.searched(rows[best][2], ratios)
    daily = np.array([own for _, _, own in rows])
    over, alike = luck.overfit(daily), luck.alike(daily)
    return {
        **made._asdict(), "sharpe": ratios[best], "alike": None if alike is None else alike._asdict(),
        "overfit": None if over is None else over.probability, "splits": None if over is None else over.splits,
    }  # fmt: skip

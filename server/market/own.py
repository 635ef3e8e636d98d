"""A strategy's market: the histories of its underlyings on the clock of the first, with its owner's series."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping
from typing import Any

import numpy as np

from config.errors import Refused
from market.models import Series, SeriesValue
from market.timelines import timeline
from strell_core.engine.plan import EVERYTHING, Mixed, Part, Plan, make_plan
from strell_core.market.calendars import SessionCalendar
from strell_core.market.market import Market
from strell_core.market.series import DatedSeries
from strell_core.market.timeline import Timeline
from strell_core.strategy.document import Strategy
from strell_core.strategy.whole import named_in


def market_for(
    document: Mapping[str, Any], owner_id: int | None, history: Callable[[str], Timeline] = timeline
) -> Market:
    """What a normalised document looks at; raises :class:`NotThere` where an underlying has no data. ``history`` gives
    what is known of one."""
    first, *others = document["underlyings"]
    main = history(first)
    names = {name for _, name in named_in(document, "series")}
    return Market(main, {symbol: history(symbol) for symbol in others}, _series(owner_id, names, main.calendar))


def plan_for(strategy: Strategy, market: Market, acts: frozenset[Part] = EVERYTHING) -> Plan:
    """A strategy ready to run on its market; raises :class:`Refused` where it would trade in several currencies."""
    try:
        return make_plan(strategy, market, acts)
    except Mixed as error:
        raise Refused(f"{error}.".capitalize()) from error


def _series(owner_id: int | None, names: set[str], calendar: SessionCalendar) -> dict[str, DatedSeries]:
    if not names or owner_id is None:
        return {}
    known: dict[str, list[tuple[int, float]]] = {}
    rows = SeriesValue.objects.filter(series__owner=owner_id, series__name__in=names)
    for name, date, at, value in rows.values_list("series__name", "date", "at", "value"):
        # a whole day's value counts from the next day on
        since = at or calendar.instant(date + dt.timedelta(days=1), dt.time(0))
        known.setdefault(name, []).append((since, value))
    return {
        name: DatedSeries(name, np.array([at for at, _ in them], np.int64), np.array([value for _, value in them], np.float64))
        for name, them in ((name, sorted(them)) for name, them in known.items())
    }  # fmt: skip


def first_series(owner_id: int) -> str:
    """The first of a person's own series by name; nothing without one."""
    return Series.objects.filter(owner=owner_id).order_by("name").values_list("name", flat=True).first() or ""


def missing_series(document: Mapping[str, Any], owner_id: int) -> list[tuple[str, str]]:
    """``(path, name)`` of series that a document names and its owner does not have."""
    wanted = named_in(document, "series")
    there = set(Series.objects.filter(owner=owner_id).values_list("name", flat=True)) if wanted else set()
    return [(path, name) for path, name in wanted if name not in there]

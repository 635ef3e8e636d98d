"""Where the underlying traded in a session's first minutes."""

import numpy as np

from strell_core.market.prices import SPOT_SCALE
from strell_core.market.timeline import Timeline
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.measure import MarketMeasure, Params, Series, measures

DECLARATION = Declaration(
    id="opening_range", usual=("below", {"measure": "price"}), section="measure", title="Opening range",
    sentence="the {which} of the first {minutes} minutes {day}",
    params=(
        Param("which", "choice", "Which", "high", choices={"high": "high", "low": "low", "middle": "middle"}),
        Param("minutes", "integer", "Minutes", 30, 1, 480),
        Param("day", "choice", "Of", "today", choices={"today": "today", "yesterday": "of the session before"}),
    ),
    explains="Highest or lowest recorded price from the session's first snapshot to the last one within so many minutes, or the middle of the "
    "two, in points. Today's is unvalued until these minutes are over; both are in a session of one snapshot. Of the session before: in "
    "today's units.",
    example="the high of the first 30 minutes today", words=("breakout", "ORB", "first half hour", "initial balance"), clock="snapshot", unit="points",
    grid=0.005, needs=("spot",),
)  # fmt: skip


def ranges(timeline: Timeline, params: Params) -> Series:
    """By session, ``(sessions,)``, points of its own day; NaN in one of a single snapshot."""
    out = np.full(len(timeline.dates), np.nan)
    for session in range(len(timeline.dates)):
        a, b = int(timeline.first[session]), int(timeline.first[session + 1])
        if timeline.is_single[a]:
            continue
        within = timeline.spot[a:b][timeline.minute[a:b] - timeline.minute[a] <= params["minutes"]]
        low, high = int(within.min()), int(within.max())
        out[session] = {"high": high, "low": low, "middle": (low + high) / 2}[params["which"]] / SPOT_SCALE
    return out


def series(timeline: Timeline, params: Params) -> Series:
    found, units = ranges(timeline, params), timeline.units
    if params["day"] == "yesterday":
        before = np.append(np.nan, (found * units)[:-1]) / units
        made: Series = before[timeline.session_of]
        return made
    since = timeline.minute - timeline.minute[timeline.first[:-1]][timeline.session_of]
    return np.where(since >= params["minutes"], found[timeline.session_of], np.nan)


measures.register(MarketMeasure(DECLARATION, series))

"""The underlying's price now, and how it moved since the open, the last close, or some minutes ago."""

import numpy as np

from strell_core.market.prices import SPOT_SCALE
from strell_core.market.timeline import Timeline
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.measure import MarketMeasure, Params, Series, measures

PRICE = Declaration(
    id="price", usual=("above", {"measure": "moving_average"}), section="measure", title="Price of the underlying", sentence="the underlying's price", params=(),
    explains="As recorded now, in points.", example="the underlying's price", words=("spot", "level", "last"), clock="snapshot",
    unit="points", grid=0.01, needs=("spot",),
)  # fmt: skip
OPENED = Declaration(
    id="move_since_open", usual=("below", -1), section="measure", title="Move since the open", sentence="the move since the session's open", params=(),
    explains="The price now against the session's first recorded one, in percent; 0 in a session of one snapshot.",
    example="the move since the session's open", words=("intraday", "open", "today"), clock="snapshot", unit="%", grid=0.01,
    needs=("spot",),
)  # fmt: skip
CHANGE = Declaration(
    id="move_since_close", usual=("below", -1), section="measure", title="Move since the last close", sentence="the move since the last close", params=(),
    explains="The price now against the settlement price of the session before, in percent, in the units of now.",
    example="the move since the last close", words=("change", "today", "gap"), clock="snapshot", unit="%", grid=0.01,
    needs=("spot", "daily closes"), warm_up="unvalued in the first session",
)  # fmt: skip
OPENING_GAP = Declaration(
    id="opening_gap", usual=("below", -1), section="measure", title="Gap at today's open", sentence="the gap at today's open", params=(),
    explains="The session's first recorded price against the close before, in percent. Unvalued in a session of one snapshot.",
    example="the gap at today's open", words=("gap", "open", "overnight"), clock="snapshot", unit="%", grid=0.01,
    needs=("spot", "daily closes"), warm_up="unvalued in the first session",
)  # fmt: skip
MINUTES = Declaration(
    id="minutes_return", usual=("below", -0.5), section="measure", title="Return over minutes", sentence="the return over {minutes} minutes",
    params=(Param("minutes", "integer", "Minutes", 30, 1, 480),),
    explains="The price now against the last one recorded at least so many minutes before, within the session, in percent. "
    "Unvalued while the session is younger.",
    example="the return over 30 minutes", words=("intraday", "momentum"), clock="snapshot", unit="%", grid=0.01, needs=("spot",),
)  # fmt: skip
RANGE = Declaration(
    id="session_extreme", usual=("above", {"measure": "close_before"}), section="measure", title="Today's high or low", sentence="the session's {which} so far",
    params=(Param("which", "choice", "Which", "high", choices={"high": "high", "low": "low"}),),
    explains="Highest or lowest recorded price of the session up to now, in points.", example="the session's high so far",
    words=("high of day", "low of day", "breakout"), clock="snapshot", unit="points", grid=0.01, needs=("spot",),
)  # fmt: skip
AVERAGE = Declaration(
    id="session_average_gap", usual=("below", -0.5), section="measure", title="Distance from the session's average price",
    sentence="the price's distance from the session's average", params=(),
    explains="The price now against the mean of the session's recorded prices so far, in percent. Histories tell no volume "
    "of the underlying, so each snapshot weighs the same.",
    example="the price's distance from the session's average", words=("VWAP", "average price", "intraday"), clock="snapshot", unit="%",
    grid=0.01, needs=("spot",),
)  # fmt: skip


def price(timeline: Timeline, params: Params) -> Series:
    made: Series = timeline.spot / SPOT_SCALE
    return made


def since_open(timeline: Timeline, params: Params) -> Series:
    made: Series = 100 * (timeline.spot / _first(timeline) - 1)
    return made


def since_close(timeline: Timeline, params: Params) -> Series:
    made: Series = 100 * (timeline.spot / SPOT_SCALE / _close_before(timeline) - 1)
    return made


def opening_gap(timeline: Timeline, params: Params) -> Series:
    made = 100 * (_first(timeline) / SPOT_SCALE / _close_before(timeline) - 1)
    made[timeline.is_single] = np.nan
    return made


def minutes_return(timeline: Timeline, params: Params) -> Series:
    out = np.full(len(timeline.times), np.nan)
    for session in range(len(timeline.dates)):
        a, b = int(timeline.first[session]), int(timeline.first[session + 1])
        minute, spot = timeline.minute[a:b], timeline.spot[a:b]
        before = np.searchsorted(minute, minute - params["minutes"], side="right") - 1
        there = before >= 0
        out[a:b][there] = 100 * (spot[there] / spot[before[there]] - 1)
    return out


def extreme(timeline: Timeline, params: Params) -> Series:
    run = np.maximum if params["which"] == "high" else np.minimum
    parts = [
        run.accumulate(timeline.spot[timeline.first[n] : timeline.first[n + 1]]) for n in range(len(timeline.dates))
    ]
    made: Series = np.concatenate(parts) / SPOT_SCALE
    return made


def average_gap(timeline: Timeline, params: Params) -> Series:
    out = np.empty(len(timeline.times))
    for session in range(len(timeline.dates)):
        part = slice(int(timeline.first[session]), int(timeline.first[session + 1]))
        spot = timeline.spot[part].astype(np.float64)
        out[part] = 100 * (spot / (np.cumsum(spot) / np.arange(1, len(spot) + 1)) - 1)
    return out


def _first(timeline: Timeline) -> Series:
    made: Series = timeline.spot[timeline.first[:-1]][timeline.session_of].astype(np.float64)
    return made


def _close_before(timeline: Timeline) -> Series:
    """At every snapshot the close of the session before, in the units of now."""
    daily = timeline.daily
    closes = np.full(len(timeline.dates), np.nan)
    for session in range(len(timeline.dates)):
        history = daily.before(session) if daily.splits else daily
        known = daily.earlier + session
        if known:
            closes[session] = history.close[known - 1]
    made: Series = closes[timeline.session_of]
    return made


for _declaration, _series in (
    (PRICE, price), (OPENED, since_open), (CHANGE, since_close), (OPENING_GAP, opening_gap), (MINUTES, minutes_return),
    (RANGE, extreme), (AVERAGE, average_gap),
):  # fmt: skip
    measures.register(MarketMeasure(_declaration, _series))

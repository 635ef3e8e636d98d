"""Where a session stands in week and month, and how far the next dividend is."""

import datetime as dt
from bisect import bisect_left

import numpy as np

from strell_core.market.timeline import Timeline
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.measure import MarketMeasure, Params, Series, measures

MONTH = Declaration(
    id="day_of_month", usual=("at most", 7), section="measure", title="Day of the month", sentence="the day of the month", params=(),
    explains="1 to 31, of the session's date.", example="the day of the month", words=("turn of month", "date"), scope="clock", clock="day", grid=1,
)  # fmt: skip
WEEK = Declaration(
    id="weekday", usual=("at most", 2), section="measure", title="Weekday", sentence="the weekday (1 Mon to 5 Fri)", params=(),
    explains="1 for Monday to 5 for Friday, of the session's date.", example="the weekday (1 Mon to 5 Fri)", words=("day of the week",),
    scope="clock", clock="day", grid=1,
)  # fmt: skip
MONTH_END = Declaration(
    id="sessions_left_in_month", usual=("at most", 2), section="measure", title="Sessions left in the month", sentence="the sessions left in the month", params=(),
    explains="Sessions of the calendar after today's within its month; 0 on the last.", example="the sessions left in the month",
    words=("turn of month", "month end"), scope="clock", clock="day", grid=1,
)  # fmt: skip
NUMBER = Declaration(
    id="session_number", usual=("at most", 1), section="measure", title="Number of the session in week or month",
    sentence="the session's number from the {end} of the {period}",
    params=(
        Param("end", "choice", "Counted from", "start", choices={"start": "start", "close": "end"}),
        Param("period", "choice", "Of the", "week", choices={"week": "week", "month": "month"}),
    ),
    explains="1 in the first session of the calendar's week or month, or in the last counted from its end; a week begins on Monday.",
    example="the session's number from the start of the week", words=("first session", "last session", "nth session", "turn of month", "third Friday"),
    scope="clock", clock="day", grid=1,
)  # fmt: skip
DIVIDEND = Declaration(
    id="sessions_to_dividend", usual=("at most", 5), section="measure", title="Sessions to the next dividend", sentence="sessions to the next dividend", params=(),
    explains="Closes before the underlying next trades without a dividend that is known: 1 on the eve, 0 on no day. Unvalued when "
    "none is known.",
    example="sessions to the next dividend", words=("ex-date", "dividend", "event"), scope="event", clock="day", grid=1,
    needs=("dividends",),
)  # fmt: skip
SINCE_DIVIDEND = Declaration(
    id="sessions_since_dividend", usual=("at least", 1), section="measure", title="Sessions since the last dividend", sentence="sessions since the last dividend",
    params=(),
    explains="Closes since the underlying first traded without its last dividend: 0 on the ex-date. Unvalued before the first.",
    example="sessions since the last dividend", words=("ex-date", "dividend", "event"), scope="event", clock="day", grid=1, needs=("dividends",),
)  # fmt: skip


def month(timeline: Timeline, params: Params) -> Series:
    return np.array([date.day for date in timeline.dates], np.float64)


def week(timeline: Timeline, params: Params) -> Series:
    return np.array([date.isoweekday() for date in timeline.dates], np.float64)


def month_end(timeline: Timeline, params: Params) -> Series:
    out = []
    for date in timeline.dates:
        after = (date.replace(day=28) + dt.timedelta(days=4)).replace(day=1)
        out.append(len(timeline.calendar.between(date + dt.timedelta(days=1), after - dt.timedelta(days=1))))
    return np.array(out, np.float64)


def number(timeline: Timeline, params: Params) -> Series:
    out, day = [], dt.timedelta(days=1)
    for date in timeline.dates:
        if params["period"] == "week":
            first = date - dt.timedelta(days=date.weekday())
            last = first + dt.timedelta(days=6)
        else:
            first = date.replace(day=1)
            last = (date.replace(day=28) + dt.timedelta(days=4)).replace(day=1) - day
        others = (first, date - day) if params["end"] == "start" else (date + day, last)
        out.append(1 + len(timeline.calendar.between(*others)))
    return np.array(out, np.float64)


def to_dividend(timeline: Timeline, params: Params) -> Series:
    days = sorted(date for date, _ in timeline.underlying.dividends)
    out = np.full(len(timeline.dates), np.nan)
    for number, date in enumerate(timeline.dates):
        place = bisect_left(days, date + dt.timedelta(days=1))
        if place < len(days):
            out[number] = len(timeline.calendar.between(date, days[place] - dt.timedelta(days=1)))
    return out


def since_dividend(timeline: Timeline, params: Params) -> Series:
    days = sorted(date for date, _ in timeline.underlying.dividends)
    out = np.full(len(timeline.dates), np.nan)
    for number, date in enumerate(timeline.dates):
        place = bisect_left(days, date + dt.timedelta(days=1)) - 1
        if place >= 0:
            out[number] = len(timeline.calendar.between(days[place], date - dt.timedelta(days=1)))
    return out


for _declaration, _series in (
    (MONTH, month), (WEEK, week), (MONTH_END, month_end), (NUMBER, number), (DIVIDEND, to_dividend), (SINCE_DIVIDEND, since_dividend),
):  # fmt: skip
    measures.register(MarketMeasure(_declaration, _series))

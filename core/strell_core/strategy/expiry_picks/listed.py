"""Expirations by their place in the list, by their kind, around a dividend, and by another leg's."""

import datetime as dt
from collections.abc import Sequence

from strell_core.measures.day.events import EVENT, instants
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Params
from strell_core.strategy.kinds import ExpiryPick, Picking, expiry_picks

LEG = Param("leg", "leg", "Leg", "")
NTH = Declaration(
    id="nth_listed", section="expiry pick", title="nth listed", sentence="listed expiration no. {n} from {days|day|days} on",
    params=(Param("n", "integer", "Number", 1, 1, 30), Param("days", "integer", "From days", 1, 0, 400)),
    explains="Counts listed expirations from so many calendar days on, the first is no. 1. None where fewer are listed.",
    example="in listed expiration no. 1 from 1 day on", words=("next", "front", "nearest", "weekly", "0DTE"),
)  # fmt: skip
KIND = Declaration(
    id="monthly", section="expiry pick", title="monthly or quarterly", sentence="the {kind} expiration nearest {days|day|days} ({from}–{to})",
    params=(
        Param("kind", "choice", "Kind", "monthly", choices={"monthly": "monthly", "quarterly": "quarterly", "weekly": "weekly"}),
        Param("days", "integer", "Days to expiration", 45, 0, 400), Param("from", "integer", "Not nearer than", 20, 0, 400),
        Param("to", "integer", "Not further than", 70, 0, 400),
    ),
    explains="As *nearest days*, among one kind only. Monthly: the third Friday of a month, or the session before it where that is no "
    "session; quarterly: those of March, June, September and December; weekly: all others.",
    example="in the monthly expiration nearest 45 days (20–70)", words=("third Friday", "standard", "serial", "weekly"),
)  # fmt: skip
AROUND = Declaration(
    id="around_dividend", section="expiry pick", title="around a dividend", sentence="the {which} expiration {side} the next dividend",
    params=(
        Param("which", "choice", "Which", "nearest", choices={"nearest": "nearest", "second": "second nearest"}),
        Param("side", "choice", "Side", "before", choices={"before": "before", "after": "on or after"}),
    ),
    explains="Listed expirations before the day on which the underlying next trades without a dividend, or on that day and after; nearest "
    "to it first. None when no dividend is known.",
    example="in the nearest expiration before the next dividend", words=("event", "ex-date"),
)  # fmt: skip
AROUND_EVENT = Declaration(
    id="around_event", section="expiry pick", title="around a report", sentence="the {which} expiration {side} the next {event}",
    params=(*AROUND.params, EVENT),
    explains="Listed expirations that settle before the next event in whose name these words stand, or after it; nearest to it first. None "
    "when none is known.",
    example="in the nearest expiration on or after the next “report”", words=("event", "earnings", "announcement"),
)  # fmt: skip
NTH_AFTER = Declaration(
    id="nth_after_leg", section="expiry pick", title="nth after a leg's", sentence="listed expiration no. {n} after that of {leg}",
    params=(Param("n", "integer", "Number", 1, 1, 30), LEG),
    explains="Counts listed expirations after another leg's, the next is no. 1.", example="in listed expiration no. 1 after that of leg 3",
    words=("calendar", "diagonal", "next"),
)  # fmt: skip
DAYS_AFTER = Declaration(
    id="days_after_leg", section="expiry pick", title="days after a leg's", sentence="the expiration nearest {days|day|days} after that of {leg}",
    params=(Param("days", "integer", "Days later", 14, 1, 300), LEG),
    explains="Calendar days after another leg's expiration; later than it. Of two equally near, the earlier.",
    example="in the expiration nearest 14 days after that of leg 3", words=("calendar", "diagonal", "double calendar"),
)  # fmt: skip
SAME = Declaration(
    id="same_as_leg", section="expiry pick", title="same as a leg's", sentence="the expiration of {leg}", params=(LEG,),
    explains="The expiration of another leg.", example="in the expiration of leg 3", words=("same", "diagonal"),
)  # fmt: skip
FRIDAY = 4


def nth(picking: Picking, listed: Sequence[dt.date], params: Params) -> list[dt.date]:
    today = picking.view.date
    return [date for date in listed if (date - today).days >= params["days"]][params["n"] - 1 :]


def is_monthly(picking: Picking, date: dt.date) -> bool:
    """Whether a date is the third Friday of its month, or the session before one that is none."""
    first = date.replace(day=1)
    third = first + dt.timedelta(days=(FRIDAY - first.weekday()) % 7 + 14)
    return date == picking.view.timeline.calendar.on_or_before(third)


def of_kind(picking: Picking, listed: Sequence[dt.date], params: Params) -> list[dt.date]:
    today = picking.view.date

    def fits(date: dt.date) -> bool:
        monthly = is_monthly(picking, date)
        wanted = {"monthly": monthly, "quarterly": monthly and date.month % 3 == 0, "weekly": not monthly}[
            params["kind"]
        ]
        return wanted and params["from"] <= (date - today).days <= params["to"]

    return sorted(filter(fits, listed), key=lambda date: (abs((date - today).days - params["days"]), date))


def around(picking: Picking, listed: Sequence[dt.date], params: Params) -> list[dt.date]:
    to_come = [date for date, _ in picking.view.underlying.dividends if date > picking.view.date]
    if not to_come:
        return []
    day = min(to_come)
    return _beside([date < day for date in listed], listed, params)


def _beside(earlier: Sequence[bool], listed: Sequence[dt.date], params: Params) -> list[dt.date]:
    """Of listed expirations, of which those before something are marked, the ones on the wanted side, nearest first."""
    marked = list(zip(earlier, listed, strict=True))
    found = [
        date
        for before, date in (reversed(marked) if params["side"] == "before" else marked)
        if before == (params["side"] == "before")
    ]
    return found if params["which"] == "nearest" else found[1:]


def around_event(picking: Picking, listed: Sequence[dt.date], params: Params) -> list[dt.date]:
    view = picking.view
    to_come = [at for at in instants(view.timeline, params["event"]).tolist() if at > view.instant]
    if not to_come:
        return []
    settles = [view.timeline.cubes[date].settlement_at for date in listed]
    return _beside([at < min(to_come) for at in settles], listed, params)


def nth_after(picking: Picking, listed: Sequence[dt.date], params: Params) -> list[dt.date]:
    other = picking.legs.get(params["leg"])
    return [] if other is None else [date for date in listed if date > other.expiration][params["n"] - 1 :]


def days_after(picking: Picking, listed: Sequence[dt.date], params: Params) -> list[dt.date]:
    other = picking.legs.get(params["leg"])
    if other is None:
        return []
    later = [date for date in listed if date > other.expiration]
    return sorted(later, key=lambda date: (abs((date - other.expiration).days - params["days"]), date))


def same(picking: Picking, listed: Sequence[dt.date], params: Params) -> list[dt.date]:
    other = picking.legs.get(params["leg"])
    return [other.expiration] if other is not None and other.expiration in listed else []


for _declaration, _choose, _alone in (
    (NTH, nth, True), (KIND, of_kind, True), (AROUND, around, True), (AROUND_EVENT, around_event, True), (NTH_AFTER, nth_after, False), (DAYS_AFTER, days_after, False),
    (SAME, same, False),
):  # fmt: skip
    expiry_picks.register(ExpiryPick(_declaration, _choose, _alone))

"""Files of dated facts beside the chains: bars, dividends, splits, events, interest rates, series of one's own.

CSV (packed or not), Parquet, and iCalendar (RFC 5545) for events. Every row becomes a :class:`Record` or is set
aside with line and reason.
"""

from __future__ import annotations

import datetime as dt
import math
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import icalendar
import numpy as np
import numpy.typing as npt
import pyarrow as pa

from strell_core.formats.cells import unmarked
from strell_core.formats.intake.mapping import KINDS, Mapping
from strell_core.formats.intake.rows import codes_of, numbers_of, parse_date
from strell_core.formats.intake.tables import IntakeError, Reject, csv_tables, is_parquet, parquet_tables
from strell_core.market.calendars import DayCount

REASONS = {
    "at": "the date or time cannot be read",
    "underlying": "nothing is named",
    "unreadable": "a number cannot be read",
    "negative": "a number must be above 0",
    "bar": "the highest and lowest price do not enclose the first and last one",
    "ratio": "no ratio; write it like 2, 2:1 or 1:10",
    "days": "no term; write days, or like 3M or 1Y",
    "event": "nothing is said to happen",
    "range": "a number is too large",
    "duplicate": "the same was said in an earlier row",
}
MAX_TEXT = 120
MAX_CALENDAR = 32 << 20
CALENDAR = b"BEGIN:VCALENDAR"
_TENOR = re.compile(r"^(\d{1,4}) *([dwmy]?)(?:ay|eek|onth|ear)?s?$")
_DAYS = {"": 1, "d": 1, "w": 7, "m": 365 / 12, "y": 365}
_RATIO = re.compile(r"^(\d+(?:\.\d+)?)(?: *(?::|/|for|-) *(\d+(?:\.\d+)?))?$")
_SUBJECT = re.compile(r"[A-Z0-9.^_ -]{1,40}")


@dataclass(frozen=True)
class Record:
    """One fact. ``subject`` is a symbol, a currency or a series; ``at`` epoch seconds (``None``: the whole day).

    ``values`` by kind: bars ``open, high, low, close`` (points) and ``volume``; dividends ``amount``; splits
    ``ratio`` (new for one old); events ``event``; rates ``days`` and ``rate`` (percent); series ``value``.
    """

    subject: str
    date: dt.date
    at: int | None
    values: dict[str, Any]
    line: int

    @property
    def key(self) -> tuple[Any, ...]:
        """What may be said only once."""
        extra = self.values.get("event") or self.values.get("days")
        return self.subject, self.date, self.at, extra


@dataclass(frozen=True)
class Records:
    rows: list[Record]
    rejects: list[Reject]
    read: int
    share: float


def is_calendar(path: Path) -> bool:
    """Whether a file is iCalendar."""
    with open(path, "rb") as file:
        return file.read(256).lstrip(b"\xef\xbb\xbf \r\n").upper().startswith(CALENDAR)


def calendar_problems(mapping: Mapping) -> list[tuple[str, str]]:
    """What stands against reading an iCalendar file; its columns are given."""
    found = replace(mapping, kind="events", columns={"at": "DTSTART", "event": "SUMMARY", "underlying": "LOCATION"})
    return [problem for problem in found.problems() if problem[0] == "zone"]


def records(path: Path, mapping: Mapping, calendar_of: Callable[[str], DayCount]) -> Iterator[Records]:
    """Read a file block by block; ``calendar_of`` gives the calendar by which a subject's days are counted.

    Raises :class:`IntakeError` when the file is damaged; what was read before stays good.
    """
    if is_calendar(path):
        yield _calendar(path, mapping, calendar_of)
        return
    reader = parquet_tables(path, mapping) if is_parquet(path) else csv_tables(path, mapping)
    seen: set[tuple[Any, ...]] = set()
    read = 0
    for columns, lines, bad, share in reader:
        rows, rejects = _rows(columns, lines, mapping, calendar_of, seen)
        read += len(lines) + len(bad)
        yield Records(rows, sorted(bad + rejects, key=lambda reject: reject.line), read, share)


def _texts(values: pa.Array) -> list[str]:
    codes, texts = codes_of(values)
    return [texts[code] for code in codes.tolist()]


def _rows(
    columns: dict[str, pa.Array], lines: npt.NDArray[np.int64], mapping: Mapping, calendar_of: Callable[[str], DayCount],
    seen: set[tuple[Any, ...]],
) -> tuple[list[Record], list[Reject]]:  # fmt: skip
    if len(lines) == 0:
        return [], []
    kind = KINDS[mapping.kind]
    by_role = {role: columns[name] for role, name in mapping.columns.items() if name in columns}
    texts = {role: _texts(values) for role, values in by_role.items()}
    numbers: dict[str, Any] = {
        role: numbers_of(by_role[role], mapping.decimal)
        for role in ("open", "high", "low", "close", "volume", "amount", "rate", "value")
        if role in by_role and role in kind.roles
    }
    made, rejects = [], []
    for i, line in enumerate(lines.tolist()):
        cells = [texts[role][i] for role in by_role]
        if not any(cells):
            continue  # an empty line is nothing
        subject = (mapping.underlying or texts.get("underlying", [""] * (i + 1))[i]).strip().upper()
        try:
            if not _SUBJECT.fullmatch(subject):
                raise ValueError("underlying")
            date, at = _when(texts, i, mapping, calendar_of(subject))
            record = Record(subject, date, at, _values(mapping.kind, texts, numbers, i), line)
            if record.key in seen:
                raise ValueError("duplicate")
            seen.add(record.key)
            made.append(record)
        except ValueError as why:
            name = str(why)
            rejects.append(Reject(line, name if name in REASONS else "unreadable", ",".join(cells)[:300]))
    return made, rejects


def _when(texts: dict[str, list[str]], i: int, mapping: Mapping, days: DayCount) -> tuple[dt.date, int | None]:
    text = texts["at"][i]
    if texts.get("time", [""] * (i + 1))[i]:
        text = f"{text} {texts['time'][i]}"
    found = parse_date(text, mapping.date_format)
    if found is None:
        raise ValueError("at")
    date, when = found
    if when is None:
        return date, None
    if when.tzinfo is None:
        when = when.replace(tzinfo=ZoneInfo(mapping.zone))
    try:
        at = int(when.timestamp())
        return days.date_of(at), at
    except (OverflowError, OSError) as error:
        raise ValueError("at") from error


def _values(kind: str, texts: dict[str, list[str]], numbers: dict[str, Any], i: int) -> dict[str, Any]:
    def number(role: str, needed: bool = True, positive: bool = True) -> float | None:
        if role not in numbers:
            return None
        values, missing, unreadable = numbers[role]
        if unreadable[i] or (needed and missing[i]):
            raise ValueError("unreadable")
        if missing[i]:
            return None
        value = float(values[i])
        if not math.isfinite(value) or abs(value) > 1e12:
            raise ValueError("range")
        if positive and value <= 0:
            raise ValueError("negative")
        return value

    if kind == "bars":
        close = number("close")
        assert close is not None
        first, high, low = (number(role, needed=False) for role in ("open", "high", "low"))
        first = close if first is None else first
        high = max(first, close) if high is None else high
        low = min(first, close) if low is None else low
        if max(first, high, low, close) > 2e7:
            raise ValueError("range")
        if not (low <= min(first, close) and max(first, close) <= high):
            raise ValueError("bar")
        volume = number("volume", needed=False, positive=False)
        return {
            "open": first,
            "high": high,
            "low": low,
            "close": close,
            "volume": None if volume is None else int(volume),
        }
    if kind == "dividends":
        return {"amount": number("amount")}
    if kind == "splits":
        return {"ratio": ratio_of(texts["ratio"][i])}
    if kind == "rates":
        rate = number("rate", positive=False)
        if rate is None or not -20 <= rate <= 200:
            raise ValueError("range")
        return {"days": days_of(texts["days"][i]), "rate": rate}
    if kind == "series":
        return {"value": number("value", positive=False)}
    event = unmarked(texts["event"][i].strip())[:MAX_TEXT]
    if not event:
        raise ValueError("event")
    return {"event": event}


def ratio_of(text: str) -> float:
    """New units for one old: 2, 2:1, 1/10, 3 for 2; raises ``ValueError``."""
    found = _RATIO.match(text.strip().lower())
    if found is None:
        raise ValueError("ratio")
    new, old = float(found.group(1)), float(found.group(2) or 1)
    if not (new > 0 and old > 0 and 1e-4 <= new / old <= 1e4):
        raise ValueError("ratio")
    return new / old


def days_of(text: str) -> int:
    """A term in days: 30, 2W, 3M (a twelfth of 365 days each), 1Y; raises ``ValueError``."""
    found = _TENOR.match(text.strip().lower())
    if found is None:
        raise ValueError("days")
    days = round(int(found.group(1)) * _DAYS[found.group(2)])
    if not 1 <= days <= 36_500:
        raise ValueError("days")
    return days


def _calendar(path: Path, mapping: Mapping, calendar_of: Callable[[str], DayCount]) -> Records:
    """Events of an iCalendar file; times without a zone are in the mapping's."""
    if path.stat().st_size > MAX_CALENDAR:
        raise IntakeError("The calendar is larger than 32 MB. Split it.")
    try:
        calendar = icalendar.Calendar.from_ical(path.read_bytes())
        found = calendar.walk("VEVENT")
    except Exception as error:  # the parser raises whatever a damaged file makes it stumble over
        raise IntakeError(f"The file is no calendar that can be read: {str(error)[:200]}.") from error
    made: list[Record] = []
    rejects: list[Reject] = []
    seen: set[tuple[Any, ...]] = set()
    for number, event in enumerate(found, 1):
        title = str(event.get("SUMMARY", "")).strip()[:MAX_TEXT]
        try:
            subject = (mapping.underlying or str(event.get("LOCATION", ""))).strip().upper()
            if not _SUBJECT.fullmatch(subject):
                raise ValueError("underlying")
            if not title:
                raise ValueError("event")
            start = event.get("DTSTART")
            when = getattr(start, "dt", None)
            if isinstance(when, dt.datetime):
                moment = when if when.tzinfo is not None else when.replace(tzinfo=ZoneInfo(mapping.zone))
                at = int(moment.timestamp())
                date = calendar_of(subject).date_of(at)
            elif isinstance(when, dt.date):
                date, at = when, None
            else:
                raise ValueError("at")
            record = Record(subject, date, at, {"event": title}, number)
            if record.key in seen:
                raise ValueError("duplicate")
            seen.add(record.key)
            made.append(record)
        except (ValueError, OverflowError, OSError) as why:
            name = str(why)
            rejects.append(Reject(number, name if name in REASONS else "at", title))
    return Records(made, rejects, len(found), 1.0)

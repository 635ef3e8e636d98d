"""Rows of a file as arrays, checked one by one: what cannot be used is set aside with line and reason."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv
import pyarrow.parquet
from numba import njit

from strell_core.formats.intake.mapping import Mapping, osi_parts, right_of
from strell_core.formats.intake.tables import Reject, ahead, csv_tables, is_parquet, parquet_tables, plain_text
from strell_core.market.calendars import DayCount
from strell_core.market.extras import REAL, WHOLE

PRICE_SCALE = 10_000
"""Prices of rows are whole numbers of 0.0001 points."""
NONE = -1
"""A number that the file does not have."""

_FIELDS = [
    ("session", "<i4"), ("at", "<i8"), ("expiration", "<i4"), ("right", "<i1"), ("strike", "<i4"),
    ("bid", "<i4"), ("ask", "<i4"), ("volume", "<i4"), ("open_interest", "<i4"), ("spot", "<i4"), ("line", "<i8"),
]  # fmt: skip
"""``session`` and ``expiration`` are ordinals, ``at`` epoch seconds (``NONE``: only a date was given),
``right`` 0 call and 1 put, ``strike`` thousandths, prices 0.0001 points, ``spot`` 0.01."""


def row_type(told: Iterable[str] = ()) -> np.dtype[Any]:
    """A row's fields: those every row has, and of the ones kept beside the chain those a file tells."""
    mine = set(told) - {name for name, _ in _FIELDS}
    beside = [(name, "<i4") for name in WHOLE if name in mine] + [(name, "<f4") for name in REAL if name in mine]
    return np.dtype([*_FIELDS, *beside])


REASONS = {
    "fields": "the row has another number of fields than the header",
    "at": "date or time of the quote cannot be read",
    "expiration": "the expiration cannot be read",
    "strike": "the strike cannot be read, is not positive or too large",
    "right": "neither call nor put",
    "symbol": "not an option symbol of 21 characters",
    "underlying": "no underlying is named",
    "unreadable": "a price, size or Greek cannot be read",
    "negative": "a price or size is negative",
    "range": "a number is too large",
    "crossed": "the bid is above the ask",
    "expired": "the expiration lies before the quote",
    "no session": "the exchange is closed on that day",
    "outside": "the quote lies outside the session",
    "off tick": "the price is no multiple of the smallest price step",
    "duplicate": "the same contract was quoted at the same time in an earlier row",
}
_NULL = r"^(|-|nan|null|none|na|n/a)$"
_NUMBER = r"^[+-]?(\d{1,18}\.?\d{0,18}|\.\d{1,18})([eE][+-]?\d{1,2})?$"


@dataclass(frozen=True)
class Block:
    """Good rows of a stretch of the file by underlying, what was set aside, and where reading stands."""

    rows: dict[str, npt.NDArray[Any]]
    rejects: list[Reject]
    read: int
    """Rows read so far."""
    share: float
    """Share of the file's bytes that were read."""


def blocks(path: Path, mapping: Mapping, calendar_of: Callable[[str], DayCount]) -> Iterator[Block]:
    """Read a file block by block. ``calendar_of`` gives the calendar of an underlying's exchange.

    Raises :class:`IntakeError` when the file is damaged; what was read before stays good.
    """
    reader = parquet_tables(path, mapping) if is_parquet(path) else csv_tables(path, mapping)
    checker = _Checker(mapping, calendar_of)
    read = 0
    for columns, lines, bad, share in ahead(reader):
        rows, rejects = checker.check(columns, lines)
        read += len(lines) + len(bad)
        yield Block(rows, sorted(bad + rejects, key=lambda r: r.line), read, share)


class _Checker:
    """Turns columns into rows; remembers what it has read of dates and symbols."""

    def __init__(self, mapping: Mapping, calendar_of: Callable[[str], DayCount]) -> None:
        self.mapping = mapping
        self.type = row_type(mapping.columns)
        self.fields = frozenset(self.type.names or ())
        self.zone = ZoneInfo(mapping.zone)
        self.calendar_of = calendar_of
        self._days: dict[str, int] = {}
        self._symbols: dict[str, tuple[str, dt.date, str, int] | None] = {}
        self._instants: dict[tuple[str, str], tuple[int, int]] = {}

    def check(
        self, columns: dict[str, pa.Array], lines: npt.NDArray[np.int64]
    ) -> tuple[dict[str, npt.NDArray[Any]], list[Reject]]:
        n = len(lines)
        if n == 0:
            return {}, []
        rows = np.zeros(n, self.type)
        rows["line"] = lines
        reason = np.zeros(n, np.int16)  # 0: good, else one more than the place in REASONS
        names = list(REASONS)
        column = {role: columns[name] for role, name in self.mapping.columns.items() if name in columns}

        def set_aside(which: npt.NDArray[np.bool_], why: str) -> None:
            reason[which & (reason == 0)] = names.index(why) + 1

        codes, symbols = self._identity(rows, column, n, set_aside)
        self._times(rows, column, codes, symbols, set_aside)
        scales = {
            "bid": PRICE_SCALE / self.mapping.price_scale, "ask": PRICE_SCALE / self.mapping.price_scale, "spot": 100.0,
            "last": PRICE_SCALE / self.mapping.price_scale, "volume": 1, "open_interest": 1, "bid_size": 1, "ask_size": 1,
        }  # fmt: skip
        for role, scale in scales.items():
            if role in self.fields:
                self._number(rows, column, role, scale, set_aside)
        for role in REAL:
            if role in self.fields:
                values, missing, unreadable = numbers_of(column[role], self.mapping.decimal)
                set_aside(unreadable, "unreadable")
                rows[role] = np.where(missing | unreadable, np.nan, np.clip(values, -1e30, 1e30))
        # a bid that is left out is none; without an ask as well there is no quote
        quoted = rows["ask"] > 0
        rows["bid"][(rows["bid"] < 0) & quoted] = 0
        set_aside(~quoted & (rows["bid"] > 0) & (rows["ask"] == 0), "crossed")
        rows["ask"][~quoted] = NONE
        rows["bid"][~quoted & (rows["bid"] == 0)] = NONE
        set_aside(quoted & (rows["bid"] > rows["ask"]), "crossed")
        set_aside(rows["expiration"] < rows["session"], "expired")

        bad = np.flatnonzero(reason)
        rejects = [
            Reject(int(lines[i]), names[int(reason[i]) - 1], text)
            for i in bad.tolist()
            if (text := self._text(columns, int(i))).strip(",")  # an empty line is nothing
        ]
        good = reason == 0
        out: dict[str, npt.NDArray[Any]] = {}
        for code in np.flatnonzero(np.bincount(codes[good], minlength=len(symbols))).tolist():
            mine = rows[good & (codes == code)] if len(symbols) > 1 else rows[good]
            known = out.get(symbols[code])
            out[symbols[code]] = mine if known is None else np.concatenate([known, mine])
        return out, rejects

    def _text(self, columns: dict[str, pa.Array], i: int) -> str:
        cells = []
        for values in columns.values():
            value = values[i].as_py()
            cells.append(value.decode("utf-8", "replace") if isinstance(value, bytes) else plain_text(value))
        return ",".join(cells)[:300]

    # -- what a row is about
    def _identity(
        self, rows: Any, column: dict[str, pa.Array], n: int, set_aside: Any
    ) -> tuple[npt.NDArray[np.int64], list[str]]:
        """Fill in the contract; gives each row's underlying as a place in a list of symbols."""
        owner, symbols = np.zeros(n, np.int64), [self.mapping.underlying]
        if "symbol" in column:
            codes, texts = codes_of(column["symbol"])
            parts = [self._osi(text) for text in texts]
            known = np.array([part is not None for part in parts])[codes]
            set_aside(~known, "symbol")
            filled = [part or ("", dt.date(1, 1, 1), "call", 0) for part in parts]
            rows["expiration"] = np.array([p[1].toordinal() for p in filled], np.int32)[codes]
            rows["right"] = np.array([p[2] == "put" for p in filled], np.int8)[codes]
            rows["strike"] = np.array([p[3] for p in filled], np.int32)[codes]
            if not self.mapping.underlying:
                symbols = sorted({p[0] for p in filled})
                owner = np.array([symbols.index(p[0]) for p in filled], np.int64)[codes]
        else:
            codes, texts = codes_of(column["expiration"])
            days = np.array([self._day(text) for text in texts], np.int32)[codes]
            set_aside(days == 0, "expiration")
            rows["expiration"] = days
            codes, texts = codes_of(column["right"])
            rights = [right_of(text) for text in texts]
            set_aside(np.array([right is None for right in rights])[codes], "right")
            rows["right"] = np.array([right == "put" for right in rights], np.int8)[codes]
            values, missing, unreadable = numbers_of(column["strike"], self.mapping.decimal)
            strike = np.clip(np.nan_to_num(values), -1e15, 1e15) * (1000 / self.mapping.strike_scale)
            set_aside(missing | unreadable | (strike < 0.5) | (strike >= 1e9), "strike")
            rows["strike"] = np.rint(np.clip(strike, 0, 1e9)).astype(np.int32)
        if "underlying" in column and not self.mapping.underlying:
            owner, texts = codes_of(column["underlying"])
            symbols = [text.upper() for text in texts]
        named = np.array([re.fullmatch(r"[A-Z0-9.^_-]{1,16}", symbol) is not None for symbol in symbols])
        set_aside(~named[owner], "underlying")
        return owner, symbols

    def _osi(self, text: str) -> tuple[str, dt.date, str, int] | None:
        if text not in self._symbols:
            if len(self._symbols) > 500_000:
                self._symbols.clear()
            self._symbols[text] = osi_parts(text)
        return self._symbols[text]

    def _day(self, text: str) -> int:
        """Ordinal of a date in the mapping's format, 0 if it is none."""
        if text not in self._days:
            found = parse_date(text, self.mapping.date_format)
            self._days[text] = 0 if found is None else found[0].toordinal()
        return self._days[text]

    def _times(
        self, rows: Any, column: dict[str, pa.Array], owner: npt.NDArray[np.int64], symbols: list[str], set_aside: Any
    ) -> None:
        codes, texts = codes_of(column["at"])
        if "time" in column:
            more, times = codes_of(column["time"])
            pair = codes.astype(np.int64) * len(times) + more
            found, codes = np.unique(pair, return_inverse=True)
            texts = [f"{texts[int(p) // len(times)]} {times[int(p) % len(times)]}" for p in found]
        for place, symbol in enumerate(symbols):
            mine = owner == place
            table = np.zeros((len(texts), 2), np.int64)
            for code in np.flatnonzero(np.bincount(codes[mine], minlength=len(texts))).tolist():
                table[code] = self._instant(texts[code], symbol)
            rows["session"][mine] = table[codes[mine], 0]
            rows["at"][mine] = table[codes[mine], 1]
        set_aside(rows["session"] == 0, "at")

    def _instant(self, text: str, symbol: str) -> tuple[int, int]:
        """Ordinal of the session and epoch second; (0, 0) if it cannot be read."""
        key = (text, symbol)
        if key not in self._instants:
            if len(self._instants) > 200_000:
                self._instants.clear()
            self._instants[key] = self._find_instant(text, symbol)
        return self._instants[key]

    def _find_instant(self, text: str, symbol: str) -> tuple[int, int]:
        found = parse_date(text, self.mapping.date_format)
        if found is None:
            return 0, 0
        date, when = found
        if when is None:
            return date.toordinal(), NONE
        if when.tzinfo is None:
            when = when.replace(tzinfo=self.zone)
        try:
            at = int(when.timestamp())
            return self.calendar_of(symbol).date_of(at).toordinal(), at
        except (OverflowError, ValueError, OSError):
            return 0, 0

    def _number(self, rows: Any, column: dict[str, pa.Array], role: str, scale: float, set_aside: Any) -> None:
        if role not in column:
            rows[role] = NONE
            return
        values, missing, unreadable = numbers_of(column[role], self.mapping.decimal)
        whole, flags = _whole(values, missing, scale)
        rows[role] = whole
        if flags.any() or unreadable.any():
            set_aside(unreadable, "unreadable")
            set_aside(flags == 1, "negative")
            set_aside(flags == 2, "range")


@njit(cache=True, nogil=True)
def _whole(
    values: npt.NDArray[np.float64], missing: npt.NDArray[np.bool_], scale: float
) -> tuple[npt.NDArray[np.int32], npt.NDArray[np.uint8]]:
    """Scaled values as whole numbers (``NONE`` where missing), and what is negative (1) or too large (2)."""
    n = values.shape[0]
    out, flags = np.full(n, NONE, np.int32), np.zeros(n, np.uint8)
    for i in range(n):
        if missing[i]:
            continue
        scaled = values[i] * scale
        if scaled < 0.0:
            flags[i] = 1
        elif scaled > 2e9:
            flags[i] = 2
        elif scaled == scaled:
            out[i] = np.int32(np.rint(scaled))
    return out, flags


def codes_of(values: pa.Array) -> tuple[npt.NDArray[np.int64], list[str]]:
    """Each value's place among the different texts of a column."""
    if isinstance(values, pa.DictionaryArray):
        values = values.dictionary_decode()
    encoded = pc.dictionary_encode(values, null_encoding="encode")
    texts = []
    for value in encoded.dictionary.to_pylist():
        if isinstance(value, bytes):
            texts.append(value.decode("utf-8", "replace").strip())
        elif isinstance(value, float) and value.is_integer():
            texts.append(str(int(value)))
        else:
            texts.append(plain_text(value).strip())
    return encoded.indices.to_numpy(zero_copy_only=False).astype(np.int64), texts


def numbers_of(
    values: pa.Array, decimal: str
) -> tuple[npt.NDArray[np.float64], npt.NDArray[np.bool_], npt.NDArray[np.bool_]]:
    """Values, which are missing, and which are there but no numbers."""
    if isinstance(values, pa.DictionaryArray):
        values = values.dictionary_decode()
    if pa.types.is_integer(values.type) or pa.types.is_floating(values.type) or pa.types.is_decimal(values.type):
        numbers = values.cast(pa.float64(), safe=False).to_numpy(zero_copy_only=False)
        missing = np.isnan(numbers)
        return numbers, missing, np.isinf(numbers)
    if not (
        pa.types.is_binary(values.type) or pa.types.is_string(values.type) or pa.types.is_large_string(values.type)
    ):
        n = len(values)
        return np.full(n, np.nan), np.zeros(n, np.bool_), np.ones(n, np.bool_)
    plain = pc.cast(values, pa.string(), safe=False)
    try:
        numbers = pc.cast(plain, pa.float64()).to_numpy(zero_copy_only=False)  # most columns are nothing but numbers
        return numbers, np.isnan(numbers), np.isinf(numbers)
    except pa.ArrowInvalid:
        pass
    text = pc.ascii_trim_whitespace(pc.fill_null(plain, ""))
    if decimal == ",":
        text = pc.replace_substring(text, ",", ".", max_replacements=1)
    number = pc.match_substring_regex(text, _NUMBER)
    empty = pc.match_substring_regex(text, _NULL, ignore_case=True)
    found = pc.if_else(number, text, pa.scalar(None, pa.string())).cast(pa.float64())
    missing = empty.to_numpy(zero_copy_only=False)
    good = number.to_numpy(zero_copy_only=False)
    return found.to_numpy(zero_copy_only=False), missing, ~missing & ~good


_CLOCK = re.compile(r"^(\d{1,2}):(\d{2})(?::(\d{2})(?:[.,]\d{1,9})?)?$")


def parse_date(text: str, how: str) -> tuple[dt.date, dt.datetime | None] | None:
    """Date, and date with time if there is one; ``None`` if it cannot be read."""
    try:
        if how == "epoch":
            number = float(text)
            while abs(number) >= 1e11:
                number /= 1000
            when = dt.datetime.fromtimestamp(number, dt.UTC)
            return when.date(), when
        if how == "iso":
            if len(text) <= 10:
                return dt.date.fromisoformat(text), None
            when = dt.datetime.fromisoformat(text)
            return when.date(), when
        day, _, clock = text.replace("T", " ").partition(" ")
        if how == "compact":
            date = dt.datetime.strptime(day, "%Y%m%d").date()
        else:
            first, second, year = (int(part) for part in re.split(r"[./-]", day))
            date = dt.date(year, second, first) if how == "day first" else dt.date(year, first, second)
        if not clock.strip():
            return date, None
        found = _CLOCK.match(clock.strip())
        if found is None:
            return None
        hour, minute, seconds = (int(part or 0) for part in found.groups())
        return date, dt.datetime.combine(date, dt.time(hour, minute, seconds))
    except (ValueError, OverflowError, OSError):
        return None

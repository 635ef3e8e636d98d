"""Which column of a file is what, and how its values are written.

Columns are recognised by their name (common words of the trade) and by what stands in them; a person
corrects the guess and keeps it under a name.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Sequence
from collections.abc import Mapping as AnyMapping
from dataclasses import asdict, dataclass, field, replace
from typing import Any

from strell_core.market.calendars import is_zone
from strell_core.market.extras import REAL, WHOLE

ROLES: dict[str, str] = {
    "at": "date, or date and time, of the quote",
    "time": "time of the quote, when it stands in a column of its own",
    "underlying": "symbol of the underlying",
    "symbol": "option symbol (OCC/OSI, 21 characters)",
    "expiration": "expiration date",
    "strike": "strike",
    "right": "call or put",
    "bid": "bid",
    "ask": "ask",
    **WHOLE,
    **REAL,
    "spot": "price of the underlying",
}
NEEDED = ("at", "bid", "ask")

_WORDS: dict[str, tuple[str, ...]] = {
    "at": ("at", "timestamp", "datetime", "date_time", "quote_timestamp", "quote_datetime", "quote_at", "quote_date", "quotedate",
           "trade_date", "tradedate", "date", "day", "session", "asof", "as_of", "data_date"),
    "time": ("time", "quote_time", "time_of_day", "quotetime"),
    "underlying": ("underlying", "underlying_symbol", "root", "ticker", "underlier", "stock", "index"),
    "symbol": ("symbol", "option_symbol", "optionsymbol", "osi", "occ", "osi_symbol", "occ_symbol", "contract", "option", "contract_symbol"),
    "expiration": ("expiration", "expiry", "expiration_date", "expiry_date", "exp", "exp_date", "expirationdate", "maturity", "expires"),
    "strike": ("strike", "strike_price", "strikeprice", "k", "exercise_price"),
    "right": ("right", "type", "option_type", "call_put", "put_call", "callput", "putcall", "cp", "pc", "c_p", "side"),
    "bid": ("bid", "bid_price", "best_bid", "bidprice", "bid_close", "close_bid"),
    "ask": ("ask", "ask_price", "best_ask", "best_offer", "offer", "askprice", "ask_close", "close_ask"),
    "last": ("last", "last_price", "close", "trade_price", "last_trade", "settle", "lastprice"),
    "bid_size": ("bid_size", "bidsize", "size_bid"),
    "ask_size": ("ask_size", "asksize", "size_ask", "offer_size"),
    "volume": ("volume", "vol", "traded", "trade_volume", "total_volume"),
    "open_interest": ("open_interest", "openinterest", "oi", "open_int"),
    "iv": ("given_iv", "iv", "implied_volatility", "implied_vol", "impl_volatility", "sigma", "impliedvolatility"),
    "delta": ("given_delta", "delta"),
    "gamma": ("given_gamma", "gamma"),
    "theta": ("given_theta", "theta"),
    "vega": ("given_vega", "vega"),
    "rho": ("given_rho", "rho"),
    "spot": ("spot", "underlying_price", "underlying_last", "underlying_close", "underlyingprice", "stock_price", "index_price", "underlying_bid"),
}  # fmt: skip


@dataclass(frozen=True)
class Kind:
    """What a file may hold: its columns, and what its rows are about."""

    title: str
    subject: str
    """What the role ``underlying`` names in such a file."""
    roles: dict[str, str]
    needed: tuple[str, ...]
    words: dict[str, tuple[str, ...]]


_AT = ("at", "timestamp", "datetime", "date_time", "date", "day", "ex_date", "exdate", "ex_dividend_date", "effective_date",
       "trade_date", "report_date", "start", "dtstart", "when")  # fmt: skip
_SYMBOL = ("underlying", "symbol", "ticker", "root", "stock", "instrument")


def _dated(
    title: str, roles: dict[str, str], needed: tuple[str, ...], words: dict[str, tuple[str, ...]],
    subject: str = "symbol of the underlying",
) -> Kind:  # fmt: skip
    return Kind(
        title, subject, {"at": "date, or date and time", "underlying": subject, **roles}, ("at", *needed),
        {"at": _AT, **words, "underlying": words.get("underlying", _SYMBOL)},
    )  # fmt: skip


_TIME = {"time": "time, when it stands in a column of its own"}
KINDS: dict[str, Kind] = {
    "chains": Kind("option chains", "symbol of the underlying", ROLES, NEEDED, _WORDS),
    "bars": _dated(
        "bars of an underlying, daily or intraday",
        {**_TIME, "open": "first price", "high": "highest price", "low": "lowest price", "close": "last price", "volume": "volume"},
        ("close",),
        {"time": ("time", "time_of_day"), "open": ("open", "o", "first"), "high": ("high", "h"), "low": ("low", "l"),
         "close": ("close", "c", "last", "settle", "adj_close", "price"), "volume": ("volume", "vol", "v")},
    ),
    "dividends": _dated(
        "dividends", {"amount": "dividend a unit, in money"}, ("amount",),
        {"amount": ("amount", "dividend", "dividends", "cash_amount", "cash", "value")},
    ),
    "splits": _dated(
        "splits", {"ratio": "new units for an old one, like 2 or 2:1 or 1:10"}, ("ratio",),
        {"ratio": ("ratio", "split", "split_ratio", "split_factor", "factor")},
    ),
    "events": _dated(
        "reports and other events", {**_TIME, "event": "what happens"}, ("event",),
        {"time": ("time", "time_of_day"), "event": ("event", "title", "summary", "description", "what", "type", "name")},
    ),
    "rates": _dated(
        "interest rates", {"days": "term: days, or like 3M or 1Y", "rate": "percent a year"}, ("days", "rate"),
        {"days": ("days", "tenor", "term", "maturity"), "rate": ("rate", "yield", "percent", "value"), "underlying": ("currency", "ccy")},
        "currency",
    ),
    "series": _dated(
        "a series of your own", {"value": "the number"}, ("value",),
        {"value": ("value", "number", "level", "close", "reading"), "underlying": ("name", "series")}, "name of the series",
    ),
}  # fmt: skip
DATE_FORMATS = {
    "iso": "2026-11-04",
    "compact": "20261104",
    "day first": "04.11.2026 or 04/11/2026",
    "month first": "11/04/2026",
    "epoch": "seconds, milliseconds or nanoseconds since 1970",
}
UNSURE = "unsure"
"""The format of dates like 03/04/2026, of which nobody has said whether the day or the month comes first."""
OSI = re.compile(r"^([A-Z0-9.]{1,6}) *(\d{6})([CP])(\d{8})$")
"""OCC/OSI symbology: root padded to six, yymmdd, C or P, strike in thousandths (eight digits)."""
_RIGHT = {"c": "call", "call": "call", "calls": "call", "p": "put", "put": "put", "puts": "put"}


class MappingError(ValueError):
    """A mapping that cannot be used; ``problems`` are ``(place, message)``."""

    def __init__(self, problems: list[tuple[str, str]]) -> None:
        super().__init__(" ".join(message for _, message in problems))
        self.problems = problems


@dataclass(frozen=True)
class Mapping:
    """How a file is read. ``columns`` maps roles to column names."""

    columns: dict[str, str] = field(default_factory=dict)
    zone: str = "UTC"
    """Time zone of times without an offset."""
    date_format: str = "iso"
    decimal: str = "."
    delimiter: str = ","
    strike_scale: int = 1
    """1, or 1000 where strikes stand in thousandths."""
    price_scale: int = 1
    """1, or 100 where prices stand in cents."""
    underlying: str = ""
    """Symbol of everything in the file, when no column says it."""
    day_time: str = ""
    """Exchange-local time, like ``15:45``, of rows that have only a date; empty: the session's close."""
    kind: str = "chains"
    """One of :data:`KINDS`."""

    def plain(self) -> dict[str, Any]:
        return asdict(self)

    @classmethod
    def parse(cls, raw: AnyMapping[str, Any]) -> Mapping:
        """Read what :meth:`plain` wrote; raises :class:`MappingError`."""
        known = {name: raw[name] for name in cls.__dataclass_fields__ if name in raw}
        made = cls(**known)
        problems = made.problems()
        if problems:
            raise MappingError(problems)
        return made

    def problems(self, names: Sequence[str] | None = None) -> list[tuple[str, str]]:
        """What stands against reading a file this way, the file's columns being ``names``."""
        out = []
        if not isinstance(self.columns, dict) or not all(isinstance(v, str) for v in self.columns.values()):
            return [("columns", "Columns are roles with the name of a column each.")]
        kind = KINDS.get(self.kind) if isinstance(self.kind, str) else None
        if kind is None:
            return [("kind", f"A file holds one of {', '.join(KINDS)}.")]
        out += [(role, f"There is no role '{role}'.") for role in self.columns if role not in kind.roles]
        for role in kind.needed:
            if not self.columns.get(role):
                out.append((role, f"Say which column is the {kind.roles[role]}."))
        if self.kind != "chains":
            if not self.columns.get("underlying") and not self.underlying:
                out.append(("underlying", f"Say which column is the {kind.subject}, or type it."))
        elif not self.columns.get("symbol"):
            for role in ("expiration", "strike", "right"):
                if not self.columns.get(role):
                    out.append((role, f"Say which column is the {role}, or which holds option symbols."))
            if not self.columns.get("underlying") and not self.underlying:
                out.append(("underlying", "Say which column names the underlying, or type its symbol."))
        if not is_zone(self.zone):
            out.append(("zone", f"'{str(self.zone)[:40]}' is no time zone; write it like Europe/Lisbon."))
        for name, allowed in (
            ("date_format", tuple(DATE_FORMATS)), ("decimal", (".", ",")), ("delimiter", (",", ";", "\t", "|")),
            ("strike_scale", (1, 1000)), ("price_scale", (1, 100)),
        ):  # fmt: skip
            if getattr(self, name) == UNSURE and name == "date_format":
                out.append((name, "Say whether the day or the month comes first in the file's dates."))
            elif getattr(self, name) not in allowed:
                out.append((name, f"{name.replace('_', ' ')} is one of {', '.join(map(repr, allowed))}."))
        if self.decimal == self.delimiter:
            out.append(("decimal", "Columns and decimals cannot both be told by a comma."))
        if self.day_time and not re.fullmatch(r"([01]\d|2[0-3]):[0-5]\d", str(self.day_time)):
            out.append(("day_time", f"'{self.day_time}' is no time of day; write it like 15:45."))
        if names is not None:
            for role, column in self.columns.items():
                if column and column not in names:
                    out.append((role, f"The file has no column '{column}'."))
        return out


def right_of(text: str) -> str | None:
    """``call``, ``put`` or ``None``."""
    return _RIGHT.get(text.strip().lower())


def osi_parts(text: str) -> tuple[str, dt.date, str, int] | None:
    """Root, expiration, right and strike in thousandths of an OCC/OSI symbol; ``None`` if it is none."""
    found = OSI.match(text.strip().upper())
    if found is None:
        return None
    root, date, right, strike = found.groups()
    try:
        expiration = dt.date(2000 + int(date[:2]), int(date[2:4]), int(date[4:]))
    except ValueError:
        return None
    return root.strip(), expiration, _RIGHT[right.lower()], int(strike)


def osi_symbol(root: str, expiration: dt.date, right: str, thousandths: int) -> str:
    """The 21-character symbol; raises ``ValueError`` where the symbology has no room."""
    if not 1 <= len(root) <= 6 or not 0 < thousandths < 100_000_000:
        raise ValueError(f"{root} {thousandths / 1000} has no OSI symbol")
    return f"{root:<6}{expiration:%y%m%d}{'C' if right == 'call' else 'P'}{thousandths:08d}"


def guess(names: Sequence[str], samples: Sequence[Sequence[str]], delimiter: str = ",", kind: str = "") -> Mapping:
    """A first mapping from column names and some rows of text; ``kind`` where it is known already."""
    kind = kind or _guess_kind(names, samples)
    if kind != "chains":
        return _guess_dated(kind, names, samples, delimiter)
    by_column = {name: [str(row[i]).strip() for row in samples if i < len(row)] for i, name in enumerate(names)}
    by_column = {name: [text for text in texts if text] for name, texts in by_column.items()}
    columns = _by_words(names, _WORDS)
    # a column called symbol holds option symbols, or the underlying's
    symbol = columns.get("symbol")
    if symbol and not _nearly_all(by_column[symbol], lambda text: osi_parts(text) is not None):
        del columns["symbol"]
        columns.setdefault("underlying", symbol)
    # a column called time that holds dates is the quote's date and time
    if "at" not in columns and _nearly_all(
        by_column.get(columns.get("time", ""), []), lambda text: len(text) >= 8 and text[2] != ":"
    ):
        columns["at"] = columns.pop("time")
    for name in names:
        texts = by_column[name]
        if name in columns.values() or not texts:
            continue
        if "symbol" not in columns and _nearly_all(texts, lambda text: osi_parts(text) is not None):
            columns["symbol"] = name
        elif "right" not in columns and _nearly_all(texts, lambda text: right_of(text) is not None):
            columns["right"] = name
    dates = [text for role in ("expiration", "at") if role in columns for text in by_column[columns[role]]]
    made = Mapping(columns=columns, delimiter=delimiter, date_format=guess_dates(dates))
    numbers = [
        text for role in ("bid", "ask", "strike", "spot") if role in columns for text in by_column[columns[role]]
    ]
    if delimiter != "," and any(re.fullmatch(r"-?\d+,\d+", text) for text in numbers):
        made = replace(made, decimal=",")
    strikes, spots = (_numbers(by_column.get(columns.get(role, ""), []), made.decimal) for role in ("strike", "spot"))
    if strikes and spots and 200 < _middle(strikes) / max(_middle(spots), 1e-9) < 5000:
        made = replace(made, strike_scale=1000)
    return made


def _by_words(names: Sequence[str], words: AnyMapping[str, Sequence[str]]) -> dict[str, str]:
    """Columns by their names: the first word that is one."""
    columns: dict[str, str] = {}
    for role, mine in words.items():
        for word in mine:
            found = next((n for n in names if _plain(n) == word and n not in columns.values()), None)
            if found is not None:
                columns[role] = found
                break
    return columns


def _guess_kind(names: Sequence[str], samples: Sequence[Sequence[str]]) -> str:
    """What the file holds, by the names of its columns; chains where an option is named."""
    plain = {_plain(name) for name in names}

    def any_of(kind: str, role: str) -> bool:
        return bool(plain & set(KINDS[kind].words[role]))

    first = samples[0] if samples else []
    if any_of("chains", "strike") or any_of("chains", "expiration") or any(osi_parts(cell) for cell in first):
        return "chains"
    if "bid" in plain or "ask" in plain:
        return "chains"
    if plain & {"high", "low"} and any_of("bars", "close"):
        return "bars"
    if plain & {"dividend", "dividends", "amount", "cash_amount", "cash", "ex_date", "ex_dividend_date"}:
        return "dividends"
    if plain & set(KINDS["splits"].words["ratio"]):
        return "splits"
    if any_of("rates", "days") and any_of("rates", "rate"):
        return "rates"
    if plain & {"event", "title", "summary", "description"}:
        return "events"
    if "close" in plain:
        return "bars"
    return "series" if any_of("series", "at") and any_of("series", "value") else "chains"


def _guess_dated(kind: str, names: Sequence[str], samples: Sequence[Sequence[str]], delimiter: str) -> Mapping:
    columns = _by_words(names, KINDS[kind].words)
    place = {name: i for i, name in enumerate(names)}

    def texts(role: str) -> list[str]:
        at = place.get(columns.get(role, ""), len(names))
        return [text for row in samples if at < len(row) and (text := str(row[at]).strip())]

    number = {"bars": "close", "dividends": "amount", "rates": "rate", "series": "value"}.get(kind, "")
    comma = delimiter != "," and any(re.fullmatch(r"-?\d+,\d+", text) for text in texts(number))
    return Mapping(
        columns, kind=kind, delimiter=delimiter, date_format=guess_dates(texts("at")), decimal="," if comma else "."
    )


def guess_dates(texts: Sequence[str]) -> str:
    """The date format that fits nearly all samples; unsure where the day or the month may come first."""
    days = [text.split("T")[0].split(" ")[0] for text in texts if text]
    if _nearly_all(days, lambda day: re.fullmatch(r"\d{8}", day) is not None):
        return "compact"
    if _nearly_all(days, lambda day: re.fullmatch(r"\d{9,19}(\.\d+)?", day) is not None):
        return "epoch"
    parts = [re.fullmatch(r"(\d{1,2})[./-](\d{1,2})[./-](\d{4})", day) for day in days]
    if _nearly_all(parts, bool):
        first, second = (max(int(part.group(n)) for part in parts if part) for n in (1, 2))
        return UNSURE if (first > 12) == (second > 12) else "month first" if second > 12 else "day first"
    return "iso"


def _plain(name: str) -> str:
    return re.sub(r"[^a-z0-9]+", "_", name.strip().lower()).strip("_")


def _nearly_all(items: Sequence[Any], test: Callable[[Any], bool]) -> bool:
    """Whether four in five pass: a file may hold a few bad rows."""
    return bool(items) and 5 * sum(test(item) for item in items) >= 4 * len(items)


def _numbers(texts: Sequence[str], decimal: str) -> list[float]:
    out = []
    for text in texts:
        try:
            out.append(float(text.replace(decimal, ".")))
        except ValueError:
            continue
    return out


def _middle(values: Sequence[float]) -> float:
    return sorted(values)[len(values) // 2]

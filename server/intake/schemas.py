"""Shapes of the data page: what is there, files on their way in."""

import datetime as dt
from typing import Any

from ninja import Schema

from config.schemas import Asked, ProblemOut
from facts.schemas import PeriodOut


class BesideOut(Schema):
    """How many facts of each kind are known beside the chains."""

    bars: int
    intraday: int
    dividends: int
    splits: int
    events: int


class HoldingsOut(Schema):
    symbol: str
    name: str
    kind: str
    currency: str
    multiplier: int
    quantum: str
    calendar: str
    zone: str
    rate: float
    american: bool
    settles: str
    traded: bool
    first: dt.date | None
    last: dt.date | None
    sessions: int
    quotes: int
    size: int
    bytes_a_quote: float | None
    extras_a_quote: float | None
    """Bytes a quote of what was told beside bid and ask: last prices, sizes, delivered volatilities and Greeks."""
    known_at: dt.datetime | None
    beside: BesideOut
    periods: list[PeriodOut]
    mine: bool
    shared: bool
    """The operator's; what is neither shared nor mine is somebody else's."""
    may_change: bool


class CoverageDay(Schema):
    date: dt.date
    snapshots: int
    contracts: int
    version: int
    doubtful: int


class GapOut(Schema):
    start: dt.date
    end: dt.date
    sessions: int


class CountOut(Schema):
    what: str
    count: int


class RemovalOut(Schema):
    id: int
    symbol: str
    start: dt.date
    end: dt.date
    at: dt.datetime
    sessions: int


class CoverageOut(HoldingsOut):
    days: list[CoverageDay]
    gaps: list[GapOut]
    quality: list[CountOut]
    removals: list[RemovalOut]
    most_quotes: int
    """So many are written to one file at once."""


class TouchedOut(Schema):
    strategy: int
    name: str
    run: int
    number: int


class AnewOut(Schema):
    symbol: str
    sessions: int


class SymbolReport(Schema):
    symbol: str
    new: int
    changed: int
    same: int
    empty: int
    quotes: int
    first: dt.date | None = None
    last: dt.date | None = None
    findings: list[CountOut]
    runs: list[TouchedOut]
    anew: list[AnewOut] = []
    """Sessions whose volatilities were computed anew."""


class IntakeOut(Schema):
    id: int
    name: str
    size: int
    made_at: dt.datetime
    status: str
    doing: str
    share: float
    message: str
    elapsed: float | None
    expected: float | None
    rows: int
    adds: bool
    kind: str
    mapping: dict[str, Any]
    terms: dict[str, Any]
    rejected: list[CountOut]
    rejects: int
    symbols: list[SymbolReport]
    brought: int


class PreviewQuote(Schema):
    at: str
    symbol: str
    expiration: dt.date
    right: str
    strike: float
    bid: float | None
    ask: float | None
    spot: float | None


class PreviewRecord(Schema):
    subject: str
    date: dt.date
    at: str | None
    values: dict[str, Any]


class PreviewSymbol(Schema):
    symbol: str
    known: bool
    rows: int


class RejectOut(Schema):
    line: int
    reason: str
    text: str


class IntakePreview(Schema):
    names: list[str]
    cells: list[list[str]]
    mapping: dict[str, Any]
    guess: dict[str, Any]
    problems: list[ProblemOut]
    quotes: list[PreviewQuote]
    symbols: list[PreviewSymbol]
    rows: int
    rejected: list[CountOut]
    examples: list[RejectOut]
    parquet: bool
    records: list[PreviewRecord]
    is_calendar: bool


class PreviewIn(Asked):
    mapping: dict[str, Any] | None = None
    terms: dict[str, Any] | None = None


class StartIn(Asked):
    mapping: dict[str, Any]
    terms: dict[str, Any]
    adds: bool = False


class NamedMapping(Asked):
    name: str
    mapping: dict[str, Any]


class FileKindOut(Schema):
    kind: str
    title: str
    subject: str
    roles: dict[str, str]
    needed: list[str]


class WordsOut(Schema):
    """What mappings and terms may say."""

    files: list[FileKindOut]
    date_formats: dict[str, str]
    calendars: list[str]
    kinds: list[str]
    reasons: list[str]
    findings: list[str]


class RangeIn(Asked):
    start: dt.date
    end: dt.date

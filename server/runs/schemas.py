"""Shapes of the runs API."""

import datetime as dt
from decimal import Decimal
from typing import TYPE_CHECKING, Annotated, Any

from ninja import Schema
from pydantic import BaseModel, Field, StringConstraints, create_model

from config.schemas import Asked, Number
from observe.schemas import GlyphOut, GreeksOut, PayoffOut
from strategies.schemas import SentenceOut
from strell_core.results.figures import FIGURES


class RunRequest(Asked):
    start: dt.date
    end: dt.date
    cash: Number = Decimal(50_000)
    method: str = "blocks"
    look: bool = False
    """At sessions held back too, which is counted."""


Tag = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=30)]


class RunWords(Asked):
    """What a person says of a run; what is not given stays as it is."""

    name: Annotated[str, StringConstraints(strip_whitespace=True, max_length=80)] | None = None
    note: Annotated[str, StringConstraints(strip_whitespace=True, max_length=5000)] | None = None
    tags: list[Tag] | None = Field(None, max_length=12)
    archived: bool | None = None
    baseline: bool | None = None
    """What other runs of its strategy are compared with; one run has it."""

    def given(self) -> dict[str, Any]:
        """What is to change; a tag that is there twice is there once."""
        words = self.model_dump(exclude_none=True)
        return words | ({"tags": list(dict.fromkeys(words["tags"]))} if "tags" in words else {})


TYPES: dict[str, Any] = {
    "money": float, "share": float, "ratio": float, "count": int, "date": str, "flag": bool,
}  # fmt: skip
_FIELDS: dict[str, Any] = {
    name: (TYPES[figure.kind] | None if figure.may_lack else TYPES[figure.kind], Field(description=figure.explains))
    for name, figure in FIGURES.items()
}
if TYPE_CHECKING:

    class FiguresOut(Schema): ...
else:
    FiguresOut = create_model(
        "FiguresOut", __base__=Schema, __doc__="What a finished run amounts to; nothing where a figure has no value.", **_FIELDS
    )  # fmt: skip


class FigureOut(Schema):
    """A figure's name and definition."""

    id: str
    title: str
    kind: str
    explains: str


class RunRow(Schema):
    id: int
    number: int
    strategy: int
    strategy_name: str
    revision: int
    outdated: bool
    variant: str
    """Values it has instead of its revision's, in words, where it is a sweep's variant."""
    start: dt.date
    end: dt.date
    cash: float
    method: str
    status: str
    progress: float
    doing: str
    """What it is doing now; nothing of one that is over."""
    queued_at: dt.datetime
    started_at: dt.datetime | None
    finished_at: dt.datetime | None
    message: str
    figures: FiguresOut | None
    intervals: dict[str, list[float]]
    """Of figures that have one: where 90 of 100 records drawn again from the run's own lie."""
    cancel_requested: bool
    name: str
    """Given by a person, as the note and the tags."""
    note: str
    tags: list[str]
    archived: bool
    baseline: bool
    extended: list[dt.date]
    """Last sessions of the runs that it goes on from."""


class LatestRun(Schema):
    """A finished run to be found by its name."""

    id: int
    number: int
    strategy: int
    name: str
    """Of its strategy."""
    called: str
    """Its own name, where a person gave it one."""
    variant: str
    start: dt.date
    end: dt.date


class FoundTrade(Schema):
    """A trade of a run, by its number or the day it was entered."""

    strategy: int
    name: str
    """Of its strategy."""
    run: int
    """Its number."""
    trade: int
    opened_shown: str
    pnl: float


class CurveOut(Schema):
    dates: list[str] = []
    equity: list[float] = []
    drawdown: list[float] = []
    spot: list[float] = []
    vol: list[float | None] = []
    """At-the-money IV over 30 days in percent; nothing of a run from before it was kept."""
    holding: list[float] = []
    """What the same cash in the underlying would have come to; nothing of a run from before it was kept."""


class MonthOut(Schema):
    year: int
    month: int
    pnl: float
    share: float | None
    """Of the equity with which it began."""


# plain models: a run has thousands of them (5 000 trades: 1.2 s instead of 4)
class TradeLeg(BaseModel):
    expiration: str
    strike: float
    right: str
    contracts: int
    opened: float
    closed: float
    how: str


class TradeRow(BaseModel):
    number: int
    symbol: str = ""
    """Its underlying; nothing in a run that was stored when a strategy traded one."""
    entry: str = ""
    """Whose trade it is."""
    opened: str
    closed: str
    opened_shown: str
    closed_shown: str
    decided: str
    opened_at: int
    weekday: str
    expires: str
    dte: int
    held: int
    delta: float | None = None
    """Of a lot when it was entered, in contracts that move one for one with the underlying."""
    lots: int
    spot: float
    legs: list[TradeLeg]
    credit: float
    cost_to_close: float
    pnl: float
    costs: float
    of_premium: float | None
    rule: str
    sentence: int | None
    reason: str
    also: list[str]
    waited: str = ""
    """When its exit was decided and done and what stood in the way, where it had to wait."""


class OpenLeg(Schema):
    label: str
    contracts: int
    stale: bool
    opened: float
    mark: float


class OpenTrade(Schema):
    """A trade that is open at the run's end, at mid; ``waits``: for a settlement value that is not recorded."""

    number: int
    symbol: str = ""
    """Its underlying; nothing in a run that was stored when a strategy traded one."""
    opened_shown: str
    lots: int
    credit: float
    pnl: float
    waits: bool
    legs: list[OpenLeg]


class DecisionOut(BaseModel):
    at: int
    local: str
    kind: str
    rule: str
    trade: int | None
    text: str
    entry: str = ""
    """Whose decision it is, where the strategy has several entries; empty too where a limit said no."""


class StripOut(BaseModel):
    """What a sheet as it stands decides at every look."""

    revision: int
    start: dt.date
    end: dt.date
    cash: float
    decisions: list[DecisionOut]


class EvidenceOut(Schema):
    """How often a sentence was true, said no, was unvalued; the session in which it was last true, and how often it
    was asked since. A run that was stored before that was kept knows neither."""

    true: int
    no: int
    unvalued: int
    last: str | None = None
    since: int = 0


class PartOut(Schema):
    """Some of a run's sessions and the trades entered in them."""

    sessions: int
    cagr: float | None
    max_drawdown: float
    sharpe: float | None
    likely: list[float] | None
    """Of the Sharpe ratio."""
    trades: int
    win_rate: float | None
    expectancy: float | None


class HeldOut(Schema):
    """A look at sessions held back: which it is, and both sides of the day."""

    since: dt.date
    look: int
    before: PartOut
    after: PartOut


class RunHead(RunRow):
    """A run without what there may be thousands of."""

    held: HeldOut | None
    """Where it looks at sessions held back."""
    curve: CurveOut
    evidence: dict[str, EvidenceOut]
    manifest: dict[str, Any]
    open_trades: list[OpenTrade]
    document: dict[str, Any]
    sheet: list[SentenceOut]
    """Of the revision it ran."""


class RunOut(RunHead):
    decisions: list[DecisionOut]
    trades: list[TradeRow]


class LegSide(GreeksOut):
    bid: float | None
    ask: float | None
    iv: float | None


class LegDetail(Schema):
    label: str
    contract: str
    contracts: int
    opened: float
    closed: float
    how: str
    pnl: float
    opened_shown: str = ""
    """When it was opened and closed; nothing of a trade from before this was kept."""
    closed_shown: str = ""
    entry: LegSide
    exit: LegSide


class PathOut(Schema):
    """A trade through time: P/L at mid in money, each leg's mid in points ``(legs, n)``, nothing while it is not held."""

    at: list[int]
    local: list[str]
    spot: list[float]
    pnl: list[float]
    legs: list[list[float | None]]


class LegCauses(Schema):
    """Of a leg's P/L in money: what the underlying's price, time, volatility, interest and carry made, what is left, and
    what lay between mid and the prices it was dealt at."""

    price: float
    time: float
    volatility: float
    carry: float
    rest: float
    dealing: float


class CausesOut(Schema):
    """P/L by cause: of each leg, and the causes' sums from the entry to each point of the path; ``costs`` signed.
    ``vols``: the volatility in percent that each leg's mid implies there."""

    legs: list[LegCauses]
    costs: float
    course: dict[str, list[float]]
    vols: list[list[float | None]]


class DealtOut(Schema):
    """Contracts that were dealt, delivered or settled, bought positive, and the money they moved."""

    contract: str
    contracts: int
    price: float
    amount: float


class TradeEventOut(Schema):
    """One thing that happened to a trade."""

    at: int
    local: str
    shown: str
    kind: str
    title: str
    rule: str
    """Id of the sentence."""
    sentence: int | None
    times: int
    """How often it was said, one time after another."""
    until: str
    text: str
    dealt: list[DealtOut]
    amount: float
    """Money moved with it, costs included."""
    moves_money: bool


class TradeDetail(Schema):
    row: TradeRow
    events: list[TradeEventOut] | None
    """Its history; nothing of a trade from before this was kept."""
    legs: list[LegDetail]
    path: PathOut
    causes: CausesOut | None
    """Nothing of a trade from before this was kept."""
    payoff: PayoffOut
    glyph: GlyphOut
    decided_rule: str
    currency: str
    nearest: int


class OtherExitOut(Schema):
    """A trade as another exit would have left it: one sentence alone, none, a session earlier or later."""

    how: str
    title: str
    sentence: int | None
    closed_shown: str
    held: int
    reason: str
    pnl: float
    apart: float
    """From what it made."""
    acted: bool
    """Whether this is the sentence that left it."""


class OtherExitsOut(Schema):
    changed: bool
    """Whether the quotes are others than those of the run."""
    same: bool
    """Whether the sheet's exits alone make the same of it; if not, something else ended it."""
    exits: list[OtherExitOut]
    """None of a trade that went through a split."""


class CourseOut(Schema):
    """A run through time: months, the Sharpe ratio of so many sessions before each day, the share of so many trades
    before each that won."""

    causes: dict[str, float] | None
    """P/L of all trades by cause; nothing of a run from before this was kept."""
    months: list[MonthOut]
    sessions: int
    dates: list[str]
    sharpe: list[float | None]
    trades: int
    closed: list[str]
    won: list[float | None]

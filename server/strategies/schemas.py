"""Shapes of the strategies API."""

import datetime as dt
from typing import Annotated, Any, Literal

from ninja import Schema
from pydantic import Field, StringConstraints

from config.schemas import Asked
from observe.schemas import ExpirationOut, GlyphOut, GreeksOut, PayoffOut


class TokenOut(Schema):
    text: str
    path: str
    family: str
    """What may stand in its place, by the name of a family of the declarations; empty: it is the sentence's own."""
    of: str
    piece: str
    """Where stands what was added to the sentence and can be left out again, this with it."""


class SentenceOut(Schema):
    id: str
    number: int
    section: str
    part: str
    path: str
    """Where its list stands in the document."""
    entry: str
    rule: str
    index: int
    tokens: list[TokenOut]
    text: str
    off: bool
    note: str
    remark: str
    """What stands in the way of it; nothing: nothing does."""
    acts: str
    """When the time that it names acts on the recorded snapshots, where that is another."""


class AdditionOut(Schema):
    """A sentence that may be added."""

    path: str
    """The list of the document that it goes to."""
    part: str
    section: str
    entry: str
    rule: str
    measure: str
    """With which a general condition begins; nothing: the sentence as it is."""
    item: dict[str, Any]
    """What is put at the end of that list."""
    text: str
    """How it reads there."""
    bar: str
    """Why it cannot be added now; nothing where it can."""


class BlockOut(Schema):
    """A section of the sheet, of an entry where there are several."""

    section: str
    title: str
    entry: str
    lists: dict[str, str]
    """Where in the document a sentence is added to it, by the part it belongs to."""
    underlying: str
    """Which its entry trades, where the strategy has several; nothing in a section that is no entry's."""


class TrackOut(Schema):
    runs: int
    outdated: int
    replays: int
    deployments: int
    armed: bool
    paper_sessions: int
    last_run: int | None
    last_status: str | None
    mar: float | None
    max_drawdown: float | None
    win_rate: float | None
    trades: int | None
    spark: list[float]
    latest_note: str


class StrategyRow(Schema):
    id: int
    name: str
    underlying: str
    """The one whose snapshots are the clock."""
    underlyings: list[str]
    """All of them, that one first."""
    revision: int
    sentences: int
    glyph: GlyphOut
    track: TrackOut


class StrategyOut(StrategyRow):
    held_from: dt.date | None
    """First session held back from backtests and sweeps."""
    looks: int
    """Runs and sweeps that have seen sessions held back."""
    digest: str
    document: dict[str, Any]
    sheet: list[SentenceOut]
    blocks: list[BlockOut]


class RevisionOut(Schema):
    number: int
    created_at: dt.datetime
    change: str
    digest: str
    note: str
    """What a person says of it."""


class RevisionStep(RevisionOut):
    """A revision as a step of a run of edits."""

    ends: int
    """Number of the last revision of its run."""
    in_all: str
    """Of the last one of a run of several: what the run changed."""


class RevisionNote(Asked):
    note: Annotated[str, StringConstraints(strip_whitespace=True, max_length=500)]


class DifferenceRow(Schema):
    """A sentence in which two sheets differ; nothing where one has none there."""

    section: str
    texts: list[str | None]


class Begun(Asked):
    """A strategy of one's own from a starter."""

    starter: str
    name: str
    underlying: str


class NewStrategy(Asked):
    document: dict[str, Any] | None = None
    text: str | None = None
    begin: Begun | None = None


class ToldOut(Schema):
    number: int
    text: str


class StarterOut(Schema):
    id: str
    family: str
    title: str
    lives: str
    """What it earns from."""
    hurts: str
    needs_units: bool
    sentences: list[ToldOut]
    """Its legs and exits, as they read."""


class StructureLegIn(Asked):
    contract: str
    contracts: int


class FromLegs(Asked):
    """A structure at an instant of a market, of which a strategy is to be made."""

    symbol: str
    at: str | None = None
    name: str | None = None
    legs: list[StructureLegIn] = Field(min_length=1, max_length=8)


class MadeFromLegs(Schema):
    id: int
    name: str
    notes: list[str]
    """Where the rules pick another strike at that instant than was meant."""


class Looked(Asked):
    """At which instant, and at which entry; the latest decision time and the first unless they are named."""

    at: str | None = None
    entry: str | None = None


class Change(Asked):
    based_on: int
    document: dict[str, Any] | None = None
    text: str | None = None
    preview: Looked | None = None
    """What the rules as changed would do is answered as well."""


class TextOut(Schema):
    text: str


class TextIn(Asked):
    text: str


class CheckedText(Schema):
    document: dict[str, Any]
    sheet: list[SentenceOut]


class ParamOut(Schema):
    name: str
    kind: str
    editor: Literal["number", "choice", "choices", "time", "text", "value", "reference", "times", "within"]
    """With what it is changed."""
    label: str
    default: Any
    minimum: float | None
    maximum: float | None
    step: float
    unit: str
    choices: dict[str, str]
    optional: bool
    begins: Any
    """What an optional value is added to a sentence with; nothing: it is not added that way."""
    family: str
    """Of a value: what it may be, where that is not what the value it stands in may be."""


class DeclarationOut(Schema):
    id: str
    section: str
    title: str
    sentence: str
    explains: str
    example: str
    words: list[str]
    price_basis: str
    warm_up: str
    once: bool
    mirrors: bool
    params: list[ParamOut]


class DeclaredOut(DeclarationOut):
    part: str
    """The list of a document it stands in."""


class SectionOut(Schema):
    id: str
    title: str
    sentences: list[DeclaredOut]


class FamilyOut(Schema):
    """What may stand in one place."""

    key: str
    """Which of a mapping's values says which of them stands there."""
    items: list[DeclarationOut]


class DeclarationsOut(Schema):
    sections: list[SectionOut]
    families: dict[str, FamilyOut]


class VerdictOut(Schema):
    id: str
    number: int
    truth: str
    text: str
    sentence: str


class CandidateOut(Schema):
    strike: float
    delta: float | None
    bid: float
    ask: float
    iv: float | None
    open_interest: int
    picked: bool
    rank: int


class ChoiceOut(Schema):
    """How one leg was decided: expirations that were allowed, strikes that were looked at."""

    id: str
    message: str
    expirations: list[ExpirationOut]
    candidates: list[CandidateOut]
    right: str | None
    label: str | None


class PickedLegOut(GreeksOut):
    id: str
    contract: str
    label: str
    contracts: int
    price: float
    fillable: bool
    iv: float | None


class StructureOut(Schema):
    lots: int
    legs: list[PickedLegOut]
    credit: float
    greeks: GreeksOut
    payoff: PayoffOut
    glyph: GlyphOut
    currency: str


class NeighboursOut(Schema):
    before: str | None
    after: str | None


class PreviewEntryOut(Schema):
    """An entry at an instant."""

    id: str
    due: bool
    enters: bool
    said_no: str | None


class PreviewOut(Schema):
    entry: str
    """Which one is shown."""
    entries: list[PreviewEntryOut]
    at: int
    local: str
    shown: str
    asked: str | None
    zone: str
    symbol: str
    """The underlying that the entry trades."""
    spot: float
    status: str | None
    status_text: str
    enters: bool
    said_no: str | None
    last_true: str | None
    """When the condition that says no was last true, in words; nothing where it is no condition."""
    neighbours: NeighboursOut
    verdicts: list[VerdictOut]
    legs: list[ChoiceOut]
    single: bool
    structure: StructureOut | None


class RevisedOut(StrategyOut):
    preview: PreviewOut | None
    """Where it was asked for and there is one; asking for it alone says why there is none."""

"""Shapes of the sweeps API."""

import datetime as dt
from decimal import Decimal
from typing import Any

from ninja import Schema
from pydantic import BaseModel, Field

from config.schemas import Asked, Number
from runs.schemas import FigureOut


class HoldBack(Asked):
    since: dt.date | None
    """First session held back; nothing: none."""


class HeldBackOut(Schema):
    held_from: dt.date | None
    looks: int
    """Runs and sweeps that have seen these sessions."""


class DialIn(Asked):
    """Values for one place of the sheet, or for several together: a list with commas, or a range."""

    paths: list[str] = Field(min_length=1, max_length=8)
    text: str = Field(max_length=2000)


class SweepRequest(Asked):
    start: dt.date
    end: dt.date
    cash: Number = Decimal(50_000)
    dials: list[DialIn] = Field(max_length=8)
    drawn: int | None = None
    """So many variants drawn by chance; nothing: all."""


class PlaceOut(Schema):
    """A value of the sheet that can be varied."""

    path: str
    sentence: int | None
    label: str
    kind: str
    value: Any
    text: str
    unit: str
    suggested: str
    """Values to begin with, as they are typed."""


class DialOut(Schema):
    label: str
    sentences: list[int]
    paths: list[str]
    taken: list[Any]
    values: list[str]
    """How those that were taken read."""
    now: int | None
    """Which of them the sheet has."""
    steps: bool
    """Whether its values have neighbours: numbers and times."""


class SweepRow(Schema):
    id: int
    number: int
    strategy: int
    revision: int
    start: dt.date
    end: dt.date
    cash: float
    status: str
    drawn: int | None
    queued_at: dt.datetime
    finished_at: dt.datetime | None
    cells_count: int
    cells_done: int
    dials: list[DialOut]


class VariantOut(BaseModel):
    place: int
    at: list[int]
    done: bool
    problem: str
    figures: dict[str, Any] | None
    near: dict[str, float | None]
    """Mean of its figure and those of its neighbours."""


class AlikeOut(Schema):
    """Of variants that move together: how often the best without an edge is as good, and so many independent ones they are worth."""

    chance: float
    independent: float


class SweepLuck(Schema):
    """Of the variant with the best Sharpe ratio, and of choosing it."""

    variants: int
    sharpe: float
    best_by_chance: float
    deflated: float | None
    chance: float | None
    """Counted as though each were another than all others."""
    alike: AlikeOut | None
    overfit: float | None
    splits: int | None


class WalkStepOut(Schema):
    """A choice: made on the sessions before ``test_from``, judged to ``test_to``; Sharpe ratios of both."""

    train_from: dt.date
    test_from: dt.date
    test_to: dt.date
    place: int | None
    """The variant; nothing where none moved."""
    before: float | None
    after: float | None


class WalkOut(Schema):
    """A sweep's variants chosen on some sessions and judged on those that followed."""

    sharpe: float | None
    """Of what was chosen, where it was judged."""
    before: float | None
    """Mean of the ratios at which it was chosen."""
    middle: float | None
    """Median of all variants over the judged sessions."""
    best: float | None
    """The best of them, known with hindsight only."""
    beaten: float | None
    """Share of variants with a lower ratio than what was chosen."""
    dates: list[dt.date]
    equity: list[float]
    """Of what was chosen, from 100."""
    beside: list[float] | None
    """Of the variant with the sheet's own values, from 100."""
    steps: list[WalkStepOut]


class SweepOut(SweepRow):
    figures: list[FigureOut]
    best_by: list[str]
    cells: list[VariantOut]
    luck: SweepLuck | None

"""Shapes of what is asked of finished runs: slices, luck, several side by side."""

import datetime as dt

from ninja import Schema

from runs.schemas import CurveOut, RunRow
from strategies.schemas import DifferenceRow


class MeasureName(Schema):
    id: str
    title: str
    explains: str


class CellOut(Schema):
    """One value or range: how often it won, what a trade made with its 90 % range, and whether that differs from the
    others by more than chance."""

    key: str
    title: str
    low: float | None
    high: float | None
    count: int
    win_rate: float | None
    mean: float | None
    likely: list[float] | None
    total: float
    apart: bool
    chosen: bool


class ColumnOut(Schema):
    id: str
    title: str
    measure: bool
    """Whether it is a measure of the market, which a condition can ask for."""
    cells: list[CellOut]


class ChosenOut(Schema):
    count: int
    win_rate: float | None
    mean: float | None
    likely: list[float] | None
    total: float
    worst: float | None
    profit_factor: float | None


class SlicesOut(Schema):
    columns: list[ColumnOut]
    trades: list[int]
    """Numbers of the trades that the choices leave."""
    chosen: ChosenOut


class TradeOrderOut(Schema):
    """Drawdowns of other orders of the same trades, and bands of trades drawn again, in money."""

    happened: float
    middle: float
    deep: float
    deeper: float
    places: list[int]
    bands: list[list[float]]
    made: list[float]


class BestOut(Schema):
    total: float
    without_best: float
    few: int
    without_few: float


class LuckOut(Schema):
    variants: int
    sharpe: float | None
    best_by_chance: float
    deflated: float | None
    chance: float | None
    order: TradeOrderOut | None
    best: BestOut | None


class ComparedRun(RunRow):
    underlying: str
    curve: CurveOut


class DayApart(Schema):
    """A day of entries: what its trades made here and in the first run."""

    date: dt.date
    one: float | None
    other: float | None
    apart: float


class DifferenceOut(Schema):
    """A run against the first: daily returns of the sessions in common, and trades paired by the day of entry."""

    run: int
    sessions: int
    yearly: float | None
    likely: list[float] | None
    chance: float | None
    both: int
    both_apart: float
    only: int
    only_made: float
    base_only: int
    base_only_made: float
    days: list[DayApart]


class CompareOut(Schema):
    runs: list[ComparedRun]
    sentences: list[DifferenceRow]
    """Those in which the rules differ, as each run's own sheet says them."""
    differences: list[DifferenceOut]

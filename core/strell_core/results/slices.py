"""Trades told apart by what was known of them: each value or range with how often it won and what a trade made."""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.special import stdtr, stdtrit

Floats = npt.NDArray[np.float64]
Bools = npt.NDArray[np.bool_]
Ints = npt.NDArray[np.int64]
PIECES = 5
"""Ranges a number is cut into, by how many trades they hold."""
LIKELY = 0.90
APART = 0.05
LEAST = 5
"""Fewer trades say nothing of their mean."""
NONE = "none"
"""Key of trades without a value."""


Told = tuple[str, str, float | None, float | None]
"""A key with its title, its lowest and the next one's lowest value."""


class Keys(NamedTuple):
    """The keys of a column in order, and whose a trade is: places in them ``(n,)``, -1 of none."""

    told: list[Told]
    places: Ints


@dataclass(frozen=True)
class Names:
    """One of a few values a trade: ``values`` are keys, ``titles`` says how each is called, in the order they are told."""

    id: str
    title: str
    values: Sequence[str]
    titles: Mapping[str, str]

    @cached_property
    def keys(self) -> Keys:
        found = set(self.values)
        told: list[Told] = [(key, title, None, None) for key, title in self.titles.items() if key in found]
        places = {key: place for place, (key, _, _, _) in enumerate(told)}
        return Keys(told, np.array([places.get(value, -1) for value in self.values], np.int64))


@dataclass(frozen=True)
class Numbers:
    """A number a trade, NaN where it has none, cut into ranges at the trades' own quantiles, rounded to ``step``."""

    id: str
    title: str
    values: Floats
    unit: str = ""
    step: float = 1.0

    @cached_property
    def keys(self) -> Keys:
        cuts = edges(self.values, self.step)
        bounds: list[tuple[float | None, float | None]] = list(zip([None, *cuts], [*cuts, None], strict=True))
        unknown = np.isnan(self.values)
        place = np.where(unknown, len(bounds), np.searchsorted(np.array(cuts), self.values, side="right"))
        numbers = self.values[~unknown]
        apart = self.step if np.array_equal(numbers, np.round(numbers / self.step) * self.step) else 0.0
        every = [(str(n), _range(low, high, apart, self.unit), low, high) for n, (low, high) in enumerate(bounds)]
        held, places = np.unique(place, return_inverse=True)
        told: list[Told] = [*every, (NONE, "without a value", None, None)]
        return Keys([told[n] for n in held.tolist()], places.astype(np.int64))


Column = Names | Numbers


@dataclass(frozen=True)
class Cell:
    """One value or range of a column, over the trades that the other columns' choices leave."""

    key: str
    title: str
    low: float | None
    """Lowest value of a range, included; ``None`` of a name, or where it is open."""
    high: float | None
    """Next range's lowest value."""
    count: int
    win_rate: float | None
    mean: float | None
    likely: tuple[float, float] | None
    """90 % range of the mean, by Student's t; ``None`` of fewer than five trades."""
    total: float
    apart: bool
    """Whether its mean differs from that of all others by more than chance: Welch's t at 5 % shared by the cells of
    its column (Bonferroni)."""


@dataclass(frozen=True)
class Sliced:
    cells: Mapping[str, list[Cell]]
    """By column."""
    chosen: Bools
    """Trades that all choices leave, ``(n,)``."""


def edges(values: Floats, step: float, pieces: int = PIECES) -> list[float]:
    """Inner edges of ranges with about as many values each, rounded to ``step`` and to what the values' own spread
    needs; fewer where values are the same."""
    known = values[~np.isnan(values)]
    if not len(known):
        return []
    spread = float(np.percentile(known, 90) - np.percentile(known, 10)) or float(np.ptp(known))
    coarse = max(step, 10.0 ** math.floor(math.log10(spread / 20))) if spread > 0 else step
    cuts = np.percentile(known, np.linspace(0, 100, pieces + 1)[1:-1])
    rounded = np.unique(np.round(np.round(cuts / coarse) * coarse, 10))
    low = float(known.min())
    return [float(cut) for cut in rounded if cut > low]


def _range(low: float | None, high: float | None, apart: float, unit: str) -> str:
    """In words; ``apart``: how far values are from each other where they are counted, so that ends are what is there."""
    after = f" {unit}" if unit else ""
    if low is None and high is None:
        return f"any{after}"
    if high is None:
        return f"{low:g}{after} and more"
    if low is None:
        return f"up to {high - apart:g}{after}" if apart else f"below {high:g}{after}"
    return f"{low:g}{after}" if apart and high - apart == low else f"{low:g} to {high - apart:g}{after}"


def sliced(columns: Sequence[Column], pnl: Floats, choices: Mapping[str, Collection[str]]) -> Sliced:
    """Cells of every column, each over the trades that the choices in *other* columns leave, so that a choice can be
    widened where it was made. ``pnl`` is net money a trade ``(n,)``; choices of unknown columns leave nothing out."""
    keyed = {column.id: column.keys for column in columns}
    inside = {
        name: np.isin(keys.places, [n for n, (key, *_) in enumerate(keys.told) if key in choices[name]])
        for name, keys in keyed.items()
        if choices.get(name)
    }
    everything = np.ones(len(pnl), np.bool_)
    chosen = np.logical_and.reduce([everything, *inside.values()])
    cells = {}
    for name, keys in keyed.items():
        others = np.logical_and.reduce([everything, *(mask for other, mask in inside.items() if other != name)])
        left, places = pnl[others], keys.places[others]
        cells[name] = [
            _cell(key, title, low, high, left[places == n], left[places != n], len(keys.told))
            for n, (key, title, low, high) in enumerate(keys.told)
        ]
    return Sliced(cells, chosen)


def _cell(
    key: str, title: str, low: float | None, high: float | None, here: Floats, elsewhere: Floats, cells: int
) -> Cell:
    count = len(here)
    if not count:
        return Cell(key, title, low, high, 0, None, None, None, 0.0, False)
    return Cell(
        key, title, low, high, count, float((here > 0).mean()), float(here.mean()), mean_range(here), float(here.sum()),
        _apart(here, elsewhere, cells),
    )  # fmt: skip


def mean_range(values: Floats) -> tuple[float, float] | None:
    """90 % range of the mean by Student's t; ``None`` of fewer than five values."""
    count = len(values)
    if count < LEAST:
        return None
    reach = float(stdtrit(count - 1, 0.5 + LIKELY / 2)) * float(values.std(ddof=1)) / math.sqrt(count)
    return float(values.mean()) - reach, float(values.mean()) + reach


def _apart(here: Floats, elsewhere: Floats, cells: int) -> bool:
    """Welch's test of two means, two-sided, at ``APART`` shared by ``cells``."""
    if min(len(here), len(elsewhere)) < LEAST:
        return False
    a, b = float(here.var(ddof=1)) / len(here), float(elsewhere.var(ddof=1)) / len(elsewhere)
    if a + b <= 0:
        return False
    t = abs(float(here.mean()) - float(elsewhere.mean())) / math.sqrt(a + b)
    freedom = (a + b) ** 2 / (a**2 / (len(here) - 1) + b**2 / (len(elsewhere) - 1))
    return bool(2.0 * stdtr(freedom, -t) < APART / cells)

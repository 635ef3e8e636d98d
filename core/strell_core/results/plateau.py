"""How good the neighbours of a variant are: a peak that stands alone is luck."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np

from strell_core.results.metrics import Floats


def neighbourhoods(cells: Sequence[Sequence[int]], values: Floats, steps: Sequence[bool]) -> Floats:
    """Mean of ``values`` (n, figures) over each cell and those at most one step away in every dial that has ``steps``
    (numbers and times; a choice has no neighbours), same shape; NaN where nothing there has a value. A cell at an edge
    has fewer."""
    there = {tuple(cell): place for place, cell in enumerate(cells)}
    ways = list(itertools.product(*((-1, 0, 1) if has_steps else (0,) for has_steps in steps)))
    of, near = [], []
    for place, cell in enumerate(cells):
        for way in ways:
            found = there.get(tuple(bit + by for bit, by in zip(cell, way, strict=True)))
            if found is not None:
                of.append(place)
                near.append(found)
    seen = values[near]
    known = ~np.isnan(seen)
    total, count = np.zeros_like(values), np.zeros_like(values)
    np.add.at(total, of, np.where(known, seen, 0.0))
    np.add.at(count, of, known)
    return np.divide(total, count, out=np.full_like(values, np.nan), where=count > 0)

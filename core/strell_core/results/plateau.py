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
    at = np.asarray(cells, np.int64).reshape(len(cells), len(steps))
    # one number a place, with room for one step off either end
    sizes = at.max(axis=0, initial=0) + 3
    strides = np.concatenate([np.cumprod(sizes[::-1])[::-1][1:], [1]])
    keys = (at + 1) @ strides
    order = np.argsort(keys)
    total, count = np.zeros_like(values), np.zeros_like(values)
    for way in itertools.product(*((-1, 0, 1) if has_steps else (0,) for has_steps in steps)):
        wanted = keys + np.asarray(way, np.int64) @ strides
        near = order[np.minimum(np.searchsorted(keys, wanted, sorter=order), len(keys) - 1)]
        seen = np.where((keys[near] == wanted)[:, None], values[near], np.nan)
        known = ~np.isnan(seen)
        total += np.where(known, seen, 0.0)
        count += known
    return np.divide(total, count, out=np.full_like(values, np.nan), where=count > 0)

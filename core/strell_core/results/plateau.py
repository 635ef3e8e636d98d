"""How good the neighbours of a variant are: a peak that stands alone is luck."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from strell_core.results.metrics import Floats


def neighbourhoods(cells: Sequence[Sequence[int]], values: Floats, steps: Sequence[bool]) -> Floats:
    """Mean of ``values`` (n,) over each cell and those at most one step away in every dial that has ``steps`` (numbers
    and times; a choice has no neighbours); NaN where nothing there has a value. A cell at an edge has fewer."""
    there = {tuple(cell): place for place, cell in enumerate(cells)}
    out = np.full(len(values), np.nan)
    for place, cell in enumerate(cells):
        near = [()]
        for bit, has_steps in zip(cell, steps, strict=True):
            near = [(*before, bit + by) for before in near for by in ((-1, 0, 1) if has_steps else (0,))]
        found = values[[there[item] for item in near if item in there]]
        known = found[~np.isnan(found)]
        if len(known):
            out[place] = known.mean()
    return out

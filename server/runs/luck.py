"""What chance alone would give of a run."""

from __future__ import annotations

from typing import Any

import numpy as np

from config.errors import Refused
from runs.models import Run
from runs.slices import facts
from strell_core.results import luck, metrics


def luck_of(run: Run) -> dict[str, Any]:
    """How much of a finished run its search, the order of its trades and its best trades explain."""
    if run.status != Run.Status.DONE:
        raise Refused(f"Run {run.number} has no result to judge: it is {run.status}.")
    ratios = list(run.strategy.variants.exclude(digest=run.digest).values_list("sharpe", flat=True))
    own = run.figures.get("sharpe")
    tried = [ratio for ratio in [own, *ratios] if ratio is not None]
    daily = metrics.returns(np.array(run.curve["equity"], np.float64), float(run.cash))
    pnl = facts(run).pnl.tolist()
    searched, order, best = luck.searched(daily, tried), luck.order(pnl, run.seed), luck.best(pnl)
    return {
        **searched._asdict(), "sharpe": own,
        "order": None if order is None else {
            "happened": order.happened, "middle": order.middle, "deep": order.deep, "deeper": order.deeper,
            "places": order.places.tolist(), "bands": order.bands.round(2).tolist(),
            "made": np.cumsum(pnl)[order.places - 1].round(2).tolist(),
        },
        "best": None if best is None else best._asdict(),
    }  # fmt: skip

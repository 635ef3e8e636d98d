"""First computation before the first user waits for it: compiled kernels loaded, cubes mapped."""

from __future__ import annotations

from decimal import Decimal

from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks
from strell_core.market.timeline import Timeline
from strell_core.strategy.document import parse

_SAMPLE = {
    "name": "warm-up", "underlying": "MK30",
    "enter": [{"rule": "decision_times"}],
    "legs": [
        {"rule": "leg", "strike": {"pick": "nearest_delta"}, "expiry": {"pick": "nearest_days"}},
        {"rule": "leg", "right": "call", "strike": {"pick": "nearest_delta"}, "expiry": {"pick": "same_expiration"}},
    ],
    "size": [{"rule": "fixed_lots"}], "leave": [{"rule": "credit_target"}, {"rule": "premium_stop"}],
}  # fmt: skip


def warm_up(history: Timeline) -> None:
    plan = make_plan(parse({**_SAMPLE, "underlying": history.underlying.symbol}), history)
    end = int(history.first[min(len(history.dates), 40)])
    run_blocks(plan, history, 0, end, Decimal(50_000))

"""Fifty strategies nobody would write by hand, the same every time: far wings, ratios, calendars, odd exits."""

from __future__ import annotations

import random
from typing import Any

from tests.engine.variations import Raw, days, delta, document, leg

COUNT = 50
WEEK = ("mon", "tue", "wed", "thu", "fri")


def _strike(rng: random.Random, far: bool) -> Raw:
    if far:
        return rng.choice((delta(0.02), delta(0.01), {"pick": "percent_from_spot", "percent": 8.0}))
    return rng.choice(
        (
            delta(rng.choice((0.12, 0.2, 0.35, 0.5))), {"pick": "percent_from_spot", "percent": rng.choice((0.0, 1.5, 3.0))},
            {"pick": "nearest_premium", "points": rng.choice((4.0, 12.0))}, {"pick": "strikes_from_money", "strikes": rng.choice((0, 2))},
        )
    )  # fmt: skip


def _legs(rng: random.Random) -> list[Raw]:
    near = rng.choice((days(7, 3, 12), days(14, 7, 21), days(30, 21, 40)))
    right = rng.choice(("put", "call"))
    other = "call" if right == "put" else "put"
    shape = rng.choice(("wing", "ratio", "calendar", "both", "condor"))
    strike = _strike(rng, False)
    if shape == "wing":
        return [leg("sell", right, strike, near), leg("buy", right, _strike(rng, True))]
    if shape == "ratio":
        return [leg("buy", right, strike, near), leg("sell", right, delta(0.1), ratio=rng.choice((1, 2))), leg("buy", right, _strike(rng, True))]  # fmt: skip
    if shape == "calendar":
        later = {"pick": "days_after", "days": rng.choice((7, 14, 28))}
        return [leg("sell", right, strike, near), leg("buy", right, strike, later)]
    if shape == "both":
        return [leg("sell", right, strike, near), leg("sell", other, _strike(rng, False))]
    return [leg("sell", right, delta(0.16), near), leg("buy", right, _strike(rng, True)),
            leg("sell", other, delta(0.16)), leg("buy", other, _strike(rng, True))]  # fmt: skip


def _leave(rng: random.Random) -> list[Raw]:
    every = [
        {"rule": "credit_target", "percent": rng.choice((25, 50, 80))}, {"rule": "debit_target", "percent": rng.choice((10, 30))},
        {"rule": "premium_stop", "percent": rng.choice((60, 150, 250))}, {"rule": "trailing_profit", "start": 20, "back": 15},
        {"rule": "strike_fence", "call": rng.choice((-0.3, 0.5)), "put": 0.7},
        {"rule": "days_held", "days": rng.choice((1, 4, 9)), "time": rng.choice(("10:00", "15:45", "17:25"))},
    ]  # fmt: skip
    last = {"rule": "before_expiration", "days": rng.choice((0, 1, 5)), "time": rng.choice(("09:05", "15:45"))}
    return [*rng.sample(every, rng.randint(1, 3)), *([last] if rng.random() < 0.7 else [])]


def fifty() -> dict[str, Any]:
    out = {}
    for seed in range(COUNT):
        rng = random.Random(seed)
        legs, leave = _legs(rng), _leave(rng)
        orders: list[Raw] = [
            {"rule": "fill_model", "share": rng.choice((0, 40, 100))},
            {"rule": "single_snapshots", "policy": rng.choice(("decide", "decide", "skip"))},
        ]
        checks = rng.choice(([], [], [{"rule": "net_premium", "kind": "credit", "points": 2.0}]))
        out[f"generated {seed}"] = document(
            f"generated {seed}", [*legs, *checks], leave, orders=orders, weekdays=tuple(rng.sample(WEEK, rng.randint(1, 4))),
            time=rng.choice(("09:30", "12:00", "15:45", "17:25")), lots=rng.choice((1, 1, 2)), limit=rng.choice((1, 2)),
        )  # fmt: skip
    return out

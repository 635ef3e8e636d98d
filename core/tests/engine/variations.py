"""Variations of the demo's strategies that between them use every pick, condition and exit."""

from __future__ import annotations

from typing import Any

from strell_core.strategy.document import normalise

Raw = dict[str, Any]


def leg(side: str, right: str, strike: Raw, expiry: Raw | None = None, ratio: int = 1) -> Raw:
    return {
        "rule": "leg", "side": side, "right": right, "ratio": ratio, "strike": strike,
        "expiry": expiry or {"pick": "same_expiration"},
    }  # fmt: skip


def days(target: int, low: int, high: int) -> Raw:
    return {"pick": "nearest_days", "days": target, "from": low, "to": high}


def delta(value: float) -> Raw:
    return {"pick": "nearest_delta", "delta": value}


def document(
    name: str, legs: list[Raw], leave: list[Raw], enter: list[Raw] | None = None, orders: list[Raw] | None = None,
    weekdays: tuple[str, ...] = ("mon", "wed"), time: str = "15:45", lots: int = 1, limit: int = 1,
) -> Raw:  # fmt: skip
    times = {"rule": "decision_times", "weekdays": list(weekdays), "time": time}
    return normalise(
        {
            "name": name, "underlying": "MK30",
            "enter": [times, {"rule": "open_limit", "limit": limit}, *(enter or [])], "legs": legs,
            "size": [{"rule": "fixed_lots", "lots": lots}], "leave": leave, "orders": orders or [],
        }
    )  # fmt: skip


STRANGLE = [leg("sell", "call", delta(0.20), days(10, 5, 18)), leg("sell", "put", delta(0.20))]
PERCENT_EXITS = [
    {"rule": "credit_target", "percent": 50},
    {"rule": "premium_stop", "percent": 150},
    {"rule": "before_expiration", "days": 1, "time": "15:45"},
]
EVERY_DAY = ("mon", "tue", "wed", "thu", "fri")


def variations() -> dict[str, Raw]:
    return {
        "strangle": document("strangle", STRANGLE, PERCENT_EXITS),
        "condor with fences": document(
            "condor",
            [
                leg("sell", "put", delta(0.16), days(30, 21, 35)), leg("buy", "put", delta(0.06)),
                leg("sell", "call", delta(0.16)), leg("buy", "call", delta(0.05)),
                {"rule": "side_balance", "least": 0.3}, {"rule": "spread_width", "percent": 12},
            ],
            [
                {"rule": "credit_target", "percent": 60}, {"rule": "strike_fence", "call": 0.5, "put": -0.3},
                {"rule": "before_expiration", "days": 7, "time": "10:00"},
            ],
            [{"rule": "when_realised_volatility", "sessions": 20, "comparison": "below", "level": 22}],
            [{"rule": "fill_model", "share": 80}], EVERY_DAY, "10:00", limit=3,
        ),
        "calendar whose near leg settles": document(
            "calendar",
            [
                leg("sell", "put", delta(0.45), days(9, 6, 14)),
                leg("buy", "put", delta(0.45), {"pick": "days_after", "days": 14}),
            ],
            [
                {"rule": "debit_target", "percent": 30}, {"rule": "premium_stop", "percent": 60},
                {"rule": "days_held", "days": 15, "time": "12:00"},
            ],
            orders=[{"rule": "fill_model", "share": 50}, {"rule": "doubtful_marks", "percent": 80, "last": "act"}],
            limit=2,
        ),
        "closing sessions skipped": document(
            "skipping", [leg("sell", "put", delta(0.25), days(7, 2, 12))], PERCENT_EXITS,
            orders=[{"rule": "single_snapshots", "policy": "skip"}], weekdays=EVERY_DAY, time="09:31",
        ),
        "uneven ratio with a trailing stop": document(
            "ratio",
            [leg("buy", "put", delta(0.40), days(21, 14, 30)), leg("sell", "put", delta(0.20), ratio=2)],
            [
                {"rule": "trailing_profit", "start": 40, "back": 30}, {"rule": "premium_stop", "percent": 300},
                {"rule": "before_expiration", "days": 2, "time": "16:00"},
            ],
            orders=[{"rule": "commission", "per_contract": 0.35, "per_order": 1.25}], lots=3,
        ),
        "straddle held by days": document(
            "straddle",
            [
                leg("sell", "call", {"pick": "strikes_from_money", "strikes": 0}, days(14, 8, 21)),
                leg("sell", "put", {"pick": "strikes_from_money", "strikes": 1}),
            ],
            [{"rule": "premium_stop", "percent": 40}, {"rule": "days_held", "days": 3, "time": "11:05"}],
            [{"rule": "when_atm_iv", "comparison": "above", "level": 12}], time="17:25", weekdays=EVERY_DAY, limit=2,
        ),
        "held to settlement": document(
            "settlement",
            [
                leg("sell", "call", {"pick": "percent_from_spot", "percent": 2.0}, days(5, 2, 9)),
                leg("sell", "put", {"pick": "percent_from_spot", "percent": 2.5}),
            ],
            [{"rule": "strike_fence", "call": 3.0, "put": 3.0}], weekdays=("tue", "thu"), time="17:30", limit=4,
        ),
        "by premium at mid": document(
            "premium",
            [
                leg("sell", "put", {"pick": "nearest_premium", "points": 12.0}, days(12, 7, 16)),
                leg("buy", "put", {"pick": "nearest_premium", "points": 4.0}),
                {"rule": "net_premium", "kind": "credit", "points": 7.5},
            ],
            [{"rule": "credit_target", "percent": 35}, {"rule": "before_expiration", "days": 0, "time": "17:00"}],
            [{"rule": "when_iv_rank", "sessions": 60, "comparison": "above", "level": 20}],
            [{"rule": "fill_model", "share": 0}, {"rule": "commission", "per_contract": 0, "per_order": 0}],
            weekdays=EVERY_DAY, time="12:02", limit=5,
        ),
        "long strangle when oversold": document(
            "long", [leg("buy", "call", delta(0.30), days(20, 10, 30)), leg("buy", "put", delta(0.10))],
            [
                {"rule": "debit_target", "percent": 25}, {"rule": "premium_stop", "percent": 50},
                {"rule": "trailing_profit", "start": 10, "back": 15},
            ],
            [
                {"rule": "when_rsi", "sessions": 14, "comparison": "below", "level": 55},
                {"rule": "when_average_gap", "sessions": 30, "comparison": "above", "level": -4},
            ],
            weekdays=EVERY_DAY, limit=3,
        ),
        "uneven butterfly": document(
            "butterfly",
            [
                leg("buy", "put", {"pick": "strikes_from_money", "strikes": -1}, days(16, 9, 24)),
                leg("sell", "put", delta(0.30), ratio=2), leg("buy", "put", delta(0.12)),
                {"rule": "spread_width", "percent": 15},
            ],
            [
                {"rule": "trailing_profit", "start": 25, "back": 20}, {"rule": "premium_stop", "percent": 120},
                {"rule": "before_expiration", "days": 3, "time": "11:30"},
            ],
            orders=[{"rule": "fill_model", "share": 60}, {"rule": "commission", "per_contract": 0.8, "per_order": 0}],
            weekdays=("mon", "tue", "thu"), time="13:17", limit=2,
        ),
        "ladder of puts": document(
            "ladder", [leg("sell", "put", {"pick": "percent_from_spot", "percent": 3.0}, days(6, 3, 8))],
            [{"rule": "credit_target", "percent": 80}, {"rule": "days_held", "days": 4, "time": "17:20"}],
            [{"rule": "when_atm_iv", "comparison": "above", "level": 8}], weekdays=EVERY_DAY, time="09:45", limit=5, lots=2,
        ),
        "two entries": normalise(
            {
                "name": "two", "underlyings": ["MK30"],
                "entries": [
                    {
                        "id": "morning",
                        "when": [{"rule": "decision_times", "weekdays": list(EVERY_DAY), "time": "10:02"}],
                        "conditions": [{"rule": "open_limit", "limit": 2}], "legs": STRANGLE,
                        "size": [{"rule": "fixed_lots", "lots": 1}],
                    },
                    {
                        "id": "afternoon",
                        "when": [{"rule": "decision_times", "weekdays": ["tue", "thu"], "time": "16:40"}],
                        "conditions": [{"rule": "open_limit", "limit": 3}],
                        "legs": [leg("buy", "call", delta(0.35), days(12, 6, 20)), leg("sell", "call", delta(0.15))],
                        "size": [{"rule": "fixed_lots", "lots": 2}],
                    },
                ],
                "leave": [
                    {"rule": "premium_stop", "percent": 70}, {"rule": "before_expiration", "days": 2, "time": "15:00"},
                ],
            }
        ),
        "strangle of an equity that earns interest": normalise(
            {
                **document("earning", STRANGLE, PERCENT_EXITS), "limits": [{"rule": "interest", "less": 0.25}],
                "entries": [
                    {**entry, "size": [{"rule": "capital_share", "percent": 45, "most": 20}]}
                    for entry in document("earning", STRANGLE, PERCENT_EXITS)["entries"]
                ],
            }
        ),
    }  # fmt: skip

"""Splitting a history's data changes no decision and no cent (semantics rule 11)."""

from __future__ import annotations

import copy
import os
import unittest
from decimal import Decimal
from typing import Any

import numpy as np

from strell_core.engine.plan import make_plan
from strell_core.engine.run import History, run_blocks, run_steps
from strell_core.market.market import Market
from strell_core.market.series import DatedSeries
from strell_core.strategy.document import normalise, parse
from tests.demo import BREADTH, SHORT, market_with_reports
from tests.drawn import SEED, WHOLE
from tests.engine.generated import fifty
from tests.engine.split_by_hand import twice
from tests.engine.test_forty import documents
from tests.payers import PAYERS, payer

CASH = Decimal(2_000_000)
PART = int(os.environ.get("STRELL_SPLITS", "8" if WHOLE else "16"))
"""Of so many sheets one is tried at each split, another part at each; 1: all of them, which takes ten minutes. Where the whole
run draws a part, another one each time."""
Raw = dict[str, Any]
IN_POINTS = (
    "points",
    "nearest_premium",
    "premium_range",
    "patience",
    "net_premium",
    "max_loss",
    "risk_money",
    "unit_spread",
    "hedge",
    "greek",
    "net_credit",
    "close_before",
)
"""What a sheet says in points of the underlying, or in whole contracts of it, means another thing after a split."""


ON_A_GRID = ("lowest of the expected move", "rank of a moving average", "average of the difference to an average")
"""What compares values that lie within a hundredth of a point of each other, where a stock has few: their grid is one of points."""


def speaks_of(value: Any, words: tuple[str, ...]) -> bool:
    if isinstance(value, dict):
        return any(key in words for key in value) or any(speaks_of(item, words) for item in value.values())
    return any(speaks_of(item, words) for item in value) if isinstance(value, list) else value in words


def free_of_contracts(document: Raw) -> Raw:
    """Commission an order only, for a split makes more contracts of one."""
    out = copy.deepcopy(document)
    kept = [rule for rule in out.get("orders", []) if rule["rule"] not in ("commission", "unit_spread")]
    out["orders"] = [
        *kept,
        {"rule": "commission", "per_contract": 0.0, "per_order": 1.0},
        {"rule": "unit_spread", "points": 0.0},
    ]
    return normalise(out)


def leg(right: str, side: str = "sell", **strike: Any) -> Raw:
    return {"rule": "leg", "id": right[0], "side": side, "right": right, "expiry": {"pick": "nearest_days", "days": 14, "from": 5, "to": 40},
            "strike": strike or {"pick": "percent_from_spot", "percent": 1.5}}  # fmt: skip


def looking_back(symbol: str) -> dict[str, Raw]:
    """Sheets whose values look back further than a session, or to the entry."""
    price, entered = {"measure": "price"}, {"measure": "at_entry", "of": {"measure": "price"}}

    def over(which: str, of: Any, sessions: int = 8) -> Raw:
        return {"measure": "statistic", "which": which, "of": of, "sessions": sessions}

    asked: dict[str, tuple[Any, str, Any]] = {
        "average of the price": (price, "above", over("average", price)),
        "highest of the session's high": ({"measure": "session_extreme", "which": "high"}, "at least", over("highest", {"measure": "session_extreme", "which": "high"}, 4)),
        "lowest of the expected move": ({"measure": "expected_move", "unit": "points"}, "above", over("lowest", {"measure": "expected_move", "unit": "points"})),
        "max pain against its average": ({"measure": "max_pain"}, "above", over("median", {"measure": "max_pain"}, 5)),
        "deviations of the price": (over("deviations", price, 12), "below", 1.2),
        "rank of a moving average": (over("rank", {"measure": "moving_average", "sessions": 5}), "above", 20),
        "price crosses its average": (price, "crosses above", {"measure": "moving_average", "sessions": 5}),
        "average of the difference to an average": ({"measure": "difference", "first": price, "second": {"measure": "moving_average", "sessions": 5}}, "above",
                                                    over("average", {"measure": "difference", "first": price, "second": {"measure": "moving_average", "sessions": 5}}, 6)),
        "true range of bars": ({"measure": "true_range", "bars": "30", "sessions": 5}, "above", {"measure": "scaled", "of": {"measure": "expected_move", "unit": "points"}, "times": 0.01}),
    }  # fmt: skip
    leaves: dict[str, tuple[Any, str, Any]] = {
        "move since entry": ({"measure": "move_since_entry"}, "at most", -4.0),
        "price against that at entry": (price, "at most", {"measure": "scaled", "of": entered, "times": 0.98}),
        "change of IV of a leg": ({"measure": "leg_iv_change", "leg": "p"}, "above", 3.0),
        "P/L of the capital": ({"measure": "pnl", "unit": "capital"}, "at most", -12.0),
        "drop from the best": ({"measure": "pnl_drop", "unit": "premium"}, "above", 30.0),
    }
    every = ["mon", "tue", "wed", "thu", "fri"]

    def sheet(name: str, entry: Raw, leave: list[Raw]) -> Raw:
        when = [{"rule": "decision_times", "weekdays": every, "time": "15:45"}]
        sized = [{"rule": "fixed_lots", "lots": 3}]
        return {
            "strell": 2,
            "name": name,
            "underlyings": [symbol],
            "entries": [{"when": when, "size": sized, **entry}],
            "leave": leave,
        }

    limit = {"rule": "open_limit", "limit": 3}
    last = {"rule": "before_expiration", "days": 1, "time": "15:45"}
    out = {}
    for name, (left, comparison, right) in asked.items():
        condition = {"rule": "condition", "left": left, "is": comparison, "right": right}
        out[name] = sheet(
            name,
            {"conditions": [limit, condition], "legs": [leg("call"), leg("put")]},
            [{"rule": "days_held", "days": 4, "time": "15:00"}],
        )
    for name, (left, comparison, right) in leaves.items():
        condition = {"rule": "condition", "as": "other", "left": left, "is": comparison, "right": right}
        out[name] = sheet(name, {"conditions": [limit], "legs": [leg("call"), leg("put")]}, [condition, last])
    stop = {
        "rule": "leg_condition_stop",
        "what": "c",
        "other": "p",
        "left": {"measure": "leg_pnl", "leg": "c"},
        "is": "at least",
        "right": 40,
    }
    out["stop to entry"] = sheet(
        "stop to entry", {"conditions": [limit], "legs": [leg("call"), leg("put")]}, [stop, last]
    )
    again = {
        "rule": "condition_again",
        "left": {"measure": "pnl", "unit": "premium"},
        "is": "at most",
        "right": -30,
        "when": "next",
        "picks": "same",
        "times": 3,
    }
    out["again in the same contracts"] = sheet("again", {"conditions": [limit], "legs": [leg("put")]}, [again, last])
    more = {
        "rule": "change_lots",
        "lots": 1,
        "left": {"measure": "pnl", "unit": "premium"},
        "is": "at most",
        "right": -20,
    }
    out["added lots"] = sheet("added lots", {"conditions": [limit], "legs": [leg("put")], "adjust": [more]}, [last])
    roll = {
        "rule": "roll_to_delta",
        "what": "p",
        "delta": 0.2,
        "left": {"measure": "leg_distance", "leg": "p"},
        "is": "below",
        "right": 0.5,
    }
    out["rolled"] = sheet("rolled", {"conditions": [limit], "legs": [leg("put")], "adjust": [roll]}, [last])
    by_leg = {"rule": "leg_by_leg", "how": "each"}
    out["dealt leg by leg"] = {
        **sheet(
            "by leg",
            {"conditions": [limit], "legs": [leg("call"), leg("put")]},
            [{"rule": "credit_target", "percent": 30}, last],
        ),
        "orders": [by_leg],
    }
    return {name: normalise(document) for name, document in out.items()}


def told(history: History) -> list[Any]:
    """What was decided and earned, without the names and numbers of contracts."""
    reasons = [(r.at, r.kind, r.trade, r.rule, r.truth) for r in history.reasons if r.kind != "adjusted"]
    trades = [
        (t.number, t.lots, t.decided_at, t.opened_at, t.closed_at, t.left_at, t.rule, t.also, t.entry, t.pnl, t.costs)
        for t in history.closed
    ]
    return [trades, reasons, [need.at for need in history.needs], history.state.cash]


class SplitByHandTest(unittest.TestCase):
    tags = frozenset({"long"})

    def same(self, name: str, document: Raw, large: Market, split: Market, by_steps: bool) -> int:
        """Trades that were open over the split."""
        found = []
        for market in (large, split):
            plan, end = make_plan(parse(document), market), len(market.main.times)
            blocks = run_blocks(plan, market, 0, end, CASH)
            found.append((told(blocks), blocks))
        if by_steps:
            steps = run_steps(make_plan(parse(document), split), split, 0, end, CASH)
            self.assertEqual(told(steps), found[1][0], (name, "steps"))
        for kind, one, other in zip(
            ("trades", "reasons", "session ends", "cash"), found[0][0], found[1][0], strict=True
        ):
            self.assertEqual(one, other, (name, kind))
        for one, other in zip(found[0][1].needs, found[1][1].needs, strict=True):
            # sums of floats in other units
            np.testing.assert_allclose([one.equity, one.capital], [other.equity, other.capital], rtol=0, atol=0.02)
        return sum(reason.kind == "adjusted" for reason in found[1][1].reasons)

    def compared(self, whole: Market, sheets: dict[str, Raw], ratio: int, session: int) -> tuple[int, int]:
        followed = 0
        large, split = twice(whole.main, ratio, session)
        for number, (name, document) in enumerate(sheets.items()):
            if (number + session + int(SEED or 0)) % PART:
                continue
            with self.subTest(name, ratio=ratio, session=session):
                followed += self.same(
                    name,
                    free_of_contracts(document),
                    *(Market(side, series=whole.series) for side in (large, split)),
                    number % 3 == 0,
                )
        return len(sheets), followed

    def test_an_index_closings_and_within_sessions(self) -> None:
        """Its options settle in cash; splits in its history of closings, on its first session with several snapshots, and within those."""
        market = market_with_reports(SHORT)
        own = {**documents(), **fifty()}
        sheets = {
            name: document
            for name, document in own.items()
            if document["underlyings"] == ["MK30"] and not speaks_of(document, IN_POINTS)
        }
        sheets |= looking_back("MK30")
        self.assertGreaterEqual(len(sheets), 60)
        followed = 0
        for ratio, session in ((2, 40), (3, 57), (2, 65), (5, 71), (10, 80), (2, 86)):
            followed += self.compared(market, sheets, ratio, session)[1]
        self.assertGreater(followed, 300 // PART // (1 if WHOLE else 3), "trades are open over the split")

    def test_stocks_that_pay_and_deliver(self) -> None:
        for name in PAYERS:
            there = payer(name)
            written = {key: {**document, "underlyings": [name.symbol]} for key, document in documents().items()
                       if document["underlyings"] == ["OSTL"] and not speaks_of(document, IN_POINTS)}  # fmt: skip
            sheets = {
                key: document for key, document in (written | looking_back(name.symbol)).items() if key not in ON_A_GRID
            }
            dividend = next(
                n for n, date in enumerate(there.timeline.dates) if date in there.scenario.dividends and n > 100
            )
            for ratio, session in ((2, 131), (2, dividend), (3, 300)):
                self.compared(
                    Market(there.timeline, series={BREADTH: DatedSeries(BREADTH, np.empty(0, np.int64), np.empty(0))}),
                    sheets,
                    ratio,
                    session,
                )

"""Lives of trades that adjustments change, told from what variants have in common: by dice, beside runs of their own."""

from __future__ import annotations

import random
import unittest
from collections import Counter
from decimal import Decimal
from typing import Any

from strell_core.engine.lives import Beyond
from strell_core.engine.plan import make_plan
from strell_core.engine.run import History, run_blocks
from strell_core.engine.variants import Told, Variants
from strell_core.market.market import Market
from strell_core.market.tape import NONE
from strell_core.results.equity import equity_curve
from strell_core.strategy.document import normalise, parse
from tests.demo import SHORT, market_with_reports
from tests.engine.variations import EVERY_DAY, days, delta, document, leg

RICH, POOR = Decimal(400_000), Decimal(14_000)
NAMES = ("short put", "long put", "short call", "long call")
PICKED = (
    leg("sell", "put", delta(0.2), days(12, 5, 25)), leg("buy", "put", delta(0.08)),
    leg("sell", "call", delta(0.2)), leg("buy", "call", delta(0.08)),
)  # fmt: skip
LEGS = [{**item, "id": name} for name, item in zip(NAMES, PICKED, strict=True)]
LATER = {**leg("buy", "put", delta(0.3), days(12, 5, 25)), "rule": "later_leg", "id": "more"}


def holds(dice: random.Random) -> dict[str, Any]:
    """A condition that will hold of some trades."""
    name = dice.choice(NAMES)
    left, right = dice.choice((
        ({"measure": "leg_greek", "leg": "short put", "greek": "delta"}, dice.choice((-0.3, -0.24, -0.12))),
        ({"measure": "leg_greek", "leg": "short call", "greek": "delta"}, dice.choice((0.3, 0.24, 0.12))),
        ({"measure": "pnl", "unit": "premium"}, dice.choice((-60, -20, 10, 35))),
        ({"measure": "leg_distance", "leg": name, "unit": "percent"}, dice.choice((0.5, 2, 4))),
        ({"measure": "days_to_expiration"}, dice.choice((2, 5, 9))),
    ))  # fmt: skip
    return {"left": left, "is": dice.choice(("above", "below")), "right": right}


def adjustment(dice: random.Random) -> dict[str, Any]:
    what = dice.choice(NAMES)
    greek = {"measure": "structure_greek"}
    rule = dice.choice((
        {"rule": "roll_strikes", "what": what, "strikes": dice.choice((1, 3)), "where": dice.choice(("away", "toward"))},
        {"rule": "roll_to_delta", "what": what, "delta": dice.choice((0.1, 0.2, 0.3))},
        {"rule": "roll_anew", "what": what},
        {"rule": "roll_until", "what": what, "where": "away", "most": 6, "goal": greek, "goal_is": "above", "goal_than": 0.0},
        {"rule": "roll_out", "days": 7},
        {"rule": "recentre", "what": what, "value": {"measure": "price"}, "within": 2.0},
        {"rule": "change_lots", "way": dice.choice(("open", "close")), "lots": 1, "bound": dice.choice((1, 3))},
        {"rule": "balance", "what": what, "goal": greek, "to": 0.0, "most": 3},
        {"rule": "close_leg", "what": what}, {"rule": "open_leg", "what": what}, {"rule": "open_leg", "what": "more"},
    ))  # fmt: skip
    told = {**rule, **holds(dice)}
    if dice.random() < 0.5:
        told |= dice.choice(({"daily": "15:30"}, {"upon": "every"}, {"daily": "10:00", "upon": "gone"}))
    if dice.random() < 0.3:
        told["further"] = dice.choice(("may", "must"))
    if dice.random() < 0.2:
        told["provided"] = {"left": {"measure": "structure_greek"}, "is": "above", "right": dice.choice((-1.0, 0.0))}
    if dice.random() < 0.25 and told["rule"] not in ("open_leg", "close_leg"):
        told["otherwise"] = "close"
    return told


def by_dice(seed: int) -> dict[str, Any]:
    dice = random.Random(seed)
    leave = [
        {"rule": "credit_target", "percent": dice.choice((40, 60))}, {"rule": "premium_stop", "percent": dice.choice((120, 200))},
        {"rule": "trailing_profit", "start": 20, "back": 10}, {"rule": "strike_fence", "call": 0.2, "put": 0.2},
        {"rule": "before_expiration", "days": 1, "time": "15:45"},
        {"rule": "condition", "as": "other", "left": {"measure": "adjustments_made"}, "is": "above", "right": 2},
    ]  # fmt: skip
    raw = document(
        "adjusted", LEGS, dice.sample(leave[:4], dice.randint(0, 2)) + leave[4 : 4 + dice.randint(0, 1)],
        weekdays=EVERY_DAY, time=dice.choice(("10:00", "15:45")), lots=dice.choice((1, 2)), limit=dice.choice((1, 3, 5)),
    )  # fmt: skip
    (entry,) = raw["entries"]
    if dice.random() < 0.4:
        entry["legs"].append(LATER)
    entry["adjust"] = [adjustment(dice) for _ in range(dice.randint(1, 3))]
    if "more" not in {item["id"] for item in entry["legs"]}:
        entry["adjust"] = [item for item in entry["adjust"] if item.get("what") != "more"]
    return raw


class AdjustedTest(unittest.TestCase):
    market: Market

    @classmethod
    def setUpClass(cls) -> None:
        cls.market = market_with_reports(SHORT)

    def same(self, told: Told, history: History, begin: int, end: int, cash: Decimal) -> None:
        curve = equity_curve(self.market, history, begin, end, cash)
        self.assertEqual(told.pnl.tolist(), [int(trade.pnl * 100) for trade in history.closed])
        self.assertEqual(told.equity.tobytes(), curve.equity.tobytes())
        self.assertEqual(told.held.tolist(), curve.in_market.tolist())
        self.assertEqual(told.capital.tolist(), [need.capital for need in history.needs])
        self.assertEqual(told.open, len(history.state.trades))

    def test_strategies_by_dice(self) -> None:
        first, kinds, shared, stages = self.market.main.first, Counter[str](), Counter[str](), 0
        for seed in range(36):
            if seed % 12 == 0:
                begin, end = int(first[seed // 2]), int(first[-1 - seed // 12])
                variants = Variants(self.market, begin, end)
            cash = POOR if seed % 3 == 0 else RICH
            with self.subTest(seed):
                plan = make_plan(parse(normalise(by_dice(seed))), self.market)
                history = run_blocks(plan, self.market, begin, end, cash, until_ruin=True)
                said = Counter(reason.kind for reason in history.reasons)
                try:
                    told = variants.run(plan, cash)
                except Beyond:
                    shared["not"] += 1
                    shared["refused"] += said["no adjustment"] > 0
                    continue
                shared["told"] += 1
                self.same(told, history, begin, end, cash)
                self.assertEqual(said["no adjustment"], 0)
                kinds.update(
                    rule.kind
                    for entry in plan.strategy.entries
                    for rule in entry.adjust
                    if any(reason.kind == "moved" and reason.rule == rule.id for reason in history.reasons)
                )
                stages += said["moved"]
        self.assertGreater(shared["told"], 18, shared)
        self.assertGreater(shared["refused"], 1, shared)
        self.assertGreater(stages, 100)
        self.assertGreater(len(kinds), 8, kinds)

    def test_variants_of_exits_share_what_adjustments_make(self) -> None:
        end = len(self.market.main.times)
        variants = Variants(self.market, 0, end)
        raw = by_dice(1)
        (entry,) = raw["entries"]
        entry["adjust"] = [{
            "rule": "roll_to_delta", "what": "short put", "delta": 0.2, "upon": "every",
            "left": {"measure": "leg_greek", "leg": "short put", "greek": "delta"}, "is": "below", "right": -0.26,
        }]  # fmt: skip
        made = []
        for percent in (30, 50, 70):
            raw["leave"] = [{"rule": "credit_target", "percent": percent}, {"rule": "premium_stop", "percent": 200}]
            plan = make_plan(parse(normalise(raw)), self.market)
            self.same(
                variants.run(plan, RICH), run_blocks(plan, self.market, 0, end, RICH, until_ruin=True), 0, end, RICH
            )
            known = variants.learned.known
            rows = known.openings.rows[: known.openings.count]
            made.append(int((rows["before"] != NONE).sum()))
        self.assertGreater(made[0], 10)
        self.assertLess(made[2], 2.5 * made[0])

    def test_dealing_in_the_underlying_or_entering_again_is_left_to_the_engine(self) -> None:
        variants = Variants(self.market, 0, len(self.market.main.times))
        hedge = {"rule": "hedge", "band": 20.0}
        again = {**holds(random.Random(1)), "rule": "roll_anew", "what": "short put", "otherwise": "again"}
        for rule in (hedge, again):
            raw = by_dice(2)
            raw["entries"][0]["adjust"] = [rule]
            with self.subTest(rule["rule"]), self.assertRaises(Beyond):
                variants.run(make_plan(parse(normalise(raw)), self.market), RICH)


if __name__ == "__main__":
    unittest.main()

"""Rules that go by numbers say there what their sentences say: strategies by dice, walked with compiled loops, without them, and run
by the engine."""

from __future__ import annotations

import random
import unittest
from decimal import Decimal
from typing import Any

import numpy as np

from strell_core.engine import by_numbers
from strell_core.engine.lives import Beyond
from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks
from strell_core.engine.variants import Told, Variants
from strell_core.market.instruments import ContractKey, strike_of
from strell_core.market.market import Market
from strell_core.market.tape import NONE
from strell_core.measures.registry import Registry
from strell_core.results.report import decisions
from strell_core.strategy import catalogue, kinds
from strell_core.strategy.document import DocumentError, normalise, parse
from tests.demo import SHORT, market_with_reports, short_history
from tests.engine.any_document import Maker
from tests.engine.variations import PERCENT_EXITS, STRANGLE, document

CASH = Decimal(400_000)
PICKS = ("nearest_delta", "delta_range", "nearest_premium", "premium_range", "percent_from_spot")
EXPIRIES = ("nth_listed", "monthly")
CHECKS = ("side_balance", "net_premium", "spread_width")
EXITS = (
    "credit_target",
    "debit_target",
    "premium_stop",
    "trailing_profit",
    "strike_fence",
    "before_expiration",
    "days_held",
    "profit_floor",
)
CONDITIONS = ("when_realised_volatility", "when_atm_iv", "when_rsi", "when_iv_rank")


def by_dice(seed: int) -> dict[str, Any]:
    """A strategy whose rules mostly go by numbers."""
    dice, maker = random.Random(seed), Maker(seed)

    def filled(part: str, name: str) -> dict[str, Any]:
        declared = catalogue.picks(part)[name] if part in catalogue.PICKS else catalogue.sentences(part)[name]
        return {"pick" if part in catalogue.PICKS else "rule": name, **maker.filled(declared)}

    legs: list[dict[str, Any]] = []
    sides = [(side, right) for side in ("sell", "buy") for right in ("call", "put")]
    for place, (side, right) in enumerate(dice.sample(sides, dice.randint(1, 4))):
        days = dice.randint(2, 40)
        near = {"pick": "nearest_days", "days": days, "from": max(0, days - 6), "to": days + 6}
        expiry = near if dice.random() < 0.8 else filled("expiry", dice.choice(EXPIRIES))
        legs.append({
            "rule": "leg", "side": side, "right": right, "ratio": dice.choice((1, 1, 2)),
            "strike": filled("strike", dice.choice(PICKS)),
            "expiry": {"pick": "same_expiration"} if place and dice.random() < 0.8 else expiry,
        })  # fmt: skip
    entry = {
        "id": "entry", "when": [filled("when", "decision_times") for _ in range(dice.randint(1, 2))],
        "conditions": [filled("conditions", "open_limit")] * dice.randint(0, 1)
        + [filled("conditions", dice.choice(CONDITIONS)) for _ in range(dice.randint(0, 1))],
        "legs": legs, "checks": [filled("checks", name) for name in dice.sample(CHECKS, dice.randint(0, 1))],
        "size": [filled("size", "fixed_lots")],
    }  # fmt: skip
    return {
        "name": "dice", "underlyings": ["MK30"], "entries": [entry],
        "leave": [filled("leave", name) for name in dice.sample(EXITS, dice.randint(0, 3))],
        "orders": [filled("orders", name) for name in ("fill_model", "commission", "doubtful_marks") if dice.random() < 0.5],
    }  # fmt: skip


class ByNumbersTest(unittest.TestCase):
    market: Market

    @classmethod
    def setUpClass(cls) -> None:
        cls.market = market_with_reports(SHORT)

    def told(self, variants: Variants, raw: dict[str, Any]) -> Told | None:
        try:
            return variants.run(make_plan(parse(raw), self.market), CASH, tells=True)
        except Beyond:
            return None

    def test_strategies_by_dice(self) -> None:
        """Over parts of the history, several sharing what they know."""
        first, numbers, trades, ran = self.market.main.first, 0, 0, 0
        for seed in range(120):
            if seed % 40 == 0:
                begin, end = int(first[seed // 2]), int(first[-1 - seed // 20])
                both = [Variants(self.market, begin, end, compiled) for compiled in (True, False)]
            try:
                raw = normalise(by_dice(seed))
            except DocumentError:
                continue
            with self.subTest(seed):
                one, other = (self.told(variants, raw) for variants in both)
                self.assertEqual(one is None, other is None)
                if one is None or other is None:
                    continue
                for name in ("pnl", "equity", "held", "capital"):
                    self.assertEqual(getattr(one, name).tobytes(), getattr(other, name).tobytes(), name)
                self.assertEqual((one.open, one.said), (other.open, other.said))
                plan = make_plan(parse(raw), self.market)
                numbers += len(both[0].learned.entry(plan, plan.entries[0]).sheet.legs) > 0
                trades += len(one.pnl)
                if seed % 5 == 0:
                    ran += 1
                    history = run_blocks(plan, self.market, begin, end, CASH, until_ruin=True)
                    self.assertEqual([int(trade.pnl * 100) for trade in history.closed], one.pnl.tolist())
                    self.assertEqual(decisions(history.reasons), decisions(one.said))
        self.assertGreater(numbers, 60)
        self.assertGreater(trades, 500)
        self.assertGreater(ran, 7)

    def test_what_is_worked_out_is_what_the_engine_s_own_rooms_work_out(self) -> None:
        """Row by row: picks with the capital they take, what came of their orders, when exits were true, how trades ended."""
        plan = make_plan(parse(document("strangle", STRANGLE, PERCENT_EXITS, limit=2)), self.market)
        end = len(self.market.main.times)
        one, other = (Variants(self.market, 0, end, compiled) for compiled in (True, False))
        one.run(plan, CASH), other.run(plan, CASH)
        here, there = one.learned.known, other.learned.known
        self.assertEqual(here.used.tolist(), there.used.tolist())
        self.assertGreater(here.openings.count, 20)
        self.assertEqual(
            here.floats.rows[: here.floats.count].tobytes(), there.floats.rows[: there.floats.count].tobytes()
        )
        for grown, named in ((here.openings, there.openings), (here.ends, there.ends)):
            self.assertEqual(grown.rows[: grown.count].tolist(), named.rows[: named.count].tolist())
        np.testing.assert_array_equal(here.picks.rows["needed"], there.picks.rows["needed"])
        np.testing.assert_array_equal(here.firsts.cells, there.firsts.cells)
        dealt = [one.learned.dealt_in(place) for place in range(here.picks.count)]
        self.assertEqual(dealt, [other.learned.dealt_in(place) for place in range(there.picks.count)])

    def test_a_condition_that_asks_the_account_is_left_to_the_engine(self) -> None:
        asks = {"rule": "condition", "left": {"measure": "open_trades"}, "is": "below", "right": 2}
        raw = document("asks", STRANGLE, PERCENT_EXITS, enter=[asks], limit=5)
        plan, variants = make_plan(parse(raw), self.market), Variants(self.market, 0, len(self.market.main.times))
        told = variants.run(plan, CASH)
        self.assertEqual(len(variants.learned.entry(plan, plan.entries[0]).sheet.legs), 0)
        history = run_blocks(plan, self.market, 0, len(self.market.main.times), CASH)
        self.assertEqual([int(trade.pnl * 100) for trade in history.closed], told.pnl.tolist())

    def test_what_a_contract_costs_goes_by_whole_numbers(self) -> None:
        def terms(costs: dict[str, Any]) -> tuple[Any, ...] | None:
            raw = document("costs", STRANGLE, PERCENT_EXITS, orders=[{"rule": "commission", **costs}])
            return by_numbers.terms(make_plan(parse(raw), self.market))

        found = terms({"per_contract": 0.35, "per_order": 1.25})
        self.assertEqual(found and found[3:], (35_000_000, 125_000_000, 1_000_000))

    def test_every_kind_that_has_numbers_is_one_that_loops_know(self) -> None:
        catalogue.load()

        def with_numbers(known: Registry[Any]) -> set[str]:
            return {item.declaration.id for item in known.all() if item.numbers is not None}

        self.assertEqual(with_numbers(kinds.strike_picks), set(PICKS))
        self.assertEqual(with_numbers(kinds.structure_conditions), set(CHECKS))
        self.assertEqual(with_numbers(kinds.exits), set(EXITS) - {"profit_floor"})


class TapeTest(unittest.TestCase):
    def test_it_has_what_the_timeline_has(self) -> None:
        timeline = short_history()
        tape = timeline.tape
        assert tape is not None
        self.assertEqual(
            timeline.dates[-1].toordinal(),
            tape.on_or_before[timeline.dates[-1].toordinal() - tape.units[0]["days_from"]],
        )
        dice, seen = random.Random(3), 0
        for one in tape.expirations:
            cube = next(cube for cube in timeline.cubes.values() if cube.expiration.toordinal() == one["day"])
            row = dice.randrange(2 * len(cube.strikes))
            strike = tape.strikes[one["strike"] + row % len(cube.strikes)]
            contract = ContractKey(
                cube.expiration, "call" if row < len(cube.strikes) else "put", strike_of(int(strike)), "MK30"
            )
            bid, ask = timeline.quotes(contract, cube.start, cube.end)
            cells = slice(one["cell"] + row * bid.size, one["cell"] + (row + 1) * bid.size)
            known = bid >= 0
            self.assertEqual((bid[known] // 2000).tolist(), tape.bid[cells][known].tolist())
            self.assertEqual((ask[known] // 2000).tolist(), tape.ask[cells][known].tolist())
            self.assertEqual(timeline.settles_at(contract), one["settlement_at"])
            official = timeline.official(cube.expiration)
            self.assertEqual(NONE if official is None else official, one["official"])
            seen += int(known.sum())
        self.assertGreater(seen, 10_000)
        with self.assertRaises(ValueError):
            tape.bid[0] = 1


if __name__ == "__main__":
    unittest.main()

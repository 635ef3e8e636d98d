"""What variants have in common tells of each what its own run tells, to the bit; the engine is the oracle."""

from __future__ import annotations

import random
import unittest
from decimal import Decimal
from typing import Any
from unittest.mock import patch

from strell_core.engine import learned
from strell_core.engine.lives import Beyond
from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks
from strell_core.engine.variants import Variants
from strell_core.market.market import Market
from strell_core.results.report import decisions
from strell_core.results.strip import strip
from strell_core.results.variant import Outcome, outcome
from strell_core.strategy.document import normalise, parse
from strell_core.strategy.sweeps import places, suggested, values_of, varied
from tests.demo import SHORT, market_with_reports
from tests.engine.generated import fifty
from tests.engine.test_forty import documents
from tests.engine.variations import PERCENT_EXITS, STRANGLE, document, variations
from tests.examples import example

CASH = Decimal(60_000)


class VariantsTest(unittest.TestCase):
    market: Market

    @classmethod
    def setUpClass(cls) -> None:
        cls.market = market_with_reports(SHORT)
        cls.end = len(cls.market.main.times)

    def both(self, raw: dict[str, Any], shared: Variants, cash: Decimal = CASH) -> Outcome:
        """What is told from what is shared, compared with a run of its own."""
        plan, begin, end = make_plan(parse(raw), self.market.main), shared.begin, shared.end
        found = outcome(plan, self.market, begin, end, cash, variants=shared)
        whole = outcome(plan, self.market, begin, end, cash)
        self.assertEqual(found.figures, whole.figures)
        self.assertEqual(found.daily.tobytes(), whole.daily.tobytes())
        return found

    def test_strategies_of_every_kind(self) -> None:
        """One memory for all of them: whatever they have in common they share. Every other one of the sets that other
        tests go through."""
        variants = Variants(self.market, 0, self.end)
        on_the_index = {name: raw for name, raw in documents().items() if raw["underlyings"] == ["MK30"]}
        every = [*fifty().items(), *variations().items(), *on_the_index.items()][::2]
        shared, beyond, trades = 0, [], 0
        for place, (name, raw) in enumerate(every):
            with self.subTest(name):
                found = self.both(raw, variants, (CASH, Decimal(400_000))[place % 2])
                trades += found.figures["trades_count"]
                shared += found.shared
                beyond += [] if found.shared else [name]
        self.assertGreater(shared, 40)
        self.assertLess(len(beyond), 18, beyond)
        self.assertGreater(trades, 500)

    def test_what_is_decided_at_every_look(self) -> None:
        """A strip of decisions is that of the run: who said no, to what numbers, and what was entered."""
        shared, kinds, plans = Variants(self.market, 0, self.end), set(), 0
        every = {**fifty(), **variations(), **documents()}
        for place, (name, raw) in enumerate(list(every.items())[1::3]):
            if raw["underlyings"] != ["MK30"]:
                continue
            with self.subTest(name):
                plan, cash = make_plan(parse(raw), self.market), (CASH, Decimal(9_000), Decimal(400_000))[place % 3]
                found = strip(plan, shared, cash)
                history = run_blocks(plan, self.market, 0, self.end, cash, until_ruin=True)
                self.assertEqual(found, decisions(history.reasons))
                kinds |= {(item["kind"], "needed" in item["values"]) for item in found}
                plans += 1
        self.assertGreater(plans, 30)
        self.assertEqual(kinds, {("entry", False), ("no entry", False), ("no entry", True), ("skipped", False)})

    def test_what_goes_by_numbers_is_what_the_engine_s_own_rooms_say(self) -> None:
        """The same walk, once with compiled loops that work out what they can, once without any: to the bit, with what was decided
        at every look."""
        every = dict([*variations().items(), *documents().items(), *fifty().items()][1::2])
        both = [Variants(self.market, 0, self.end, compiled) for compiled in (True, False)]
        by_numbers, told = 0, 0
        for name, raw in every.items():
            if raw["underlyings"] != ["MK30"]:
                continue
            with self.subTest(name):
                plan, found = make_plan(parse(raw), self.market), []
                for variants in both:
                    try:
                        found.append(variants.run(plan, Decimal(400_000), tells=True))
                    except Beyond:
                        found.append(None)
                    if variants.compiled:
                        by_numbers += any(len(variants.learned.entry(plan, entry).sheet.legs) for entry in plan.entries)
                one, other = found
                self.assertEqual(one is None, other is None)
                if one is not None and other is not None:
                    told += 1
                    self.assertEqual(one.said, other.said)
                    self.assertEqual(one.open, other.open)
                    for name in ("pnl", "equity", "held", "capital"):
                        self.assertEqual(getattr(one, name).tobytes(), getattr(other, name).tobytes(), name)
        self.assertGreater(told, 30)
        self.assertGreater(by_numbers, 8)

    def test_values_by_dice_over_parts_of_the_history(self) -> None:
        """Sheets with several of their values changed at once, orders and costs among them."""
        dice, first, shared = random.Random(5), self.market.main.first, 0
        sheets = [normalise(example(name)) for name in ("harbour-strangle", "tide-condor")]
        sheets.append(document("dear", STRANGLE, PERCENT_EXITS, orders=[
            {"rule": "fill_model", "share": 35}, {"rule": "commission", "per_contract": 1.25, "per_order": 0.4},
            {"rule": "doubtful_marks", "percent": 15, "last": "act"},
        ], limit=3))  # fmt: skip
        for sheet in sheets:
            low = dice.randrange(len(first) // 3)
            variants = Variants(self.market, int(first[low]), int(first[dice.randrange(low + 30, len(first))]))
            every = places(sheet)
            for _ in range(12):
                chosen = dice.sample(every, 4)
                values = {place.path: dice.choice(values_of(place.param, suggested(place))) for place in chosen}
                try:
                    raw = normalise(varied(sheet, values))
                except ValueError:
                    continue
                shared += self.both(raw, variants).shared
        self.assertGreater(shared, 25)

    def test_what_depends_on_more_than_a_trade_is_left_to_the_engine(self) -> None:
        variants = Variants(self.market, 0, self.end)
        strangle = document("strangle", STRANGLE, PERCENT_EXITS, limit=2)
        self.assertTrue(self.both(strangle, variants).shared)
        forty = documents()
        cases = {
            "a stop for the day": forty["50-strangles-with-a-stop-for-the-day-and-a-rest"],
            "legs that leave by themselves": forty["30-straddle-with-side-balance-leg-targets-linked-stop"],
            "what its trades came to": forty["49-puts-until-two-in-a-row-have-lost"],
        }  # fmt: skip
        for why, raw in cases.items():
            with self.subTest(why):
                self.assertFalse(self.both(raw, variants, Decimal(400_000)).shared)

    def test_capital_that_is_not_there_is_called_by_the_engine(self) -> None:
        heavy = document("heavy", STRANGLE, PERCENT_EXITS[:1], lots=3, limit=4)
        heavy["limits"] = [{"rule": "capital", "entries": "allow", "below": "newest"}]
        variants = Variants(self.market, 0, self.end)
        told = self.both(normalise(heavy), variants, Decimal(200_000))
        self.assertFalse(told.shared, "it closes the newest trade")
        heavy["limits"] = [{"rule": "capital", "entries": "allow", "below": "report"}]
        self.assertTrue(self.both(normalise(heavy), variants, Decimal(400_000)).shared, "it only says so")
        lost = self.both(normalise(heavy), variants, Decimal(9_000))
        self.assertFalse(lost.shared)
        self.assertIsNotNone(lost.figures["ruined_on"])

    def test_what_is_forgotten_for_want_of_room_is_computed_again(self) -> None:
        shared = Variants(self.market, 0, self.end)
        with patch.object(learned, "MOST", 3):
            for percent in (40, 60):
                raw = document("strangle", STRANGLE, [{"rule": "credit_target", "percent": percent}], limit=2)
                self.assertTrue(self.both(raw, shared).shared)
        self.assertGreater(shared.learned.known.picks.count, 3, "only between variants is anything forgotten")

    def test_a_period_within_a_session_and_cash_of_half_a_cent_are_not_shared(self) -> None:
        plan = make_plan(parse(document("strangle", STRANGLE, PERCENT_EXITS)), self.market.main)
        with self.assertRaises(Beyond):
            Variants(self.market, 0, self.end - 1).run(plan, CASH)
        with self.assertRaises(Beyond):
            Variants(self.market, 0, self.end).run(plan, Decimal("1000.005"))

"""What exits and adjustments say of open trades is what the next step does (:mod:`strell_core.engine.outlook`)."""

from __future__ import annotations

import unittest
from decimal import Decimal
from functools import cache

from strell_core.engine import capital
from strell_core.engine.advance import advance
from strell_core.engine.fills import match
from strell_core.engine.outlook import TradeNow, outlook
from strell_core.engine.plain import to_plain
from strell_core.engine.plan import Plan, make_plan
from strell_core.engine.state import EngineState
from strell_core.engine.stored import dump
from strell_core.market.market import Market, Observation
from strell_core.measures.frames import TRUE
from strell_core.strategy.document import parse
from strell_core.strategy.schedule import DUE
from tests.demo import short_history
from tests.engine.test_forty import documents

CASH = Decimal(250_000)
ADJUSTED = ("19-uneven", "30-straddle", "38-rolls", "52-butterfly")
SESSIONS = 14


Moment = tuple[EngineState, EngineState, Observation, tuple[TradeNow, ...]]


class OutlookTest(unittest.TestCase):
    @staticmethod
    @cache
    def lived(prefix: str) -> tuple[Plan, list[Moment]]:
        """Every look of the last sessions, every snapshot that was acted on and one of seventeen: the state before what is decided, the one after, and the outlook."""
        timeline, name = short_history(), next(item for item in documents() if item.startswith(prefix))
        market, plan = Market(timeline), make_plan(parse(documents()[name]), timeline)
        state, out = EngineState(CASH), []
        for index in range(int(timeline.first[-1 - SESSIONS]), len(timeline.times)):
            here = Observation(market, index)
            fills = match(plan, state.orders, timeline, index)
            after = advance(plan, state, here, fills).state
            acted = {order.id for order in after.orders} - {order.id for order in state.orders}
            if acted or index % 17 == 0 or plan.entries[0].schedule.status(timeline, index) == DUE:
                # what is there when exits are asked: fills applied, nothing decided
                asked = advance(Plan(plan.strategy, plan.underlyings, frozenset()), state, here, fills).state
                out.append((asked, after, here, outlook(plan, asked, here)))
            state = after
        return plan, out

    def test_what_is_true_is_what_acts_and_a_proposal_is_the_order_that_goes_out(self) -> None:
        left = adjusted = 0
        for prefix in ADJUSTED:
            with self.subTest(prefix):
                _, moments = self.lived(prefix)
                for before, after, here, trades in moments:
                    self.assertEqual([item.trade.number for item in trades], [t.number for t in before.trades])
                    known = {order.id for order in before.orders}
                    made = [order for order in after.orders if order.id not in known]
                    for now in trades:
                        number = now.trade.number
                        true = [item.wish.rule for item in now.exits if item.truth == TRUE]
                        closing = [o.rule for o in made if o.trade == number and o.purpose == "close"]
                        if now.leaves_by is None:
                            self.assertEqual(bool(true), bool(closing), here.instant)
                            self.assertEqual(closing[:1], true[:1])
                        left += len(closing)
                        moving = [o for o in made if o.trade == number and o.purpose == "adjust"]
                        fits = [a for a in now.adjustments if a.asked and a.truth == TRUE and a.proposal is not None]
                        if moving:
                            self.assertEqual(moving[0].rule, fits[0].rule.id)
                            self.assertEqual(to_plain(moving[0].legs), to_plain(fits[0].proposal.legs))  # type: ignore[union-attr]
                            adjusted += 1
                        elif fits and not closing and not here.timeline.last_of_several[here.index]:
                            self.assertTrue(all(a.proposal and a.proposal.refused for a in fits[:1]))
        self.assertGreaterEqual(left, 4)
        self.assertGreaterEqual(adjusted, 8)

    def test_asking_changes_nothing(self) -> None:
        plan, moments = self.lived("38-rolls")
        for before, _, here, trades in moments[:: max(1, len(moments) // 40)]:
            stored = dump(before)
            self.assertEqual(to_plain(outlook(plan, before, here)), to_plain(trades))
            self.assertEqual(dump(before), stored)

    def test_a_proposal_says_what_is_held_then_what_it_costs_and_ties_up(self) -> None:
        _, moments = self.lived("38-rolls")
        seen = 0
        for _, _, here, trades in moments:
            for now in trades:
                for item in now.adjustments:
                    found = item.proposal
                    if found is None or found.cash is None:
                        continue
                    seen += 1
                    held = {leg.contract: leg.contracts for leg in now.trade.legs}
                    cash, contracts = 0, 0
                    for leg, price in zip(found.legs, found.prices, strict=True):
                        held[leg.contract] = held.get(leg.contract, 0) + leg.contracts
                        cash -= leg.contracts * (price or 0)
                        contracts += abs(leg.contracts)
                    self.assertEqual(
                        {c: n for c, n in held.items() if n}, {b.contract: b.contracts for b in found.after}
                    )
                    # 50 EUR a point, ticks of 0.05, 2 000 parts a tick; 0.80 a contract
                    self.assertAlmostEqual(found.cash, cash / 2000 * 0.05 * 50 - 0.8 * contracts, places=2)
                    multiplier = here.timeline.multiplier(now.trade.opened_on)
                    ties = capital.needed(here.timeline, here.index, found.after, multiplier)
                    self.assertEqual(found.needed[1], ties)
        self.assertGreater(seen, 20)

    def test_adjustments_are_asked_at_the_entrys_looks_only(self) -> None:
        plan, moments = self.lived("38-rolls")
        found = [
            (item.asked, plan.entry(now.trade.entry).schedule.status(here.timeline, here.index) == DUE)
            for _, _, here, trades in moments
            for now in trades
            for item in now.adjustments
        ]
        self.assertTrue(all(look for asked, look in found if asked))
        self.assertTrue(any(asked for asked, _ in found))
        self.assertTrue(any(not asked for asked, _ in found))

"""Legs chosen together: against every structure there is around the picks, over the demo's chains."""

from __future__ import annotations

import itertools
import unittest
from typing import Any

from strell_core.engine.entering import EntryDecision, decide_entry
from strell_core.engine.plan import make_plan
from strell_core.market.market import Market, Observation
from strell_core.measures.frames import TRUE, UNVALUED, just_opened
from strell_core.strategy.document import DocumentError, parse
from tests.demo import short_history
from tests.engine.variations import delta, leg
from tests.selection.test_more_picks import FIRST, raw

SAME = {"pick": "same_expiration"}
DELTA, CREDIT = {"measure": "structure_greek", "greek": "delta"}, {"measure": "net_credit", "basis": "mid"}


def together(goal: Any = DELTA, to: Any = 0, **more: Any) -> dict[str, Any]:
    return {"id": "all", "rule": "together", "goal": goal, "to": to, **more}


class TogetherTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.timeline = short_history()
        last = len(cls.timeline.times)
        cls.instants = [last - 40, last - 200, last - 333]

    def decide(self, index: int, *legs: dict[str, Any], checks: list[dict[str, Any]]) -> EntryDecision:
        plan = make_plan(parse(raw(*legs, checks=checks)), self.timeline)
        observation = Observation(Market(self.timeline), index)
        return decide_entry(plan.entries[0], observation, just_opened(1e6, "MK30"))

    def strangle(self, index: int, *checks: dict[str, Any]) -> EntryDecision:
        legs = leg("sell", "call", delta(0.2), FIRST), leg("sell", "put", delta(0.16), SAME)
        return self.decide(index, *legs, checks=list(checks))

    def around(self, index: int, right: str, wanted: float, near: int) -> list[tuple[int, float, float]]:
        """Delta and mid of the strikes nearest to a delta, nearest first, and their strike."""
        view = self.timeline.view(index)
        days = [(abs((e - view.date).days - 10), e) for e in view.expirations if 5 <= (e - view.date).days <= 18]
        chain = view.slice(min(days)[1], right)
        rows = [
            (abs(abs(int(d)) - round(wanted * 10_000)), -k if right == "call" else k, int(d), (int(b) + int(a)) / 40, k)
            for k, b, a, d in zip(chain.strikes.tolist(), chain.bid, chain.ask, chain.delta, strict=True)
            if 0 <= b <= a and a > 0 and -10_000 <= d <= 10_000
        ]
        return [(d, mid, k) for _, _, d, mid, k in sorted(rows)[:near]]

    def test_the_nearest_of_all_around_the_picks(self) -> None:
        moved = 0
        for index in self.instants:
            for goal, wish in ((DELTA, 0.0), (CREDIT, 9.0)):
                found = self.strangle(index, together(goal, wish, near=5))
                assert found.selection is not None
                every = []
                pairs = itertools.product(
                    enumerate(self.around(index, "call", 0.2, 5)), enumerate(self.around(index, "put", 0.16, 5))
                )
                for (n, call), (m, put) in pairs:
                    value = -(call[0] + put[0]) / 10_000 if goal is DELTA else call[1] + put[1]
                    every.append((round(abs(value - wish), 9), n + m, n, (call[2], put[2])))
                strikes = tuple(float(item.contract.strike) for item in found.selection.legs)
                self.assertEqual(strikes, min(every)[3])
                moved += min(every)[1] > 0
                (verdict,) = [verdict for key, verdict in found.verdicts if key == "all"]
                self.assertEqual(verdict.truth, TRUE)
                self.assertAlmostEqual(abs(verdict.values["value"] - wish), min(every)[0], places=4)
        self.assertGreater(moved, 3, "the picks alone were not it")

    def test_what_does_not_pass_is_not_taken_while_another_does(self) -> None:
        index = self.instants[0]
        free = self.strangle(index, together(near=5))
        assert free.selection is not None
        credit = sum((item.quote.bid + item.quote.ask) / 40 for item in free.selection.legs)
        more = {"rule": "condition", "left": CREDIT, "is": "above", "right": round(credit + 1, 2)}
        bound = self.strangle(index, together(near=5), more)
        assert bound.selection is not None
        self.assertTrue(bound.entered)
        self.assertNotEqual(bound.selection.legs, free.selection.legs)
        none = self.strangle(index, together(near=5), {**more, "right": 500})
        assert none.selection is not None
        # the nearest says why
        self.assertEqual(none.selection.legs, free.selection.legs)
        self.assertFalse(none.entered)

    def test_no_farther_than_a_pick_allows_and_no_more_than_are_asked_for(self) -> None:
        index = self.instants[0]
        picks = self.strangle(index)
        assert picks.selection is not None
        for bounds in ({"near": 1}, {"near": 9, "most": 1}):
            found = self.strangle(index, together(CREDIT, 500, **bounds))
            assert found.selection is not None
            self.assertEqual(found.selection.legs, picks.selection.legs)
        legs = (
            leg("sell", "call", {**delta(0.2), "within": 0.02}, FIRST),
            leg("sell", "put", {**delta(0.16), "within": 0.02}, SAME),
        )
        narrow = self.decide(index, *legs, checks=[together(CREDIT, 500, near=9)])
        assert narrow.selection is not None
        for item, wanted in zip(narrow.selection.legs, (0.2, 0.16), strict=True):
            self.assertLessEqual(abs(abs(item.quote.delta or 0) / 10_000 - wanted), 0.02)

    def test_of_those_as_near_the_one_nearest_to_the_picks(self) -> None:
        for index in self.instants:
            picks, same = self.strangle(index), self.strangle(index, together({"measure": "price"}, 0, near=4))
            assert picks.selection is not None and same.selection is not None
            self.assertEqual(same.selection.legs, picks.selection.legs)

    def test_over_expirations_legs_that_follow_go_along(self) -> None:
        for index in self.instants:
            later = self.strangle(index, together(CREDIT, 500, near=3, expirations=3))
            alone = self.strangle(index, together(CREDIT, 500, near=3))
            assert later.selection is not None and alone.selection is not None
            call, put = (item.contract for item in later.selection.legs)
            self.assertEqual(call.expiration, put.expiration)
            self.assertGreaterEqual(call.expiration, alone.selection.legs[0].contract.expiration)
        self.assertGreater(call.expiration, alone.selection.legs[0].contract.expiration)

    def test_what_cannot_be_told_is_no_entry(self) -> None:
        found = self.strangle(self.instants[0], together({"measure": "quotient", "first": 1, "second": 0}))
        (verdict,) = [verdict for key, verdict in found.verdicts if key == "all"]
        self.assertEqual((verdict.truth, found.entered), (UNVALUED, False))

    def test_only_one_sentence_may_choose(self) -> None:
        with self.assertRaises(DocumentError) as refused:
            self.strangle(self.instants[0], together(), {**together(), "id": "other"})
        self.assertIn("can stand only once", str(refused.exception))

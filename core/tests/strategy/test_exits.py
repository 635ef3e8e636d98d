"""Exits at their bounds, and the numbers they tell: one position by hand, snapshot by snapshot."""

from __future__ import annotations

import datetime as dt
import unittest
from typing import Any

from strell_core.engine.marks import stretch
from strell_core.engine.plan import make_plan
from strell_core.engine.state import LegState, TradeState
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import PARTS
from strell_core.measures.frames import FALSE, TRUE, UNVALUED
from strell_core.strategy import catalogue, kinds
from strell_core.strategy.document import parse
from tests.engine.variations import days, delta, document, leg
from tests.handmade import instant, session_chains, timeline_of

PUT, CALL, LONG = "2026-10-16/put/3040", "2026-10-16/call/3160", "2026-10-23/put/3000"
ROWS: list[dict[str, Any]] = [
    {"at": "2026-10-05 15:50", "spot": 3100, PUT: "6.00/6.20", CALL: "5.00/5.20", LONG: "4.00/4.20"},
    {"at": "2026-10-06 10:00", "spot": 3120, PUT: "3.00/3.20", CALL: "6.00/6.20", LONG: "2.00/2.20"},
    {"at": "2026-10-06 15:45", "spot": 3060, PUT: "9.00/9.40", CALL: "1.00/1.20", LONG: "0.00/0.10"},
    {"at": "2026-10-06 15:50", "spot": 3060},
    {"at": "2026-10-09 09:05", "spot": 3010, PUT: "31.00/31.60", CALL: "0.05/0.10", LONG: "9.00/9.30"},
    {"at": "2026-10-09 09:10", "spot": 3010},
]
LOOKS = [0, 1, 2, 4]
"""Those that are looked at: neither is the last of its session, on which targets wait."""
POINT = 20 * PARTS


class ExitsTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        catalogue.load()
        cls.timeline = timeline_of(session_chains(ROWS))
        cls.plan = make_plan(
            parse(document("exits", [leg("sell", "put", delta(0.2), days(10, 5, 18))], [])), cls.timeline
        )

    def position(self, *legs: tuple[str, int, float], best: float | None = None, opened: str = "2026-10-05"):
        """Legs as contract, contracts, price in points; the whole history ahead of it."""
        held = tuple(
            LegState(code, ContractKey.parse(code, "MK30"), count, round(price * POINT)) for code, count, price in legs
        )
        opening = -sum(leg.contracts * leg.opened_parts for leg in held)
        day = dt.date.fromisoformat(opened)
        trade = TradeState(
            1, 1, 0, instant(f"{opened} 15:50"), day, held, opening, best=None if best is None else round(best * POINT)
        )
        return stretch(self.plan, trade, self.timeline, 0, len(ROWS))

    def truths(self, rule: str, position: Any, **params: Any) -> list[int]:
        """At every look; and where it is first true from any place on is where it is asked one after another."""
        found = kinds.exits[rule].test(position, params)
        for since in range(len(found) + 1):
            true = (place for place in range(since, len(found)) if found[place] == TRUE)
            self.assertEqual(kinds.exits[rule].first_true(position, params, since), next(true, -1), (rule, since))
        return [int(found[place]) for place in LOOKS]

    def values(self, rule: str, position: Any, place: int, **params: Any) -> dict[str, Any]:
        return kinds.exits[rule].values(position, params, LOOKS[place])

    def test_a_credit_target_counts_what_closing_gives(self) -> None:
        short = self.position((PUT, -1, 6.0))
        # closable: -0.20, 2.80, -3.40, -25.60 of a credit of 6.00
        self.assertEqual(self.truths("credit_target", short, percent=46), [FALSE, TRUE, FALSE, FALSE])
        self.assertEqual(self.truths("credit_target", short, percent=47), [FALSE, FALSE, FALSE, FALSE])
        told = self.values("credit_target", short, 1, percent=46)
        self.assertEqual(told, {"pnl": round(2.8 * POINT), "premium": 6 * POINT, "percent": 46})
        self.assertEqual(self.truths("debit_target", short, percent=1), [UNVALUED] * 4, "it took in a credit")

    def test_a_debit_target_gives_away_what_nobody_bids_for(self) -> None:
        paid = self.position((PUT, 1, 4.0), (LONG, 1, 2.0))
        # closable: 6 + 4 - 6, 3 + 2 - 6, 9 + 0 - 6, 31 + 9 - 6 of a debit of 6.00
        self.assertEqual([int(paid.closable[place]) / POINT for place in LOOKS], [4.0, -1.0, 3.0, 34.0])
        self.assertEqual(self.truths("debit_target", paid, percent=50), [TRUE, FALSE, TRUE, TRUE])
        self.assertEqual(self.truths("debit_target", paid, percent=51), [TRUE, FALSE, FALSE, TRUE])
        self.assertEqual(self.truths("credit_target", paid, percent=1), [UNVALUED] * 4)

    def test_a_stop_counts_at_mid_whichever_way_the_premium_went(self) -> None:
        short = self.position((PUT, -1, 6.0))
        # mid: -0.10, 2.90, -3.20, -25.30
        self.assertEqual(self.truths("premium_stop", short, percent=53), [FALSE, FALSE, TRUE, TRUE])
        self.assertEqual(self.truths("premium_stop", short, percent=54), [FALSE, FALSE, FALSE, TRUE])
        told = self.values("premium_stop", short, 2, percent=53)
        self.assertEqual((told["pnl"], told["loss"]), (round(-3.2 * POINT), round(3.2 * POINT)))
        even = self.position((PUT, -1, 6.0), (CALL, 1, 6.0))
        self.assertEqual(self.truths("premium_stop", even, percent=1), [UNVALUED] * 4, "nothing was taken or paid")

    def test_a_trailing_stop_starts_and_falls_at_its_very_values(self) -> None:
        # mid -0.10, 2.90, -3.20, -25.30 on 6.00: the best is 2.90, 48.33 %
        short = self.position((PUT, -1, 6.0))
        self.assertEqual(self.truths("trailing_profit", short, start=48, back=101), [FALSE, FALSE, TRUE, TRUE])
        self.assertEqual(self.truths("trailing_profit", short, start=49, back=101), [FALSE] * 4)
        known = self.position((PUT, -1, 6.0), best=3.0)
        self.assertEqual(
            self.truths("trailing_profit", known, start=50, back=51), [TRUE, FALSE, TRUE, TRUE], "3.00 is half"
        )
        # from 3.00 to -0.10 are 3.10, 51.67 % of 6.00
        self.assertEqual(self.truths("trailing_profit", known, start=50, back=52)[0], FALSE)
        told = self.values("trailing_profit", known, 0, start=50, back=51)
        self.assertEqual(told, {"pnl": round(-0.1 * POINT), "best": 3 * POINT, "premium": 6 * POINT, "back": 51})

    def test_a_fence_is_reached_at_its_price_and_needs_a_short_leg(self) -> None:
        both = self.position((PUT, -1, 6.0), (CALL, -1, 5.0))
        # 1 % below 3040 is 3009.60, 0.9 % is 3012.64; 1.2 % before 3160 is 3122.08, 1.3 % is 3118.92
        self.assertEqual(self.truths("strike_fence", both, call=5, put=1.0), [FALSE] * 4)
        self.assertEqual(self.truths("strike_fence", both, call=5, put=0.9), [FALSE, FALSE, FALSE, TRUE])
        self.assertEqual(self.truths("strike_fence", both, call=-1.2, put=5), [FALSE] * 4)
        self.assertEqual(self.truths("strike_fence", both, call=-1.3, put=5), [FALSE, TRUE, FALSE, FALSE])
        self.assertEqual(
            self.values("strike_fence", both, 3, call=5, put=0.9),
            {"spot": 3010.0, "fence": 3012.64, "strike": 3040, "right": "put"},
        )
        self.assertEqual(self.values("strike_fence", both, 0, call=5, put=0.9), {"spot": 3100.0})
        bought = self.position((PUT, 1, 6.0))
        self.assertEqual(self.truths("strike_fence", bought, call=-10, put=-10), [UNVALUED] * 4)

    def test_days_before_the_nearest_expiration(self) -> None:
        spread = self.position((PUT, -1, 6.0), (LONG, 1, 4.0))
        # ten days before the 16th is the 6th
        self.assertEqual(self.truths("before_expiration", spread, days=10, time="10:00"), [FALSE, TRUE, TRUE, TRUE])
        self.assertEqual(self.truths("before_expiration", spread, days=10, time="10:01"), [FALSE, FALSE, TRUE, TRUE])
        # twelve days before is a Sunday's eve: the last session before it is the 2nd
        self.assertEqual(self.truths("before_expiration", spread, days=12, time="23:00"), [TRUE] * 4)
        told = self.values("before_expiration", spread, 2, days=10, time="10:00")
        self.assertEqual(told, {"left": 10, "days": 10, "time": "10:00"})

    def test_days_held(self) -> None:
        short = self.position((PUT, -1, 6.0))
        self.assertEqual(self.truths("days_held", short, days=1, time="15:45"), [FALSE, FALSE, TRUE, TRUE])
        self.assertEqual(self.truths("days_held", short, days=4, time="09:06"), [FALSE] * 4)
        self.assertEqual(self.truths("days_held", short, days=4, time="09:05"), [FALSE, FALSE, FALSE, TRUE])
        self.assertEqual(self.values("days_held", short, 3, days=4, time="09:05"), {"held": 4, "days": 4})

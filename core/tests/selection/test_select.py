"""Picks at one instant: nearest, ties, what was passed over, and why nothing was found."""

from __future__ import annotations

import copy
import dataclasses
import datetime as dt
import unittest
from decimal import Decimal
from typing import Any

from strell_core.market.market import Market, Observation
from strell_core.market.timeline import Timeline
from strell_core.measures.frames import FALSE, TRUE, Account, Frame
from strell_core.scenario.generator import MK30
from strell_core.selection.select import Selection, select
from strell_core.strategy.document import parse
from strell_core.strategy.kinds import EntryFrame, structure_conditions
from tests.demo import short_history
from tests.engine.variations import days, delta, document, leg
from tests.handmade import session_chains, timeline_of

DAY = "2026-10-05"


def chain(quotes: dict[str, str], spot: float = 3100) -> Timeline:
    return timeline_of(
        session_chains([{"at": f"{DAY} 15:45", "spot": spot, **quotes}, {"at": f"{DAY} 15:50", "spot": spot}])
    )


def pick(timeline: Timeline, *legs: dict[str, Any], index: int = 0, runners_up: int = 0) -> Selection:
    strategy = parse(document("picks", list(legs), []))
    return select(strategy.entries[0].legs, here(timeline, index), timeline.view(index), runners_up)


def here(timeline: Timeline, index: int) -> Frame:
    return Frame(Market(timeline), index, index + 1, timeline.underlying.symbol)


class StrikeTest(unittest.TestCase):
    def test_nearest_delta_on_the_demo(self) -> None:
        timeline = short_history()
        index = len(timeline.times) - 40
        chosen = pick(timeline, leg("sell", "put", delta(0.2), days(10, 5, 18)), index=index, runners_up=3)
        candidates = chosen.choices[0].candidates
        self.assertEqual([c.rank for c in candidates], [0, 1, 2, 3])
        self.assertEqual(sorted(candidates, key=lambda c: c.distance), list(candidates))
        quote = chosen.legs[0].quote
        self.assertLess(abs(abs(quote.delta or 0) - 2000), 300)

    def test_points_are_those_of_the_instrument_whatever_its_price_step(self) -> None:
        """Quotes of 30 and 150 quanta are 1.50 and 7.50 at a step of 0.05, and 0.30 and 1.50 at one of 0.01."""
        quotes = {"2026-10-16/put/3000": "1.45/1.55", "2026-10-16/put/3040": "7.40/7.60"}
        cheap = {"pick": "nearest_premium", "points": 1.5}
        for quantum, strike, credit in (("0.05", 3000, 1.45), ("0.01", 3040, 1.48)):
            timeline = copy.copy(chain(quotes))
            timeline.underlying = dataclasses.replace(MK30, quantum=Decimal(quantum))
            chosen = pick(timeline, leg("sell", "put", cheap, days(10, 5, 18)))
            self.assertEqual(chosen.legs[0].contract.strike, strike)
            frame = EntryFrame(Observation(timeline, 0), Account(0, 0), "MK30")
            for points, truth in ((credit, TRUE), (credit + 0.05, FALSE)):
                wanted = {"kind": "credit", "points": points}
                verdict = structure_conditions["net_premium"].judge(frame, chosen.legs, timeline.view(0), wanted)
                self.assertEqual((verdict.truth, verdict.values["premium"]), (truth, credit))

    def test_a_quote_that_is_crossed_is_passed_over(self) -> None:
        timeline = chain({"2026-10-16/put/3040": "6.30/6.20", "2026-10-16/put/3030": "5.00/5.20"})
        chosen = pick(timeline, leg("sell", "put", {"pick": "percent_from_spot", "percent": 2}, days(10, 5, 18)))
        self.assertEqual(chosen.legs[0].contract.strike, 3030)

    def test_ties_go_further_out_of_the_money(self) -> None:
        """2 % below 3100 is 3038: 3028 and 3048 are equally near."""
        quotes = {
            f"2026-10-16/{right}/{strike}": "5.00/5.20"
            for right in ("put", "call")
            for strike in (3028, 3048, 3152, 3172)
        }
        percent = {"pick": "percent_from_spot", "percent": 2}
        chosen = pick(chain(quotes), leg("sell", "put", percent, days(10, 5, 18)), leg("sell", "call", percent))
        self.assertEqual([picked.contract.strike for picked in chosen.legs], [3028, 3172])

    def test_strikes_from_the_money_count_listed_strikes(self) -> None:
        timeline = short_history()
        index = len(timeline.times) - 40
        for right, step in (("call", 1), ("put", -1)):
            strikes = [
                pick(timeline, leg("buy", right, {"pick": "strikes_from_money", "strikes": n}, days(10, 5, 18)), index=index)
                .legs[0].contract.strike
                for n in (0, 1, 2)
            ]  # fmt: skip
            self.assertEqual([b - a for a, b in zip(strikes, strikes[1:], strict=False)], [10 * step] * 2)
            self.assertLess(abs(strikes[0] - timeline.view(index).spot / 100), 10)


class ExpirationTest(unittest.TestCase):
    def listed(self) -> Timeline:
        return chain({f"2026-10-{day}/put/3100": "10.00/10.20" for day in ("12", "16", "19", "23", "30")})

    def expiration(self, expiry: dict[str, Any]) -> dt.date | None:
        chosen = pick(self.listed(), leg("sell", "put", {"pick": "percent_from_spot", "percent": 0}, expiry))
        return chosen.legs[0].contract.expiration if chosen.legs else None

    def test_nearest_days_and_the_earlier_of_two(self) -> None:
        self.assertEqual(self.expiration(days(14, 5, 18)), dt.date(2026, 10, 19))
        # the 19th and the 23rd are both two days from 16 days away
        self.assertEqual(self.expiration(days(16, 5, 18)), dt.date(2026, 10, 19))
        self.assertEqual(self.expiration(days(9, 8, 18)), dt.date(2026, 10, 16))

    def test_none_in_the_range_says_so(self) -> None:
        chosen = pick(self.listed(), leg("sell", "put", delta(0.2), days(60, 50, 70)))
        self.assertEqual(chosen.legs, ())
        assert chosen.failed is not None
        self.assertEqual(chosen.failed.message, "no listed expiration fits")

    def test_later_legs_follow_the_first(self) -> None:
        near = leg("sell", "put", {"pick": "percent_from_spot", "percent": 0}, days(7, 5, 8))
        far = leg("buy", "put", {"pick": "percent_from_spot", "percent": 0}, {"pick": "days_after", "days": 10})
        chosen = pick(self.listed(), near, far)
        # ten days after the 12th is the 22nd
        self.assertEqual([p.contract.expiration.day for p in chosen.legs], [12, 23])

    def test_a_leg_without_quotes_ends_the_search_and_says_which(self) -> None:
        timeline = chain({"2026-10-16/put/3040": "6.00/6.20"})
        chosen = pick(
            timeline,
            leg("sell", "put", {"pick": "percent_from_spot", "percent": 2}, days(10, 5, 18)),
            leg("sell", "call", delta(0.2)),
        )
        self.assertEqual(len(chosen.legs), 1)
        assert chosen.failed is not None
        self.assertEqual(chosen.failed.message, "no strike of 16 Oct has the quotes the pick needs")

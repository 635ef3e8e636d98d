"""A stock's today goes on from its history beside the index's, and keeps what is listed."""

from __future__ import annotations

import datetime as dt
import unittest

import numpy as np

from strell_core.scenario.practice import PracticeScenario
from strell_core.scenario.single import NAMES, SingleScenario
from strell_core.scenario.single_practice import (
    UNIT_HALF,
    SinglePractice,
    settings_of,
    single_settings,
    today_of,
    unit_quote,
)
from tests.demo import SHORT

DAY, NEXT = dt.date(2026, 11, 19), dt.date(2026, 11, 20)
HISTORY = 40
UNTIL = dt.date(2026, 12, 18)


def playing(symbol: str, until: dt.date = UNTIL) -> SinglePractice:
    made = today_of(single_settings(SHORT, symbol, HISTORY), until)
    assert isinstance(made, SinglePractice)
    return made


class SinglePracticeTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.today = playing("OSTL")
        cls.session = cls.today.calendar.session(DAY)

    def test_settings_say_whose_today_is_meant(self) -> None:
        self.assertIsInstance(today_of(SHORT.plain(), UNTIL), PracticeScenario)
        self.assertEqual(settings_of(single_settings(SHORT, "OSTL", HISTORY)), SHORT)

    def test_the_history_is_untouched_and_not_played(self) -> None:
        known = SingleScenario(NAMES[1], self.today.market, HISTORY + len(self.today.dates) - self.today.past)
        self.assertEqual(self.today.dates, known.dates)
        np.testing.assert_array_equal(self.today.bars[:HISTORY], self.today.history.bars)
        with self.assertRaisesRegex(ValueError, "is history"):
            self.today.at(self.today.dates[self.today.past - 1], self.session.open)

    def test_a_day_is_the_same_however_far_ahead_one_looks(self) -> None:
        near, second = playing("OSTL", dt.date(2026, 11, 24)), self.session.open + 4_321
        one, other = near.at(DAY, second), self.today.at(DAY, second)
        self.assertEqual(one.contracts, other.contracts)
        np.testing.assert_array_equal(one.bid, other.bid)
        np.testing.assert_array_equal(one.spot, other.spot)

    def test_a_session_lists_the_same_contracts_throughout_and_what_was_listed_before(self) -> None:
        chains = [self.today.at(DAY, self.session.open + after) for after in (1, 9_000, 30_600)]
        self.assertEqual(len({chain.contracts for chain in chains}), 1)
        before = self.today.history.chain(self.today.past - 1)
        self.assertLessEqual(set(before.contracts), set(chains[0].contracts))
        following = self.today.at(NEXT, self.today.calendar.session(NEXT).open + 60)
        alive = {contract for contract in chains[0].contracts if contract.expiration >= NEXT}
        self.assertLessEqual(alive, set(following.contracts))
        self.assertIn(NEXT, following.expirations, "what expires today is traded today")

    def test_what_settles_is_not_quoted_at_its_last_instant(self) -> None:
        close = self.today.calendar.session(NEXT).close
        chain, early = self.today.at(NEXT, close), self.today.at(NEXT, close - 600)
        expiring = [row for row, contract in enumerate(chain.contracts) if contract.expiration == NEXT]
        self.assertTrue(expiring and (chain.bid[expiring] == -1).all())
        self.assertTrue((early.ask[expiring] > 0).all())
        self.assertEqual(chain.settlement, int(chain.spot[0]))

    def test_the_price_goes_with_the_index_and_falls_by_its_dividend(self) -> None:
        moves, own = [], []
        for index, path in self.today.seconds.items():
            market = self.today.market.seconds[self.today.offset + index].spot
            moves.append(np.diff(np.log(market[::600])))
            own.append(np.diff(np.log(path[::600])))
        market_moves, own_moves = np.concatenate(moves), np.concatenate(own)
        slope = float(np.cov(own_moves, market_moves)[0, 1] / np.var(market_moves))
        self.assertAlmostEqual(slope, self.today.name.beta, delta=0.12)
        fund = playing("MDVF")
        ex = next(date for date in fund.dates[fund.past :] if date in fund.dividends)
        place = fund.dates.index(ex)
        night = fund.seconds[place][0] - fund.seconds[place - 1][-1]
        plain = playing("MDVF")
        del plain.dividends[ex]
        without = plain.seconds[place][0] - plain.seconds[place - 1][-1]
        self.assertAlmostEqual(without - night, fund.name.dividend, delta=0.011)

    def test_the_underlying_is_quoted_around_its_price(self) -> None:
        chain = self.today.at(DAY, self.session.open + 5)
        bid, ask, bid_size, ask_size = unit_quote(chain, self.session.open + 5)
        self.assertEqual((bid + ask, ask - bid), (2 * int(chain.spot[0]), 2 * UNIT_HALF))
        self.assertGreaterEqual(min(bid_size, ask_size), 10)

"""Stocks and the fund of the demo: what was put in is read out of the quotes."""

from __future__ import annotations

import dataclasses
import math
import unittest

import numpy as np

from strell_core.formats import cubes
from strell_core.market.chains import decode, encode
from strell_core.market.splits import Split, after
from strell_core.pricing.black import YEAR_SECONDS
from strell_core.pricing.smile import smiles
from strell_core.scenario.generator import Scenario, Settings
from strell_core.scenario.single import NAMES, RHO, STEP, SingleScenario
from strell_core.scenario.smile import total_variance

MARKET = Scenario(Settings(sessions=120, intraday=1))
SCENARIOS = {name.symbol: SingleScenario(name, MARKET, 100) for name in NAMES}


class SingleTest(unittest.TestCase):
    def test_the_volatility_that_was_put_in_comes_out(self) -> None:
        for symbol, scenario in SCENARIOS.items():
            chain = scenario.chain(70)
            now, spot = int(chain.times[0]), int(chain.spot[0]) / 100
            misses = []
            for place, expiration in enumerate(chain.expirations):
                years = (scenario.calendar.session(expiration).close - now) / YEAR_SECONDS
                forward, theta = float(chain.forward[place, 0]), scenario.theta(70, expiration, years)
                for i, contract in enumerate(chain.contracts):
                    near = abs(math.log(float(contract.strike) / spot)) < 1.2 * math.sqrt(theta)
                    if contract.expiration == expiration and contract.right == "call" and near and chain.iv[i, 0]:
                        true = math.sqrt(total_variance(math.log(float(contract.strike) / forward), theta, RHO) / years)
                        misses.append(chain.iv[i, 0] / 1e4 - true)
            self.assertGreater(len(misses), 20, symbol)
            self.assertLess(float(np.median(np.abs(misses))), 0.003, symbol)

    def test_forwards_carry_interest_and_dividends(self) -> None:
        scenario = SCENARIOS["MDVF"]
        chain = scenario.chain(70)
        now, spot = int(chain.times[0]), int(chain.spot[0]) / 100
        paid = 0
        for place, expiration in enumerate(chain.expirations):
            settles = scenario.calendar.session(expiration).close
            years = (settles - now) / YEAR_SECONDS
            known = {d: a for d, a in scenario.dividends.items() if chain.date < d <= expiration}
            paid += len(known)
            worth = sum(
                a * math.exp(-0.021 * (scenario.calendar.session(d).open - now) / YEAR_SECONDS)
                for d, a in known.items()
            )
            wanted = (spot - worth) * math.exp(0.021 * years)
            self.assertAlmostEqual(float(chain.forward[place, 0]), wanted, delta=0.05, msg=str(expiration))
        self.assertGreater(paid, 0)

    def test_curves_meet_quotes_of_american_options_with_dividends(self) -> None:
        calendar = MARKET.calendar
        for symbol in ("MDVF", "OSTL"):
            scenario = SCENARIOS[symbol]
            terms = dataclasses.replace(scenario.name.underlying, dividends=tuple(scenario.dividends.items()))
            timeline = cubes.in_memory([scenario.chain(60), scenario.chain(61)], terms, calendar, symbol)
            found = smiles(timeline.view(1))
            quotes, inside = sum(s.fit.quotes for s in found), sum(s.fit.inside for s in found)
            self.assertGreater(quotes, 100, symbol)
            self.assertGreaterEqual(inside / quotes, 0.95, symbol)

    def test_a_report_ahead_lifts_what_expires_behind_it(self) -> None:
        scenario = SCENARIOS["PLLM"]
        report = next(d for d in scenario.reports if d in scenario.dates[20:])
        index = scenario.dates.index(report)
        before, behind = [d for d in scenario.expirations(scenario.dates[index - 4]) if d < report], None
        behind = next(d for d in scenario.expirations(scenario.dates[index - 4]) if d > report)
        own = scenario.theta(index - 4, behind, 0.05) - scenario.theta(index - 4, report, 0.05)
        self.assertAlmostEqual(own, scenario.name.report_move**2, places=9)
        self.assertTrue(all(d < behind for d in before))
        self.assertAlmostEqual(
            scenario.theta(index + 1, behind, 0.05), scenario.theta(index + 1, report, 0.05), places=12
        )

    def test_the_same_again_and_through_storage(self) -> None:
        again = SingleScenario(NAMES[0], MARKET, 100)
        payload = encode(SCENARIOS["PLLM"].chain(50))
        self.assertEqual(payload, encode(again.chain(50)))
        self.assertEqual(decode(payload).contracts, again.chain(50).contracts)

    def test_what_is_listed(self) -> None:
        fund, stock = SCENARIOS["MDVF"], SCENARIOS["OSTL"]
        self.assertEqual(len(fund.expirations(fund.dates[10])), 5)
        self.assertGreater(len(stock.expirations(stock.dates[10])), 6)
        self.assertEqual(len(stock.dividends), 4, "two a year, as far ahead as options reach")
        high, low = stock.bars[:, 1], stock.bars[:, 2]
        self.assertTrue(
            (high >= stock.bars[:, [0, 3]].max(axis=1)).all() and (low <= stock.bars[:, [0, 3]].min(axis=1)).all()
        )

    def test_what_is_held_over_a_split_goes_on_under_its_new_name(self) -> None:
        split = Split(MARKET.dates[70], 2)
        whole = SingleScenario(dataclasses.replace(NAMES[0], split=None), MARKET, 100)
        scenario = SingleScenario(dataclasses.replace(NAMES[0], split=split), MARKET, 100)
        place = scenario.dates.index(split.date)
        np.testing.assert_allclose(scenario.bars[:place], 2 * whole.bars[:place], atol=0.011)
        np.testing.assert_array_equal(scenario.bars[place:], whole.bars[place:])
        before, now = scenario.chain(place - 1), scenario.chain(place)
        listed = {contract: row for row, contract in enumerate(now.contracts)}
        compared = 0
        for row, contract in enumerate(before.contracts):
            if contract.expiration not in now.expirations:
                continue
            new = listed[after(contract, 2)]
            # two for one, each at half the price but for a day's move; widths and steps are a tick or two
            theirs = sum(int(side[row, 0]) for side in (before.bid, before.ask))
            mine = sum(int(side[new, 0]) for side in (now.bid, now.ask))
            moved = abs(float(before.spot[0]) / 2 - float(now.spot[0]))
            self.assertLess(abs(theirs / 2 - mine) / 2, moved + 0.02 * float(now.spot[0]), contract)
            compared += 1
        self.assertGreater(compared, 300)

    def test_sessions_recorded_while_they_traded_end_at_their_close(self) -> None:
        closes, scenario = SCENARIOS["PLLM"], SingleScenario(NAMES[0], MARKET, 100, intraday=30)
        np.testing.assert_array_equal(scenario.bars[:, [0, 3]], closes.bars[:, [0, 3]])
        index = next(i for i in range(72, 100) if scenario.dates[i] in scenario.offered[i - 1])
        chain, session = scenario.chain(index), scenario.calendar.session(scenario.dates[index])
        self.assertEqual(set(np.diff(chain.times[:-1]).tolist()), {STEP})
        self.assertEqual((int(chain.times[-1]), int(chain.spot[-1])), (session.close, scenario.daily_bar(index)[3]))
        _, high, low, _ = scenario.daily_bar(index)
        self.assertTrue(low <= chain.spot.min() and chain.spot.max() <= high)
        self.assertEqual(chain.expirations[0], chain.date, "what expires today trades until the close")
        today = [row for row, contract in enumerate(chain.contracts) if contract.expiration == chain.date]
        self.assertTrue((chain.ask[today, :-1] > 0).all() and (chain.ask[today, -1] < 0).all())
        # volatility that was put in at noon comes out
        at, misses = len(chain.times) // 2, []
        row = scenario.rows(index)[at]
        for place, expiration in enumerate(chain.expirations[1:], 1):
            years = (scenario.calendar.session(expiration).close - int(chain.times[at])) / YEAR_SECONDS
            theta = scenario.theta(index, expiration, years, float(MARKET.path.variance[row]))
            for i, contract in enumerate(chain.contracts):
                near = abs(math.log(float(contract.strike) / chain.spot[at] * 100)) < 1.2 * math.sqrt(theta)
                if contract.expiration == expiration and contract.right == "call" and near and chain.iv[i, at]:
                    moneyness = math.log(float(contract.strike) / float(chain.forward[place, at]))
                    misses.append(chain.iv[i, at] / 1e4 - math.sqrt(total_variance(moneyness, theta, RHO) / years))
        self.assertGreater(len(misses), 20)
        self.assertLess(float(np.median(np.abs(misses))), 0.003)
        again = SingleScenario(NAMES[0], MARKET, 100, intraday=30).chain(index)
        self.assertEqual(encode(chain), encode(again))
        self.assertEqual(scenario.beside(chain)["bid_size"].shape, chain.bid.shape)

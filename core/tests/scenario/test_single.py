"""Stocks and the fund of the demo: what was put in is read out of the quotes."""

from __future__ import annotations

import dataclasses
import math
import unittest

import numpy as np

from strell_core.formats import cubes
from strell_core.market.chains import decode, encode
from strell_core.pricing.black import YEAR_SECONDS
from strell_core.pricing.smile import smiles
from strell_core.scenario.generator import Scenario, Settings
from strell_core.scenario.single import NAMES, RHO, SingleScenario
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

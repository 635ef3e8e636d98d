"""A covered call over two years of the demo's dividend payers agrees with a plain loop to the cent."""

from __future__ import annotations

import dataclasses
import datetime as dt
import math
import unittest
from decimal import ROUND_HALF_EVEN, Decimal
from typing import Any

from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks, run_steps
from strell_core.market.chains import SessionChain
from strell_core.scenario.generator import Scenario, Settings
from strell_core.scenario.single import NAMES, RATE, SingleScenario
from strell_core.strategy.document import normalise, parse
from tests.handmade import timeline_of

CASH = Decimal(50_000)
SESSIONS = 504


def sheet(symbol: str) -> dict[str, Any]:
    legs = [
        {"rule": "units", "side": "buy", "ratio": 1},
        {"rule": "leg", "side": "sell", "right": "call", "strike": {"pick": "percent_from_spot", "percent": 1.0},
         "expiry": {"pick": "nearest_days", "days": 30, "from": 10, "to": 60}},
    ]  # fmt: skip
    return normalise({
        "name": "covered call", "underlyings": [symbol],
        "entries": [{"when": [{"rule": "decision_times", "weekdays": ["mon", "wed", "fri"], "time": "15:45"}],
                     "conditions": [{"rule": "open_limit", "limit": 1}], "legs": legs,
                     "size": [{"rule": "fixed_lots", "lots": 2}]}],
        "leave": [{"rule": "before_expiration", "days": 0, "time": "15:45"}],
        "orders": [{"rule": "commission", "per_contract": 0.65, "per_order": 1.0}, {"rule": "unit_spread", "points": 0.02}],
    })  # fmt: skip


def cents(value: Decimal) -> Decimal:
    return value.quantize(Decimal("0.01"), ROUND_HALF_EVEN)


class Loop:
    """Two lots of units with a call against each: once a session, dictionaries and loops only."""

    def __init__(self, scenario: SingleScenario, chains: list[SessionChain]) -> None:
        self.scenario, self.chains, self.cash = scenario, chains, CASH
        self.closed: list[tuple[dt.date, dt.date, str, Decimal]] = []
        self.dividends = self.early = 0

    def quote(self, chain: SessionChain, key: tuple[dt.date, str, float]) -> tuple[int, int] | None:
        for row, c in enumerate(chain.contracts):
            if (c.expiration, c.right, float(c.strike)) == key:
                bid, ask = int(chain.bid[row, 0]), int(chain.ask[row, 0])
                return (bid, ask) if 0 <= bid <= ask and ask > 0 else None
        return None

    def pay(self, amount: Decimal) -> None:
        self.cash += cents(amount)

    def run(self) -> None:
        trade: dict[str, Any] | None = None
        for number, chain in enumerate(self.chains):
            spot = Decimal(int(chain.spot[0])) / 100
            if trade and chain.date in self.scenario.dividends and number:
                self.pay(200 * Decimal(str(self.scenario.dividends[chain.date])))
                self.dividends += 1
            leave = trade is not None and trade["call"] is None
            if trade and trade["call"] and chain.date >= trade["call"][0]:
                if spot > Decimal(str(trade["call"][2])):
                    trade = self.away(trade, chain, "assignment")
                else:
                    trade["call"], leave = None, True
            opened = None
            if trade is None and chain.date.weekday() in (0, 2, 4):
                opened = self.pick(chain)
            if trade and leave:
                self.pay(200 * (spot - Decimal("0.02")))
                self.pay(Decimal("-1.00"))
                self.end(trade, chain, "rule")
                trade = None
            if opened:
                key, bid = opened
                trade = {"call": key, "on": chain.date, "before": self.cash}
                self.pay(200 * Decimal(bid) / 100)
                self.pay(-200 * (spot + Decimal("0.02")))
                self.pay(-(2 * Decimal("0.65") + 1))
            if trade and trade["call"] and self.exercised(chain, trade["call"]):
                self.early += 1
                trade = self.away(trade, chain, "assignment")

    def pick(self, chain: SessionChain) -> tuple[tuple[dt.date, str, float], int] | None:
        days = sorted({c.expiration for c in chain.contracts if 10 <= (c.expiration - chain.date).days <= 60},
                      key=lambda e: (abs((e - chain.date).days - 30), e))  # fmt: skip
        if not days:
            return None
        wanted = int(chain.spot[0]) / 100 * 1.01
        strikes = sorted((abs(float(c.strike) - wanted), -float(c.strike))
                         for c in chain.contracts if c.expiration == days[0] and c.right == "call")  # fmt: skip
        key = (days[0], "call", -strikes[0][1])
        quote = self.quote(chain, key)
        return (key, quote[0]) if quote and quote[0] > 0 else None

    def exercised(self, chain: SessionChain, call: tuple[dt.date, str, float]) -> bool:
        calendar, strike = self.scenario.calendar, call[2]
        following = calendar.between(chain.date + dt.timedelta(days=1), chain.date + dt.timedelta(days=9))[0]
        put = self.quote(chain, (call[0], "put", strike))
        if int(chain.spot[0]) / 100 <= strike or following not in self.scenario.dividends or put is None:
            return False
        years = (calendar.session(call[0]).close - int(chain.times[0])) / (365 * 86_400)
        waiting = (put[0] + put[1]) / 200 + strike * (1 - math.exp(-RATE * years))
        return self.scenario.dividends[following] > waiting

    def away(self, trade: dict[str, Any], chain: SessionChain, how: str) -> None:
        self.pay(200 * Decimal(str(trade["call"][2])))
        self.end(trade, chain, how)

    def end(self, trade: dict[str, Any], chain: SessionChain, how: str) -> None:
        self.closed.append((trade["on"], chain.date, how, self.cash - trade["before"]))


class Near(SingleScenario):
    """Only the expirations that the sheet may take: the others take their time to be priced."""

    def expirations(self, date: dt.date) -> list[dt.date]:
        return [expiration for expiration in super().expirations(date) if (expiration - date).days <= 60]


class CoveredCallTest(unittest.TestCase):
    tags = frozenset({"long"})

    def test_two_years_to_the_cent(self) -> None:
        market, seen = Scenario(Settings(sessions=SESSIONS + 20, intraday=1)), {"dividends": 0, "early": 0, "rule": 0}
        for name in (name for name in NAMES if name.dividend):
            with self.subTest(name.symbol):
                scenario = Near(name, market, SESSIONS)
                chains = [scenario.chain(index) for index in range(SESSIONS)]
                plain = Loop(scenario, chains)
                plain.run()
                paid = tuple(sorted(scenario.dividends.items()))
                timeline = timeline_of(chains, underlying=dataclasses.replace(name.underlying, dividends=paid))
                plan, end = make_plan(parse(sheet(name.symbol)), timeline), len(timeline.times)
                for run in (run_steps, run_blocks):
                    history = run(plan, timeline, 0, end, CASH)
                    rules = {"assignment": "assignment"}
                    told = [
                        (timeline.date_at(t.opened_at), timeline.date_at(t.closed_at), rules.get(t.rule, "rule"), t.pnl)
                        for t in history.closed
                    ]
                    self.assertEqual(told, plain.closed)
                    self.assertEqual(history.state.cash, plain.cash)
                seen["dividends"] += plain.dividends
                seen["early"] += plain.early
                seen["rule"] += sum(how == "rule" for _, _, how, _ in plain.closed)
        self.assertGreaterEqual(seen["dividends"], 6)
        self.assertGreaterEqual(seen["early"], 1, "none was assigned on the eve of a dividend")
        self.assertGreaterEqual(seen["rule"], 10)

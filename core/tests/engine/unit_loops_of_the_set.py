"""The strategies of the set that trade a dividend payer, as plain loops: dictionaries, no engine."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any

from strell_core.market.chains import SessionChain
from strell_core.market.timeline import Timeline
from tests.engine.unit_loops import Hedged, Key, Loop, Wheel


class Delta:
    """Picks by delta, as the timeline tells it, of contracts that are quoted."""

    timeline: Timeline | None
    number: int

    def by_delta(
        self, chain: SessionChain, day: dt.date, right: str, wanted: float, within: float = 0.15
    ) -> Key | None:
        assert self.timeline is not None
        found = []
        for c in chain.contracts:
            if (c.expiration, c.right) == (day, right):
                quote = self.timeline.view(self.number).quote(c)
                if quote.valid and quote.delta is not None:
                    away = abs(abs(quote.delta) - round(10_000 * wanted))
                    found.append((away, float(c.strike) * (-1 if right == "call" else 1), float(c.strike)))
        if not found or min(found)[0] > 10_000 * within:
            return None
        return day, right, min(found)[2]


class OnePay:
    """What sheets say that leave costs as they are: 0.80 a contract, a hundredth of a point for units."""

    FEE, ORDER, HALF = Decimal("0.80"), Decimal(0), Decimal("0.01")
    UNIT_FEE = UNIT_ORDER = Decimal(0)
    DAYS = (0, 1, 2, 3, 4)


class CoveredCallOfTheSet(OnePay, Delta, Loop):
    """Not from three sessions before a dividend until it is paid."""

    WINDOW = (30, 14, 50)

    def pick(self, chain: SessionChain) -> tuple[Key, int] | None:
        between, day = self.scenario.calendar.between, dt.timedelta(days=1)
        ahead = [date for date in self.scenario.dividends if date > chain.date]
        behind = [date for date in self.scenario.dividends if date <= chain.date]
        if ahead and len(between(chain.date, min(ahead) - day)) <= 3:
            return None
        if behind and len(between(max(behind), chain.date - day)) <= 0:
            return None
        days = self.expirations(chain)
        key = self.by_delta(chain, days[0], "call", 0.35) if days else None
        quote = self.quote(chain, key) if key else None
        return (key, quote[0]) if key and quote and quote[0] > 0 else None


class WheelOfTheSet(OnePay, Delta, Wheel):
    LOTS, WINDOW = 1, (30, 14, 50)

    def short(self, chain: SessionChain, right: str, times: float) -> tuple[Key, int] | None:
        days = self.expirations(chain)
        key = self.by_delta(chain, days[0], right, 0.3) if days else None
        quote = self.quote(chain, key) if key else None
        return (key, quote[0]) if key and quote and quote[0] > 0 else None


class HedgedOfTheSet(OnePay, Hedged):
    WINDOW, BAND, OUT, TARGET = (30, 18, 50), 100, 10, 40
    START = Decimal(500_000)
    """Capital is no matter."""


class Collar(OnePay, Loop):
    """Units with a put below and a call above, from within twenty sessions of a dividend on."""

    WINDOW = (60, 30, 90)

    def run(self) -> None:
        trade: dict[str, Any] | None = None
        for number, chain in enumerate(self.chains):
            self.number = number
            spot = Decimal(int(chain.spot[0])) / 100
            if trade and trade["units"] and chain.date in self.scenario.dividends and number:
                self.pay(100 * Decimal(str(self.scenario.dividends[chain.date])))
                self.dividends += 1
            leaves = trade is not None and self.due(trade, chain)
            opened = self.legs(chain) if trade is None else None
            if trade and leaves:
                assert chain.date < trade["put"][0], "it would settle"
                quotes = [self.quote(chain, key) for key in (trade["put"], trade["call"]) if key]
                if None not in quotes:
                    put, *call = [quote for quote in quotes if quote is not None]
                    self.pay(Decimal(put[0]))
                    for _, ask in call:
                        self.pay(-Decimal(ask))
                    if trade["units"]:
                        self.pay(100 * (spot - self.HALF))
                    self.pay(-len(quotes) * self.FEE)
                    self.end(trade, chain, "rule")
                    trade = None
            if opened:
                put_key, call_key, ask, bid = opened
                trade = {"put": put_key, "call": call_key, "units": 1, "on": chain.date, "before": self.cash}
                self.pay(-100 * (spot + self.HALF))
                self.pay(-Decimal(ask))
                self.pay(Decimal(bid))
                self.pay(-2 * self.FEE)
            if trade and trade["call"] and self.exercised(chain, trade["call"]):
                # the put stays, with nothing to protect
                self.early += 1
                self.pay(100 * Decimal(str(trade["call"][2])))
                trade["call"], trade["units"] = None, 0

    def due(self, trade: dict[str, Any], chain: SessionChain) -> bool:
        leaving = trade["put"][0] - dt.timedelta(days=3)
        while not self.scenario.calendar.between(leaving, leaving):
            leaving -= dt.timedelta(days=1)
        return bool(chain.date >= leaving)

    def legs(self, chain: SessionChain) -> tuple[Key, Key, int, int] | None:
        ahead = [date for date in self.scenario.dividends if date > chain.date]
        if not ahead or len(self.scenario.calendar.between(chain.date, min(ahead) - dt.timedelta(days=1))) > 20:
            return None
        days = self.expirations(chain)
        if not days:
            return None
        keys = []
        for right, times, out in (("put", 0.95, 1), ("call", 1.05, -1)):
            wanted = int(chain.spot[0]) / 100 * times
            strikes = [(abs(float(c.strike) - wanted), out * float(c.strike)) for c in chain.contracts
                       if (c.expiration, c.right) == (days[0], right) and self.quote(chain, (days[0], right, float(c.strike)))]  # fmt: skip
            if not strikes:
                return None
            keys.append((days[0], right, out * min(strikes)[1]))
        put, call = (self.quote(chain, key) for key in keys)
        return (keys[0], keys[1], put[1], call[0]) if put and call and call[0] > 0 else None

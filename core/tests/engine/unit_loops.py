"""Covered calls, the wheel and hedged straddles as plain loops over a dividend payer's closes: dictionaries, no engine."""

from __future__ import annotations

import datetime as dt
import math
from decimal import ROUND_HALF_EVEN, Decimal
from typing import Any

from strell_core.market.chains import SessionChain
from strell_core.market.instruments import ContractKey
from strell_core.market.timeline import Timeline
from strell_core.scenario.single import RATE, SingleScenario
from strell_core.strategy.document import normalise

CASH = Decimal(50_000)
Key = tuple[dt.date, str, float]
WINDOW = {"pick": "nearest_days", "days": 20, "from": 10, "to": 60}


def covered_call(symbol: str) -> dict[str, Any]:
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
        "orders": [
            {"rule": "commission", "per_contract": 0.65, "per_order": 1.0}, {"rule": "unit_spread", "points": 0.02},
            {"rule": "unit_commission", "per_unit": 0.005, "per_order": 0.35},
        ],
    })  # fmt: skip


def cents(value: Decimal) -> Decimal:
    return value.quantize(Decimal("0.01"), ROUND_HALF_EVEN)


class Loop:
    """Lots of units with a call against each: once a session, dictionaries and loops only."""

    LOTS, FEE, ORDER, HALF = 2, Decimal("0.65"), Decimal("1.00"), Decimal("0.02")
    UNIT_FEE, UNIT_ORDER = Decimal("0.005"), Decimal("0.35")
    DAYS: tuple[int, ...] = (0, 2, 4)
    WINDOW = (30, 10, 60)
    number = 0
    """Of the session."""
    START = CASH

    def __init__(self, scenario: SingleScenario, chains: list[SessionChain]) -> None:
        self.scenario, self.chains, self.cash = scenario, chains, self.START
        self.closed: list[tuple[dt.date, dt.date, str, Decimal]] = []
        self.dividends = self.early = 0
        self.timeline: Timeline | None = None
        """Whose deltas a hedge goes by."""

    def quote(self, chain: SessionChain, key: tuple[dt.date, str, float]) -> tuple[int, int] | None:
        for row, c in enumerate(chain.contracts):
            if (c.expiration, c.right, float(c.strike)) == key:
                bid, ask = int(chain.bid[row, 0]), int(chain.ask[row, 0])
                return (bid, ask) if 0 <= bid <= ask and ask > 0 else None
        return None

    def of_units(self, units: int) -> Decimal:
        """What an order in so many units costs."""
        return self.UNIT_FEE * abs(units) + self.UNIT_ORDER if units else Decimal(0)

    def pay(self, amount: Decimal) -> None:
        self.cash += cents(amount)

    def run(self) -> None:
        trade: dict[str, Any] | None = None
        for number, chain in enumerate(self.chains):
            self.number = number
            spot = Decimal(int(chain.spot[0])) / 100
            if trade and chain.date in self.scenario.dividends and number:
                self.pay(100 * self.LOTS * Decimal(str(self.scenario.dividends[chain.date])))
                self.dividends += 1
            leave = trade is not None and trade["call"] is None
            known = True
            if trade and trade["call"] and chain.date >= trade["call"][0]:
                if spot > Decimal(str(trade["call"][2])):
                    # who delivered knows of it the next morning
                    trade, known = self.away(trade, chain, "assignment"), False
                else:
                    trade["call"], leave = None, True
            opened = None
            if trade is None and known and chain.date.weekday() in self.DAYS:
                opened = self.pick(chain)
            if trade and leave:
                self.pay(100 * self.LOTS * (spot - self.HALF))
                self.pay(-self.of_units(100 * self.LOTS))
                self.end(trade, chain, "rule")
                trade = None
            if opened:
                key, bid = opened
                trade = {"call": key, "on": chain.date, "before": self.cash}
                self.pay(100 * self.LOTS * Decimal(bid) / 100)
                self.pay(-100 * self.LOTS * (spot + self.HALF))
                self.pay(-(self.LOTS * self.FEE + self.ORDER + self.of_units(100 * self.LOTS)))
            if trade and trade["call"] and self.exercised(chain, trade["call"]):
                self.early += 1
                trade = self.away(trade, chain, "assignment")

    def expirations(self, chain: SessionChain) -> list[dt.date]:
        """Those within the window, nearest to what is wanted first."""
        wanted, low, high = self.WINDOW
        found = {c.expiration for c in chain.contracts if low <= (c.expiration - chain.date).days <= high}
        return sorted(found, key=lambda e: (abs((e - chain.date).days - wanted), e))

    def pick(self, chain: SessionChain) -> tuple[tuple[dt.date, str, float], int] | None:
        days = self.expirations(chain)
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
        self.pay(100 * self.LOTS * Decimal(str(trade["call"][2])))
        self.end(trade, chain, how)

    def end(self, trade: dict[str, Any], chain: SessionChain, how: str) -> None:
        self.closed.append((trade["on"], chain.date, how, self.cash - trade["before"]))


def wheel(symbol: str) -> dict[str, Any]:
    legs = [
        {"rule": "leg", "id": "put", "side": "sell", "right": "put", "expiry": WINDOW,
         "strike": {"pick": "percent_from_spot", "percent": 1.0}},
        {"rule": "kept_units", "id": "shares"},
        {"rule": "later_leg", "id": "call", "side": "sell", "right": "call", "expiry": WINDOW,
         "strike": {"pick": "percent_from_spot", "percent": 2.0}},
    ]  # fmt: skip
    opens = {
        "rule": "open_leg",
        "left": {"measure": "leg_contracts", "leg": "shares"},
        "is": "above",
        "right": 0,
        "what": "call",
    }
    return normalise({
        "name": "wheel", "underlyings": [symbol],
        "entries": [{"when": [{"rule": "decision_times", "weekdays": ["mon", "wed", "fri"], "time": "15:45"}],
                     "conditions": [{"rule": "open_limit", "limit": 1}], "legs": legs, "adjust": [opens],
                     "size": [{"rule": "fixed_lots", "lots": 2}]}],
        "orders": [{"rule": "commission", "per_contract": 0.65, "per_order": 1.0}],
    })  # fmt: skip


class Wheel(Loop):
    """The short option there is, whether units are held; once a session."""

    WINDOW = (20, 10, 60)

    def run(self) -> None:
        trade: dict[str, Any] | None = None
        self.calls, self.rounds = 0, 0
        for number, chain in enumerate(self.chains):
            self.number = number
            if trade and trade["held"] and chain.date in self.scenario.dividends and number:
                self.pay(100 * self.LOTS * Decimal(str(self.scenario.dividends[chain.date])))
                self.dividends += 1
            before = trade and trade["held"], self.rounds
            if trade and trade["short"] and chain.date >= trade["short"][0]:
                trade = self.expired(trade, chain)
            sold = None
            # what was delivered is known the next morning
            known = trade is None or before[0] == trade["held"]
            if chain.date.weekday() in self.DAYS and known and before[1] == self.rounds:
                if trade is None:
                    sold = self.short(chain, "put", 0.99)
                elif trade["held"] and trade["short"] is None:
                    sold = self.short(chain, "call", 1.02)
            if sold is not None:
                key, bid = sold
                if trade is None:
                    trade = {"held": False, "on": chain.date, "before": self.cash}
                trade["short"] = key
                self.calls += key[1] == "call"
                self.pay(100 * self.LOTS * Decimal(bid) / 100)
                self.pay(-(self.LOTS * self.FEE + self.ORDER))
            if trade and trade["short"] and self.early_exercise(chain, trade["short"]):
                self.early += 1
                trade = self.delivered(trade, chain)

    def short(self, chain: SessionChain, right: str, times: float) -> tuple[Key, int] | None:
        days = self.expirations(chain)
        if not days:
            return None
        wanted, out = int(chain.spot[0]) / 100 * times, -1 if right == "call" else 1
        strikes = sorted((abs(float(c.strike) - wanted), out * float(c.strike))
                         for c in chain.contracts if c.expiration == days[0] and c.right == right)  # fmt: skip
        key = (days[0], right, out * strikes[0][1])
        quote = self.quote(chain, key)
        return (key, quote[0]) if quote and quote[0] > 0 else None

    def expired(self, trade: dict[str, Any], chain: SessionChain) -> dict[str, Any] | None:
        spot, (_, right, strike) = int(chain.spot[0]) / 100, trade["short"]
        if (spot > strike) if right == "call" else (spot < strike):
            return self.delivered(trade, chain)
        trade["short"] = None
        if trade["held"]:
            return trade
        self.end(trade, chain, "settlement")
        return None

    def delivered(self, trade: dict[str, Any], chain: SessionChain) -> dict[str, Any] | None:
        _, right, strike = trade["short"]
        self.pay(100 * self.LOTS * Decimal(str(strike)) * (1 if right == "call" else -1))
        trade["short"], trade["held"] = None, right == "put"
        if trade["held"]:
            return trade
        self.rounds += 1
        self.end(trade, chain, "assignment")
        return None

    def early_exercise(self, chain: SessionChain, key: Key) -> bool:
        if key[1] == "call":
            return self.exercised(chain, key)
        quote, inside = self.quote(chain, key), key[2] - int(chain.spot[0]) / 100
        return quote is not None and inside > 0 and (quote[0] + quote[1]) / 200 <= inside + 0.005 + 1e-9


def hedged(symbol: str, band: float = 60.0, of: str | None = None) -> dict[str, Any]:
    legs = [
        {"rule": "leg", "id": right, "side": "buy", "right": right, "expiry": WINDOW,
         "strike": {"pick": "percent_from_spot", "percent": 0.0}}
        for right in ("call", "put")
    ]  # fmt: skip
    every_day = [{"rule": "decision_times", "weekdays": ["mon", "tue", "wed", "thu", "fri"], "time": "15:45"}]
    return normalise({
        "name": "hedged straddle", "underlyings": [symbol],
        "entries": [{"when": every_day, "conditions": [{"rule": "open_limit", "limit": 1}], "legs": legs,
                     "adjust": [{"rule": "hedge", "band": band, "of": of, "to": 0.0}], "size": [{"rule": "fixed_lots", "lots": 10}]}],
        "leave": [{"rule": "before_expiration", "days": 9, "time": "15:45"}],
        "limits": [{"rule": "capital", "entries": "allow", "below": "report"}],
        "orders": [
            {"rule": "commission", "per_contract": 0.65, "per_order": 1.0}, {"rule": "unit_spread", "points": 0.02},
            {"rule": "unit_commission", "per_unit": 0.005, "per_order": 0.35},
        ],
    })  # fmt: skip


def hedged_by_share(symbol: str) -> dict[str, Any]:
    return hedged(symbol, 12.5, "options")


class Hedged(Loop):
    """Ten straddles, long; units of the underlying one by one against their delta, once a session."""

    WINDOW, OUT = (20, 10, 60), 9
    BAND: float = 60
    SHARE: float | None = None
    """Of the options' deltas without their signs, in percent, instead of the band in money."""
    TARGET: int | None = None
    """Of the debit, in percent."""

    def run(self) -> None:
        trade: dict[str, Any] | None = None
        self.deals, self.turned, self.waits = 0, 0, 0
        for number, chain in enumerate(self.chains):
            self.number = number
            spot = Decimal(int(chain.spot[0])) / 100
            if trade and trade["units"] and chain.date in self.scenario.dividends and number:
                self.pay(trade["units"] * Decimal(str(self.scenario.dividends[chain.date])))
                self.dividends += 1
            was_flat, leaves, deal = trade is None, trade is not None and self.leaving(trade, chain, spot), 0
            if trade and not leaves:
                deal = self.wanted(trade, number)
            picked = [self.at_the_money(chain, right) for right in ("call", "put")] if was_flat else []
            quotes = [self.quote(chain, key) for key in trade["keys"]] if trade and leaves else [None]
            if trade and None not in quotes:
                for bid, _ in filter(None, quotes):
                    self.pay(1000 * Decimal(bid) / 100)
                units = trade["units"]
                self.pay(units * (spot - self.HALF if units > 0 else spot + self.HALF))
                self.cost(trade, 20 * self.FEE + self.ORDER + self.of_units(units))
                self.end(trade, chain, "rule")
                trade = None
            if trade and leaves:
                self.waits += 1
                assert chain.date < trade["keys"][0][0], "it would be exercised"
            if trade and deal:
                self.pay(-deal * (spot + self.HALF if deal > 0 else spot - self.HALF))
                self.cost(trade, self.of_units(deal))
                self.deals += 1
                self.turned += trade["units"] * (trade["units"] + deal) < 0
                trade["units"] += deal
            if was_flat and all(picked):
                trade = {
                    "keys": picked,
                    "units": 0,
                    "on": chain.date,
                    "before": self.cash,
                    "costs": Decimal(0),
                    "left": False,
                }
                for key in picked:
                    assert key is not None
                    _, ask = self.quote(chain, key) or (0, 0)
                    self.pay(-1000 * Decimal(ask) / 100)
                trade["debit"] = trade["before"] - self.cash
                self.cost(trade, 20 * self.FEE + self.ORDER)

    def cost(self, trade: dict[str, Any], amount: Decimal) -> None:
        self.pay(-amount)
        trade["costs"] += cents(amount)

    def leaving(self, trade: dict[str, Any], chain: SessionChain, spot: Decimal) -> bool:
        """Whether it is left, now or since before: a decision to leave stays."""
        trade["left"] = trade["left"] or self.over(trade, chain) or self.reached(trade, chain, spot)
        return bool(trade["left"])

    def reached(self, trade: dict[str, Any], chain: SessionChain, spot: Decimal) -> bool:
        quotes = [self.quote(chain, key) for key in trade["keys"]]
        known = [quote for quote in quotes if quote is not None]
        if self.TARGET is None or len(known) < len(quotes):
            return False
        units = trade["units"]
        closable = sum(10 * bid for bid, _ in known) + units * (spot - self.HALF if units > 0 else spot + self.HALF)
        made = self.cash - trade["before"] + trade["costs"] + closable
        wide = 100 * sum(10 * (ask - bid) for bid, ask in known) > 50 * trade["debit"]
        return bool(100 * made >= self.TARGET * trade["debit"] and not wide)

    def over(self, trade: dict[str, Any], chain: SessionChain) -> bool:
        leaving = trade["keys"][0][0] - dt.timedelta(days=self.OUT)
        while not self.scenario.calendar.between(leaving, leaving):
            leaving -= dt.timedelta(days=1)
        return bool(chain.date >= leaving)

    def at_the_money(self, chain: SessionChain, right: str) -> Key | None:
        days = self.expirations(chain)
        if not days:
            return None
        spot, out = int(chain.spot[0]) / 100, -1 if right == "call" else 1
        quoted = [(abs(float(c.strike) - spot), out * float(c.strike)) for c in chain.contracts
                  if c.expiration == days[0] and c.right == right and self.quote(chain, (days[0], right, float(c.strike)))]  # fmt: skip
        return days[0], right, out * min(quoted)[1]

    def wanted(self, trade: dict[str, Any], number: int) -> int:
        """Units to deal in: delta is at most the band away from nothing, or comes nearest to it."""
        assert self.timeline is not None
        deltas = []
        for expiration, right, strike in trade["keys"]:
            contract = ContractKey(expiration, right, strike, self.timeline.underlying.symbol)
            deltas.append(self.timeline.view(number).quote(contract).delta)
        if None in deltas:
            return 0
        units = sum(delta for delta in deltas if delta is not None) / 10 + trade["units"]
        gross = sum(abs(delta) for delta in deltas if delta is not None) / 10
        if round(abs(units), 4) <= (self.BAND if self.SHARE is None else round(gross * self.SHARE / 100, 4)):
            return 0
        steps = math.ceil(round(abs(units), 4) - 0.5)
        return -steps if units > 0 else steps


class HedgedByShare(Hedged):
    SHARE = 12.5

"""A second implementation of the engine, written from docs/engine-semantics.md, as plain as possible.

Dictionaries and loops only; nothing of the engine, selection, measures or pricing rooms is used. It
reads session chains directly, never the cubes. It is slow and that is fine: it is here to disagree.
"""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Sequence
from decimal import ROUND_HALF_EVEN, Decimal
from fractions import Fraction
from typing import Any

import numpy as np
from scipy.optimize import linear_sum_assignment

from strell_core.market.chains import SessionChain

QUANTUM, MULTIPLIER = Fraction(1, 20), 50
LISBON = "Europe/Lisbon"
DAYS = ["mon", "tue", "wed", "thu", "fri"]
Contract = tuple[dt.date, str, int]


def cents(value: Fraction) -> Decimal:
    """Money rounded half-even to cents."""
    exact = Decimal(value.numerator) / Decimal(value.denominator)
    return exact.quantize(Decimal("0.01"), rounding=ROUND_HALF_EVEN)


def clock(text: str) -> int:
    hours, minutes = text.split(":")
    return int(hours) * 60 + int(minutes)


def local(at: int) -> dt.datetime:
    from zoneinfo import ZoneInfo

    return dt.datetime.fromtimestamp(at, ZoneInfo(LISBON))


def minute(at: int) -> int:
    return local(at).hour * 60 + local(at).minute


def normal(x: float) -> float:
    return 0.5 * math.erfc(-x / math.sqrt(2))


ABSENT: Any = "absent"


def compares(rule: dict[str, Any], left: Any, right: Any) -> bool:
    """Whether two values compare as a sentence says; what is unvalued or absent does not."""
    if left is None or right is None or left is ABSENT or right is ABSENT:
        return False
    away = round(left - right, 9)
    return {
        "above": away > 0, "below": away < 0, "at least": away >= 0, "at most": away <= 0, "equal": away == 0,
    }[rule["is"]]  # fmt: skip


class Recording:
    """Session chains by date, quotes by contract."""

    def __init__(self, chains: Sequence[SessionChain], closes: dict[dt.date, int], rate: float) -> None:
        self.chains, self.closes, self.rate = list(chains), closes, rate
        self.dates = [chain.date for chain in self.chains]
        self.rows = [
            {(c.expiration, c.right, c.strike): i for i, c in enumerate(chain.contracts)} for chain in self.chains
        ]
        self.by_date = {date: number for number, date in enumerate(self.dates)}
        self.atm = [self._atm(chain) for chain in self.chains]
        self.minutes = [[minute(int(at)) for at in chain.times] for chain in self.chains]

    def quote(self, contract: Contract, session: int, snap: int) -> tuple[int, int] | None:
        """Bid and ask in ticks if they may be used: bid ≥ 0, ask > 0, bid ≤ ask."""
        row = self.rows[session].get(contract)
        if row is None:
            return None
        bid, ask = int(self.chains[session].bid[row, snap]), int(self.chains[session].ask[row, snap])
        return (bid, ask) if bid >= 0 and ask > 0 and bid <= ask else None

    def delta(self, contract: Contract, session: int, snap: int) -> int | None:
        """Delta in 0.0001, from the stored IV and forward."""
        chain = self.chains[session]
        iv = int(chain.iv[self.rows[session][contract], snap]) / 10_000
        forward = float(chain.forward[chain.expirations.index(contract[0]), snap])
        if iv == 0 or not forward > 0:
            return None
        years = (self.closes[contract[0]] - int(chain.times[snap])) / (365 * 86_400)
        sign = 1 if contract[1] == "call" else -1
        d1 = math.log(forward / contract[2]) / (iv * math.sqrt(years)) + iv * math.sqrt(years) / 2
        return round(10_000 * sign * math.exp(-self.rate * years) * normal(sign * d1))

    def _atm(self, chain: SessionChain) -> float | None:
        if not chain.expirations:
            return None
        target = min(chain.expirations, key=lambda e: (abs((e - chain.date).days - 30), e))
        forward = float(chain.forward[chain.expirations.index(target), -1])
        best: tuple[float, int] | None = None
        for i, c in enumerate(chain.contracts):
            if c.expiration == target and c.right == "call" and chain.iv[i, -1] > 0:
                away = abs(c.strike - forward)
                if best is None or away < best[0]:
                    best = (away, i)
        return None if best is None else int(chain.iv[best[1], -1]) / 100


ONE_ORDER_A_TRADE = {
    "leg_condition",
    "leg_condition_stop",
    "leg_condition_partner",
    "condition_share",
    "condition_again",
}
"""Exits after which a trade goes on: the second implementation has one closing order a trade, and no adjustments."""
NOT_PLAIN = {"move_chance", "term_slope", "iv_now", "realised_volatility"}
"""Measures that are checked by themselves (:mod:`tests.measures`), and not written again here."""


def measured(value: Any) -> set[str]:
    """Every measure, comparison and rule that is named anywhere in a document."""
    if isinstance(value, dict):
        own = {str(value[key]) for key in ("measure", "is", "rule") if key in value}
        return own.union(*map(measured, value.values()))
    return set().union(*map(measured, value)) if isinstance(value, list) else set()


def plainly(document: dict[str, Any]) -> bool:
    """Whether the second implementation knows all that a document says."""
    adjusts = document["adjust"] or any(entry["adjust"] for entry in document["entries"])
    named = measured(document)
    return not adjusts and not named & (ONE_ORDER_A_TRADE | NOT_PLAIN | {"crosses above", "crosses below"})


class Reference:
    """Runs one normalised strategy document over a recording."""

    def __init__(self, document: dict[str, Any], recording: Recording, cash: Decimal) -> None:
        self.recording, self.cash, self.next = recording, cash, 1
        self.entries = [
            {name: [r for r in entry[name] if not r.get("off")] for name in entry if name not in ("id", "underlying")}
            for entry in document["entries"]
        ]
        for entry in self.entries:
            points = [
                Fraction(str(r["points"]))
                for r in entry["checks"]
                if r["rule"] == "net_premium" and r["kind"] == "credit"
            ]
            entry["credit"] = max(points, default=None)
        self.limit = next((r for r in document["limits"] if not r.get("off")), {})
        self.refuses = self.limit.get("entries", "refuse") == "refuse"
        common = [r for r in document["leave"] if not r.get("off")]
        for entry in self.entries:
            every = [*common, *entry["leave"]]
            entry["leaves"] = [r for r in every if self.is_loss(r)] + [r for r in every if not self.is_loss(r)]
        self.set = {r["rule"]: r for r in document["orders"] if not r.get("off")}
        self.open: list[dict[str, Any]] = []
        self.orders: list[dict[str, Any]] = []
        self.closed: list[dict[str, Any]] = []
        self.decisions: list[tuple[int, str, str]] = []

    def run(self) -> None:
        for session, chain in enumerate(self.recording.chains):
            single = len(chain.times) == 1
            for snap in range(len(chain.times)):
                self.at = int(chain.times[snap])
                self.session, self.snap, self.single = session, snap, single
                self.last = snap == len(chain.times) - 1 and not single
                self.settle()
                for order in [o for o in self.orders if o["at"] < self.at]:
                    prices = self.fill_prices(order)
                    if prices:
                        self.fill(order, prices)
                self.lapse()
                self.mark()
                self.call()
                self.exits()
                for entry in self.entries:
                    self.enter(entry)
                if single:
                    for order in list(self.orders):
                        prices = self.fill_prices(order)
                        if prices:
                            self.fill(order, prices)
                    self.mark()

    # -- rule 10
    def settle(self) -> None:
        for trade in list(self.open):
            due = [leg for leg in trade["legs"] if self.settled_value(leg["contract"]) is not None]
            for order in [o for o in self.orders if o["trade"] == trade["number"]]:
                order["legs"] = [(contract, n) for contract, n in order["legs"] if not self.over(contract)]
                if not order["legs"]:
                    self.orders.remove(order)
            for leg in due:
                _, right, strike = leg["contract"]
                spot = Fraction(self.settled_value(leg["contract"]), 100)
                worth = max(Fraction(0), spot - strike if right == "call" else strike - spot)
                self.close_leg(trade, leg, worth / QUANTUM)
            if due and not trade["legs"]:
                self.finish(trade, "settlement", self.at)

    def over(self, contract: Contract) -> bool:
        return self.at >= self.recording.closes[contract[0]]

    def settled_value(self, contract: Contract) -> int | None:
        number = self.recording.by_date.get(contract[0])
        if number is None or not self.over(contract):
            return None
        return self.recording.chains[number].settlement

    def close_leg(self, trade: dict[str, Any], leg: dict[str, Any], price: Fraction) -> None:
        trade["legs"].remove(leg)
        trade["gone"].append({**leg, "out": price})
        trade["realised"] += leg["n"] * (price - leg["in"])
        self.pay(trade, cents(leg["n"] * price * QUANTUM * MULTIPLIER))

    def pay(self, trade: dict[str, Any], amount: Decimal) -> None:
        self.cash += amount
        trade["cash"] += amount

    def finish(self, trade: dict[str, Any], rule: str, left: int) -> None:
        self.open.remove(trade)
        self.closed.append({**trade, "rule": rule, "left": left, "closed": self.at})

    # -- rule 8
    def fill_prices(self, order: dict[str, Any]) -> list[Fraction] | None:
        if order["kind"] == "open" and order["session"] != self.session:
            return None
        share = Fraction(self.set.get("fill_model", {"share": 100})["share"], 100)
        if order["kind"] == "close" and order["loss"]:
            share = Fraction(1)
        out = []
        for contract, n in order["legs"]:
            quote = self.recording.quote(contract, self.session, self.snap)
            if quote is None or (n < 0 and quote[0] == 0 and order["kind"] == "open"):
                return None
            if n < 0 and quote[0] == 0:
                out.append(Fraction(0))
                continue
            mid, half = Fraction(quote[0] + quote[1], 2), Fraction(quote[1] - quote[0], 2)
            out.append(mid + share * half * (1 if n > 0 else -1))
        if order["kind"] == "open" and order["entry"]["credit"] is not None:
            brought = sum((-n * price for (_, n), price in zip(order["legs"], out, strict=True)), Fraction(0)) * QUANTUM
            if brought < order["entry"]["credit"] * order["lots"]:
                return None
        return out

    def fill(self, order: dict[str, Any], prices: list[Fraction]) -> None:
        self.orders.remove(order)
        costs = self.set.get("commission", {"per_contract": 0.8, "per_order": 0})
        fee = Fraction(str(costs["per_contract"])) * sum(abs(n) for _, n in order["legs"]) + Fraction(
            str(costs["per_order"])
        )
        if order["kind"] == "open":
            trade = {"number": order["trade"], "opened": self.at, "legs": [], "gone": [], "realised": Fraction(0),
                     "cash": Decimal(0), "best": None, "decided": order["at"], "entry": order["entry"],
                     "spot": int(self.recording.chains[self.session].spot[self.snap])}  # fmt: skip
            trade["premium"] = -sum((n * p for (_, n), p in zip(order["legs"], prices, strict=True)), Fraction(0))
            for (contract, n), price, name in zip(order["legs"], prices, order["ids"], strict=True):
                trade["legs"].append({"contract": contract, "n": n, "in": price, "id": name})
                self.pay(trade, cents(-n * price * QUANTUM * MULTIPLIER))
            self.pay(trade, -cents(fee))
            self.open.append(trade)
            return
        trade = next(t for t in self.open if t["number"] == order["trade"])
        told = dict(zip(order["legs"], prices, strict=True))
        for leg in list(trade["legs"]):
            price = told.get((leg["contract"], -leg["n"]))
            if price is not None:
                self.close_leg(trade, leg, price)
        self.pay(trade, -cents(fee))
        if trade["legs"]:
            return
        self.finish(trade, order["rule"], order["at"])

    def lapse(self) -> None:
        self.orders = [
            o for o in self.orders if o["kind"] == "close" or (not self.last and o["session"] == self.session)
        ]

    # -- rules 3, 5, 9
    def mark(self) -> None:
        for trade in self.open:
            quotes = [self.recording.quote(leg["contract"], self.session, self.snap) for leg in trade["legs"]]
            trade["mid"] = trade["close"] = None
            trade["width"] = 0
            for leg, quote in zip(trade["legs"], quotes, strict=True):
                leg["last"] = quote or leg.get("last")
            if all(quotes):
                pairs = [(leg["n"], q) for leg, q in zip(trade["legs"], quotes, strict=True) if q]
                made = trade["realised"] - sum(leg["n"] * leg["in"] for leg in trade["legs"])
                trade["mid"] = made + Fraction(sum(n * (q[0] + q[1]) for n, q in pairs), 2)
                trade["width"] = sum(abs(n) * (q[1] - q[0]) for n, q in pairs)
                trade["close"] = made + sum(n * (q[1] if n < 0 else q[0]) for n, q in pairs)
                if trade["best"] is None or trade["mid"] > trade["best"]:
                    trade["best"] = trade["mid"]

    # -- rule 7
    def exits(self) -> None:
        for trade in list(self.open):
            if any(o["trade"] == trade["number"] for o in self.orders):
                continue
            there = [leg for leg in trade["legs"] if not self.over(leg["contract"])]
            if not there:
                continue
            rule = next((r for r in trade["entry"]["leaves"] if self.leaves(r, trade)), None)
            if rule:
                legs = [(leg["contract"], -leg["n"]) for leg in there]
                self.orders.append({"kind": "close", "trade": trade["number"], "legs": legs, "at": self.at,
                                    "session": self.session, "rule": rule["id"],
                                    "loss": self.is_loss(rule)})  # fmt: skip

    @staticmethod
    def is_loss(rule: dict[str, Any]) -> bool:
        return rule["rule"] in ("premium_stop", "strike_fence", "profit_floor") or rule.get("as") == "loss"

    def doubtful(self, trade: dict[str, Any]) -> bool:
        marks = self.set.get("doubtful_marks", {"percent": 50, "last": "wait"})
        wide = 100 * trade["width"] > marks["percent"] * abs(trade["premium"])
        return bool(wide or (marks["last"] == "wait" and self.last))

    def leaves(self, rule: dict[str, Any], trade: dict[str, Any]) -> bool:
        kind, premium = rule["rule"], trade["premium"]
        today, now = self.recording.dates[self.session], self.recording.minutes[self.session][self.snap]
        if kind in ("credit_target", "debit_target"):
            side = premium > 0 if kind == "credit_target" else premium < 0
            return bool(
                side
                and trade["close"] is not None
                and not self.doubtful(trade)
                and 100 * trade["close"] >= rule["percent"] * abs(premium)
            )
        if kind == "condition":
            held = compares(rule, self.value(rule["left"], trade=trade), self.value(rule["right"], trade=trade))
            return held and not (rule["as"] == "profit" and self.doubtful(trade))
        if kind == "profit_floor":
            best, mid = trade["best"], trade["mid"]
            if premium == 0 or mid is None or 100 * best < rule["start"] * abs(premium):
                return False
            steps = (100 * best - rule["start"] * abs(premium)) // (rule["step"] * abs(premium))
            return bool(100 * mid <= (rule["floor"] + steps * rule["step"]) * abs(premium))
        if kind == "premium_stop":
            return premium != 0 and trade["mid"] is not None and -100 * trade["mid"] >= rule["percent"] * abs(premium)
        if kind == "trailing_profit":
            return (
                premium != 0 and trade["mid"] is not None and 100 * trade["best"] >= rule["start"] * abs(premium)
                and 100 * (trade["best"] - trade["mid"]) >= rule["back"] * abs(premium)
            )  # fmt: skip
        if kind == "strike_fence":
            spot = Fraction(int(self.recording.chains[self.session].spot[self.snap]), 100)
            for leg in trade["legs"]:
                _, right, strike = leg["contract"]
                if leg["n"] < 0:
                    beyond = Fraction(str(rule[right])) / 100
                    if right == "call" and spot >= strike * (1 + beyond):
                        return True
                    if right == "put" and spot <= strike * (1 - beyond):
                        return True
            return False
        if kind == "days_held":
            held = (today - local(trade["opened"]).date()).days
            return held > rule["days"] or (held == rule["days"] and now >= self.acting(rule["time"]))
        assert kind == "before_expiration", kind
        wanted = min(leg["contract"][0] for leg in trade["legs"]) - dt.timedelta(days=rule["days"])
        leaving = wanted
        while leaving not in self.recording.closes:
            leaving -= dt.timedelta(days=1)
        return today > leaving or (today == leaving and now >= self.acting(rule["time"]))

    # -- rule 1
    def acting(self, time: str) -> int:
        """The minute at which a time acts: beyond a session that reached its end, on the last snapshot but one."""
        minutes = self.recording.minutes[self.session]
        if clock(time) <= minutes[-1]:
            return clock(time)
        if self.single:
            return minutes[0]
        close = minute(self.recording.closes[self.recording.dates[self.session]])
        whole = close - minutes[-1] <= minutes[1] - minutes[0]
        return minutes[-2] if whole else clock(time)

    def times(self, entry: dict[str, Any]) -> list[str]:
        """Times of day at which an entry is looked at today."""
        today, out = DAYS[self.recording.dates[self.session].weekday()], []
        for when in entry["when"]:
            if today in when["weekdays"] and when["rule"] == "decision_times":
                out.append(when["time"])
            elif today in when["weekdays"]:
                at = clock(when["from"])
                while at <= max(clock(when["from"]), clock(when["until"])):
                    out.append(f"{at // 60:02d}:{at % 60:02d}")
                    at += when["minutes"]
        return out

    def look(self, entry: dict[str, Any]) -> str:
        """Whether this is one: due, skipped, or nothing."""
        times = self.times(entry)
        if not times:
            return ""
        if self.single:
            skips = self.set.get("single_snapshots", {"policy": "decide"})["policy"] == "skip"
            return "skipped" if skips else "due"
        minutes = self.recording.minutes[self.session][: self.snap + 1]
        chain = self.recording.chains[self.session]
        step = (int(chain.times[1]) - int(chain.times[0])) // 60
        found = ""
        for time in times:
            wanted = self.acting(time)
            if any(m >= wanted for m in minutes[:-1]) or (minutes[-1] < wanted and not self.last):
                continue
            if minutes[-1] < wanted or minutes[-1] - wanted > step:
                found = "skipped"
            else:
                return "due"
        return found

    def enter(self, entry: dict[str, Any]) -> None:
        said = self.look(entry)
        if not said:
            return
        first = entry["when"][0]["id"]
        if said == "skipped":
            self.decisions.append((self.at, "skipped", first))
            return
        said_no, ids, picked, lots = self.judge(entry)
        if said_no:
            self.decisions.append((self.at, "no entry", said_no))
            return
        self.decisions.append((self.at, "entry", first))
        number, self.next = self.next, self.next + 1
        if not self.last:
            self.orders.append(
                {"kind": "open", "trade": number, "legs": picked, "at": self.at, "session": self.session, "entry": entry,
                 "ids": ids, "lots": lots}
            )  # fmt: skip

    def judge(self, entry: dict[str, Any]) -> tuple[str, list[str], list[tuple[Contract, int]], int]:
        count = len(self.open) + sum(o["kind"] == "open" for o in self.orders)
        for rule in entry["conditions"]:
            if rule["rule"] == "open_limit" and count >= rule["limit"]:
                return rule["id"], [], [], 0
            if rule["rule"].startswith("when_"):
                value = self.measure(rule)
                if value is None or not (
                    value > rule["level"] if rule["comparison"] == "above" else value < rule["level"]
                ):
                    return rule["id"], [], [], 0
            if rule["rule"] == "condition" and not compares(rule, self.value(rule["left"]), self.value(rule["right"])):
                return rule["id"], [], [], 0
        picked: dict[str, tuple[Contract, int]] = {}
        gone: set[str] = set()
        for leg in entry["legs"]:
            count = leg["ratio"] * (-1 if leg["side"] == "sell" else 1)
            by = {leg[name].get("leg") for name in ("strike", "expiry")} - {None}
            other_way = [c for c, n in picked.values() if n * count < 0]
            contract = None if by & gone else self.pick(leg, picked, other_way, entry["checks"])
            if contract is None and leg["rule"] != "optional_leg" and not by & gone:
                return leg["id"], [], [], 0
            if contract is None:
                gone.add(leg["id"])
            else:
                picked[leg["id"]] = (contract, count)
        if not picked:
            return entry["legs"][-1]["id"], [], [], 0
        for rule in entry["checks"]:
            if not self.holds(rule, list(picked.values()), picked):
                return rule["id"], [], [], 0
        lots = self.lots(entry["size"][0], picked)
        legs = [(contract, n * lots) for contract, n in picked.values()]
        if lots == 0:
            return entry["size"][0]["id"], [], [], 0
        if self.refuses and self.capital([(*leg, self.new_price(leg)) for leg in legs]) > self.free() + 0.005:
            return entry["size"][0]["id"], [], [], 0
        return "", list(picked), legs, lots

    def lots(self, size: dict[str, Any], picked: dict[str, tuple[Contract, int]]) -> int:
        if size["rule"] == "fixed_lots":
            return int(size["lots"])
        each = self.value({"measure": "max_loss"}, picked=picked)
        if size["rule"] == "capital_share":
            each = self.capital_of(picked)
        elif each is not None:
            each *= MULTIPLIER
        money = size["money"] if size["rule"] == "risk_money" else self.equity() * size["percent"] / 100
        if each is None or each <= 0:
            return 0
        return max(0, min(size["most"], math.floor(money / each + 1e-9)))

    def capital_of(self, picked: dict[str, tuple[Contract, int]]) -> float:
        quotes = [self.recording.quote(c, self.session, self.snap) or (0, 0) for c, _ in picked.values()]
        return self.capital([(*leg, Fraction(sum(q), 2)) for leg, q in zip(picked.values(), quotes, strict=True)])

    def equity(self) -> float:
        held = [item for trade in self.open for item in self.at_mid(trade)]
        return float(self.cash) + float(sum((n * price for _, n, price in held), Fraction(0)) * QUANTUM * MULTIPLIER)

    # -- values
    def value(self, value: dict[str, Any], trade: dict[str, Any] | None = None, picked: Any = None) -> float | None:
        """A value of the sheet now; None: unvalued, ABSENT: what it speaks of does not exist."""
        name = value["measure"]
        if name == "number":
            return float(value["value"])
        if name in ("scaled", "sum", "difference", "quotient"):
            parts = [self.value(value[key], trade, picked) for key in ("of", "first", "second") if key in value]
            if any(part is ABSENT for part in parts):
                return ABSENT
            if None in parts:
                return None
            known = [float(part) for part in parts if part is not None]
            if name == "scaled":
                return float(value["times"]) * known[0] + float(value["plus"])
            if name == "quotient":
                return known[0] / known[1] if known[1] else None
            return known[0] + known[1] if name == "sum" else known[0] - known[1]
        found, grid = self.plain(name, value, trade, picked)
        return found if found is None or found is ABSENT or not grid else round(round(found / grid) * grid, 10)

    def plain(
        self, name: str, value: dict[str, Any], trade: dict[str, Any] | None, picked: Any
    ) -> tuple[float | None, float]:
        """What one measure says, and the grid it is on."""
        chain, money = self.recording.chains[self.session], QUANTUM * MULTIPLIER
        spot = int(chain.spot[self.snap]) / 100
        closes = [c.settlement / 100 for c in self.recording.chains[: self.session]]
        today, n = chain.date, value.get("sessions", 0)
        if name == "price":
            return spot, 0.01
        if name == "close_before":
            return (closes[-1] if closes else None), 0.01
        if name == "move_since_open":
            return 100 * (int(chain.spot[self.snap]) / int(chain.spot[0]) - 1), 0.01
        if name == "move_since_close":
            return (100 * (spot / closes[-1] - 1) if closes else None), 0.01
        if name == "moving_average":
            return (sum(closes[-n:]) / n if len(closes) >= n else None), 0.01
        if name == "session_return":
            return (100 * (closes[-1] / closes[-1 - n] - 1) if len(closes) > n else None), 0.01
        if name == "rsi":
            return self.measure({"rule": "when_rsi", "sessions": n}), 0.01
        if name == "atm_iv":
            return self.measure({"rule": "when_atm_iv"}), 0.01
        if name == "statistic":
            assert value["which"] == "average" and value["of"]["measure"] == "atm_iv"
            window = [None if a is None else round(a, 2) for a in self.recording.atm[: self.session]][-n:]
            known = [a for a in window if a is not None]
            return (sum(known) / n if len(known) == n else None), 0.0001
        if name == "weekday":
            return float(today.isoweekday()), 1
        if name == "minutes_to_close":
            return (self.recording.closes[today] - self.at) / 60, 1
        if name == "open_trades":
            return float(len(self.open) + sum(o["kind"] == "open" for o in self.orders)), 1
        if name == "net_credit":
            legs = [(n, self.recording.quote(c, self.session, self.snap)) for c, n in picked.values()]
            return float(
                sum((-n * Fraction(q[0] if n < 0 else q[1]) for n, q in legs if q), Fraction(0)) * QUANTUM
            ), 0.0001
        if name == "structure_greek":
            deltas = [(n, self.recording.delta(c, self.session, self.snap)) for c, n in picked.values()]
            return (
                None if any(d is None for _, d in deltas) else sum(n * (d or 0) / 10_000 for n, d in deltas)
            ), 0.0001
        if name in ("max_loss", "max_profit"):
            return self.ends(picked, name), 0.0001
        if name in ("leg_price", "leg_greek", "leg_distance", "leg_pnl"):
            return self.of_leg(name, value, trade, picked, spot)
        if trade is None:
            return ABSENT, 0
        if name == "pnl":
            parts = trade["mid"] if value["basis"] == "mid" else trade["close"]
            if parts is None or (value["unit"] == "premium" and trade["premium"] == 0):
                return None, 0
            return float(parts * money if value["unit"] == "money" else 100 * parts / abs(trade["premium"])), 0.0001
        if name == "pnl_drop":
            if trade["mid"] is None:
                return None, 0
            return float((trade["best"] - trade["mid"]) * money), 0.0001
        if name == "net_greek":
            deltas = [
                (leg["n"], self.recording.delta(leg["contract"], self.session, self.snap)) for leg in trade["legs"]
            ]
            return (
                None
                if any(d is None for _, d in deltas)
                else sum(n * (d or 0) / 10_000 for n, d in deltas) * MULTIPLIER
            ), 0.0001
        if name == "move_since_entry":
            return 100 * (spot / (trade["spot"] / 100) - 1), 0.01
        if name == "days_to_expiration":
            return float((min(leg["contract"][0] for leg in trade["legs"]) - today).days), 1
        assert name == "days_held_so_far", name
        return float((today - local(trade["opened"]).date()).days), 1

    def of_leg(
        self, name: str, value: dict[str, Any], trade: Any, picked: Any, spot: float
    ) -> tuple[float | None, float]:
        if trade is not None:
            held = next((leg for leg in trade["legs"] if leg["id"] == value["leg"]), None)
            found = None if held is None else (held["contract"], held["n"])
        else:
            held, found = None, picked.get(value["leg"])
        if found is None:
            return ABSENT, 0
        contract, n = found
        if name == "leg_distance":
            sign = 1 if contract[1] == "call" else -1
            return 100 * sign * (contract[2] - spot) / contract[2], 0.001
        if name == "leg_greek":
            delta = self.recording.delta(contract, self.session, self.snap)
            return (None if delta is None else delta / 10_000), 0.0001
        quote = self.recording.quote(contract, self.session, self.snap)
        if quote is None:
            return None, 0
        mark = Fraction(sum(quote), 2) if value["basis"] == "mid" else Fraction(quote[1] if n < 0 else quote[0])
        if name == "leg_price":
            return float(mark * QUANTUM), 0.0001
        if held is None:
            return ABSENT, 0
        made = n * (mark - held["in"])
        if value["unit"] == "money":
            return float(made * QUANTUM * MULTIPLIER), 0.0001
        return (float(100 * made / abs(n * held["in"])) if held["in"] else None), 0.0001

    def ends(self, picked: dict[str, tuple[Contract, int]], which: str) -> float | None:
        legs = list(picked.values())
        if len({c[0] for c, _ in legs}) != 1:
            return None
        credit = self.value({"measure": "net_credit"}, picked=picked) or 0.0
        calls = sum(n for c, n in legs if c[1] == "call")
        if (calls < 0 and which == "max_loss") or (calls > 0 and which == "max_profit"):
            return None
        made = [
            credit + sum(n * max(0, (end - c[2]) * (1 if c[1] == "call" else -1)) for c, n in legs)
            for end in (0, *(c[2] for c, _ in legs))
        ]
        return -min(made) if which == "max_loss" else max(made)

    # -- rule 18
    def new_price(self, leg: tuple[Contract, int]) -> Fraction:
        quote = self.recording.quote(leg[0], self.session, self.snap) or (0, 0)
        mid, half = Fraction(sum(quote), 2), Fraction(quote[1] - quote[0], 2)
        if leg[1] < 0 and quote[0] == 0:
            return mid
        return mid + Fraction(self.set.get("fill_model", {"share": 100})["share"], 100) * half * (
            1 if leg[1] > 0 else -1
        )

    def call(self) -> None:
        """Below the capital that is needed at a session's end, newest trades leave at the market, if the sheet says."""
        if not (self.last or self.single) or not self.open or self.free() > -0.005:
            return
        below = self.limit["below"] if self.limit else "report"
        for trade in sorted(self.open, key=lambda t: (-t["opened"], -t["number"])):
            needs = self.capital(self.at_mid(trade))
            leaving = any(o["trade"] == trade["number"] and o["kind"] == "close" for o in self.orders)
            there = [(leg["contract"], -leg["n"]) for leg in trade["legs"] if not self.over(leg["contract"])]
            if below == "report" or leaving or needs <= 0.005 or not there:
                continue
            self.orders.append({"kind": "close", "trade": trade["number"], "legs": there, "at": self.at,
                                "session": self.session, "rule": self.limit["id"], "loss": True})  # fmt: skip
            if below == "newest":
                break

    def at_mid(self, trade: dict[str, Any]) -> list[tuple[Contract, int, Fraction]]:
        """Legs at the mid of their last valid quote, else at what they were opened for."""
        return [
            (leg["contract"], leg["n"], Fraction(sum(leg["last"]), 2) if leg["last"] else leg["in"])
            for leg in trade["legs"]
        ]

    def free(self) -> float:
        """Cash and trades at mid, less what these and opening orders need."""
        total = float(self.cash)
        for trade in self.open:
            held = self.at_mid(trade)
            total += float(sum((n * price for _, n, price in held), Fraction(0)) * QUANTUM * MULTIPLIER)
            total -= self.capital(held)
        for order in self.orders:
            if order["kind"] == "open":
                quotes = [self.recording.quote(contract, self.session, self.snap) for contract, _ in order["legs"]]
                asked = [(*leg, Fraction(sum(q or (0, 0)), 2)) for leg, q in zip(order["legs"], quotes, strict=True)]
                total -= self.capital(asked)
        return total

    def capital(self, legs: list[tuple[Contract, int, Fraction]]) -> float:
        """Contract by contract: a short is backed by a long of its right that lasts as long, at the least width; or
        stands alone. Shorts that expire together need their worst end, longs that are left help the latest they can."""
        spot, closes = int(self.recording.chains[self.session].spot[self.snap]) / 100, self.recording.closes
        price = {contract: float(p * QUANTUM) for contract, _, p in legs}
        count: dict[Contract, int] = {}
        for contract, n, _ in legs:
            count[contract] = count.get(contract, 0) + n
        alone: dict[int, dict[str, float]] = {}
        groups: dict[int, list[tuple[int, Contract]]] = {}
        value, spare = 0.0, []
        for right in ("call", "put"):
            shorts = [c for c in sorted(count) for _ in range(-count[c]) if c[1] == right]
            longs = [c for c in sorted(count) for _ in range(count[c]) if c[1] == right]
            sign = 1 if right == "call" else -1
            lone = [
                max(0.15 * spot - max(0.0, sign * (c[2] - spot)), 0.1 * (spot if sign > 0 else c[2])) for c in shorts
            ]
            cost = np.full((len(shorts), len(longs) + len(shorts)), 1e9)
            for i, short in enumerate(shorts):
                cost[i, len(longs) :] = 1e6 + lone[i] + price[short]
                for j, long in enumerate(longs):
                    if closes[long[0]] >= closes[short[0]]:
                        cost[i, j] = max(0, sign * (long[2] - short[2]))
            rows, columns = linear_sum_assignment(cost)
            for i, j in zip(rows.tolist(), columns.tolist(), strict=True):
                short = shorts[i]
                if j < len(longs):
                    groups.setdefault(closes[short[0]], []).extend([(-1, short), (1, longs[j])])
                else:
                    sides = alone.setdefault(closes[short[0]], {"call": 0.0, "put": 0.0})
                    sides[right] += lone[i]
                    value += price[short]
            spare += [long for j, long in enumerate(longs) if j not in columns.tolist()]
        for long in spare:
            before = [at for at in groups if at <= closes[long[0]]]
            if before:
                groups[max(before)].append((1, long))
        worst = 0.0
        for group in groups.values():
            ends = [0.0, *(float(c[2]) for _, c in group)]
            ways = [sum(n * max(0.0, (end - c[2]) * (1 if c[1] == "call" else -1)) for n, c in group) for end in ends]
            worst += max(0.0, -min(ways))
        needs = worst + value + sum(max(sides.values()) for sides in alone.values())
        return max(0.0, needs + sum(n * price[c] for c, n in count.items())) * MULTIPLIER

    def measure(self, rule: dict[str, Any]) -> float | None:
        """Daily measures over the sessions completed before this one, on a grid of 0.01."""
        kind, n = rule["rule"], rule.get("sessions", 0)
        closes = [chain.settlement / 100 for chain in self.recording.chains[: self.session]]
        atm = self.recording.atm[: self.session]
        value: float | None = None
        if kind == "when_atm_iv":
            value = atm[-1] if atm else None
        elif kind == "when_average_gap" and len(closes) >= n:
            value = 100 * (closes[-1] / (sum(closes[-n:]) / n) - 1)
        elif kind == "when_realised_volatility" and len(closes) > n:
            moves = [math.log(b / a) for a, b in zip(closes[-n - 1 :], closes[-n:], strict=False)]
            mean = sum(moves) / n
            value = 100 * math.sqrt(sum((m - mean) ** 2 for m in moves) / (n - 1)) * math.sqrt(252)
        elif kind == "when_iv_rank" and len(atm) >= n and None not in atm[-n:]:
            window = [a for a in atm[-n:] if a is not None]
            value = (
                100 * (window[-1] - min(window)) / (max(window) - min(window)) if max(window) > min(window) else None
            )
        elif kind == "when_rsi" and len(closes) > n:
            moves = [b - a for a, b in zip(closes, closes[1:], strict=False)]
            up = sum(max(m, 0) for m in moves[:n]) / n
            down = sum(max(-m, 0) for m in moves[:n]) / n
            for m in moves[n:]:
                up, down = (up * (n - 1) + max(m, 0)) / n, (down * (n - 1) + max(-m, 0)) / n
            value = 100 * up / (up + down) if up + down else 0.0
        return None if value is None else round(value, 2)

    def pick(
        self, leg: dict[str, Any], picked: dict[str, tuple[Contract, int]], other_way: list[Contract],
        checks: list[dict[str, Any]],
    ) -> Contract | None:  # fmt: skip
        chain = self.recording.chains[self.session]
        first = next((contract[0] for contract, _ in picked.values()), None)
        today = chain.date
        offered = (chain.ask[:, self.snap] > 0).tolist()
        quoted = {c.expiration for c, there in zip(chain.contracts, offered, strict=True) if there}
        expiry = leg["expiry"]
        if expiry["pick"] == "nearest_days":
            listed = [e for e in quoted if expiry["from"] <= (e - today).days <= expiry["to"]]
            target = today + dt.timedelta(days=expiry["days"])
        elif expiry["pick"] == "same_expiration":
            listed, target = [e for e in quoted if e == first], first or today
        elif expiry["pick"] == "nth_listed":
            later = sorted(e for e in quoted if (e - today).days >= expiry["days"])
            listed, target = later[expiry["n"] - 1 : expiry["n"]], today
        elif expiry["pick"] in ("days_after_leg", "same_as_leg", "nth_after_leg"):
            of = picked[expiry["leg"]][0][0]
            later = sorted(e for e in quoted if e > of)
            listed, target = later, of + dt.timedelta(days=expiry.get("days", 0))
            if expiry["pick"] == "same_as_leg":
                listed = [e for e in quoted if e == of]
            elif expiry["pick"] == "nth_after_leg":
                listed = later[expiry["n"] - 1 : expiry["n"]]
        else:
            assert first is not None
            listed, target = [e for e in quoted if e > first], first + dt.timedelta(days=expiry["days"])
        if not listed:
            return None
        chosen = min(listed, key=lambda e: (abs((e - target).days), e))
        contracts = [
            (c.expiration, c.right, c.strike)
            for c in chain.contracts
            if c.expiration == chosen and c.right == leg["right"]
        ]
        best: tuple[Any, Contract] | None = None
        for contract in contracts:
            away = self.away(leg["strike"], contract, chain, contracts, picked)
            if away is not None and contract not in other_way and self.allowed(contract, checks):
                outward = -contract[2] if leg["right"] == "call" else contract[2]
                if best is None or (away, outward) < best[0]:
                    best = ((away, outward), contract)
        if best is None or best[0][0] > self.at_most(leg["strike"], chain):
            return None
        return best[1]

    def allowed(self, contract: Contract, checks: list[dict[str, Any]]) -> bool:
        bid, ask = self.recording.quote(contract, self.session, self.snap) or (0, 0)
        return all(
            bid > 0 and 200 * (ask - bid) <= rule["width"] * (ask + bid)
            for rule in checks
            if rule["rule"] == "strike_filter"
        )

    def at_most(self, pick: dict[str, Any], chain: SessionChain) -> Any:
        """How far from its wish a strike may be, as :meth:`away` tells it."""
        if pick["pick"] in ("delta_range", "premium_range"):
            return math.inf
        if pick["pick"] in ("percent_rounded", "expected_moves", "points_from_leg", "fixed_strike"):
            return float(int(chain.spot[self.snap]) / 100 * pick["within"] / 100) + 5e-7
        if pick["pick"] == "strikes_from_leg":
            return pick["within"]
        if pick["pick"] == "nearest_delta":
            return round(pick["within"] * 10_000)
        if pick["pick"] == "strikes_from_money":
            return pick["within"]
        share = Fraction(str(pick["within"])) / 100
        of = Fraction(int(chain.spot[self.snap]), 100) if pick["pick"] == "percent_from_spot" else pick["points"]
        return share * Fraction(str(of))

    def away(
        self, pick: dict[str, Any], contract: Contract, chain: SessionChain, contracts: list[Contract],
        picked: dict[str, tuple[Contract, int]],
    ) -> Any:  # fmt: skip
        """Distance of a contract from what its strike pick wants; None: it may not be picked."""
        quote = self.recording.quote(contract, self.session, self.snap)
        if quote is None:
            return None
        strike = contract[2]
        if pick["pick"] == "nearest_delta":
            delta = self.recording.delta(contract, self.session, self.snap)
            return None if delta is None else abs(abs(delta) - round(pick["delta"] * 10_000))
        if pick["pick"] == "delta_range":
            delta = self.recording.delta(contract, self.session, self.snap)
            low, high = sorted((round(pick["from"] * 10_000), round(pick["to"] * 10_000)))
            return None if delta is None or not low <= abs(delta) <= high else abs(2 * abs(delta) - low - high)
        if pick["pick"] == "premium_range":
            low, high = sorted((Fraction(str(pick["from"])), Fraction(str(pick["to"]))))
            mid = Fraction(sum(quote), 2) * QUANTUM
            return abs(2 * mid - low - high) if low <= mid <= high else None
        out = 1 if contract[1] == "call" else -1
        if pick["pick"] in ("percent_rounded", "expected_moves", "fixed_strike"):
            spot = int(chain.spot[self.snap]) / 100
            if pick["pick"] == "percent_rounded":
                level = spot + out * spot * pick["percent"] / 100
            elif pick["pick"] == "fixed_strike":
                level = pick["strike"]
            else:
                move = self.straddle(contract[0], chain)
                if move is None:
                    return None
                level = spot + out * pick["moves"] * move
            beyond = out * (contract[2] - round(level, 6))
            if (pick.get("round") == "outward" and beyond < -1e-9) or (pick.get("round") == "inward" and beyond > 1e-9):
                return None
            return round(abs(beyond), 6)
        if pick["pick"] == "points_from_leg":
            return round(abs(contract[2] - (picked[pick["leg"]][0][2] + out * pick["points"])), 6)
        if pick["pick"] == "strikes_from_leg":
            rows = self.recording.rows[self.session]
            there = [c[2] for c in contracts if chain.ask[rows[c], self.snap] > 0]
            of = picked[pick["leg"]][0][2]
            start = min(range(len(there)), key=lambda i: abs(there[i] - of))
            at = start + out * pick["strikes"]
            return abs(there.index(strike) - at) if 0 <= at < len(there) else None
        if pick["pick"] == "nearest_premium":
            return abs(Fraction(quote[0] + quote[1], 2) * QUANTUM - Fraction(str(pick["points"])))
        if pick["pick"] == "percent_from_spot":
            spot = Fraction(int(chain.spot[self.snap]), 100)
            share = Fraction(str(pick["percent"])) / 100
            return abs(strike - spot * (1 + share if contract[1] == "call" else 1 - share))
        forward = float(chain.forward[chain.expirations.index(contract[0]), self.snap])
        rows = self.recording.rows[self.session]
        listed = [c[2] for c in contracts if chain.ask[rows[c], self.snap] > 0]
        centre = min(range(len(listed)), key=lambda i: abs(listed[i] - forward))
        at = centre + (1 if contract[1] == "call" else -1) * pick["strikes"]
        return abs(listed.index(strike) - at) if 0 <= at < len(listed) else None

    def straddle(self, expiration: dt.date, chain: SessionChain) -> float | None:
        """Mid of call and put at the strike nearest to the forward that quotes both, points."""
        forward = float(chain.forward[chain.expirations.index(expiration), self.snap])
        both = []
        for c in chain.contracts:
            if c.expiration == expiration and c.right == "call":
                call = self.recording.quote((expiration, "call", c.strike), self.session, self.snap)
                put = self.recording.quote((expiration, "put", c.strike), self.session, self.snap)
                if call and put:
                    both.append((abs(c.strike - forward), c.strike, sum(call) + sum(put)))
        return min(both)[2] / 2 * float(QUANTUM) if both and forward > 0 else None

    def holds(
        self, rule: dict[str, Any], picked: list[tuple[Contract, int]], named: dict[str, tuple[Contract, int]]
    ) -> bool:
        if rule["rule"] == "strike_filter":
            return True
        if rule["rule"] == "condition":
            return compares(rule, self.value(rule["left"], picked=named), self.value(rule["right"], picked=named))
        quotes = [(c, n, self.recording.quote(c, self.session, self.snap) or (0, 0)) for c, n in picked]
        if rule["rule"] == "net_premium":
            credit = sum(-n * Fraction(q[0] if n < 0 else q[1]) for _, n, q in quotes) * QUANTUM
            return (credit if rule["kind"] == "credit" else -credit) >= Fraction(str(rule["points"]))
        if rule["rule"] == "side_balance":
            sides = {
                right: abs(sum(n * (q[0] + q[1]) for c, n, q in quotes if c[1] == right)) for right in ("call", "put")
            }
            both = {c[1] for c, _, _ in quotes} == {"call", "put"}
            low, high = min(sides.values()), max(sides.values())
            return both and high > 0 and low >= Fraction(str(rule["least"])) * high
        width = sum(abs(n) * (q[1] - q[0]) for _, n, q in quotes)
        mids = sum(abs(n) * Fraction(q[0] + q[1], 2) for _, n, q in quotes)
        return mids > 0 and 100 * width <= rule["percent"] * mids

"""A second implementation of the engine, written from docs/engine-semantics.md, as plain as possible.

Dictionaries and loops only; nothing of the engine, selection, measures or pricing rooms is used. It
reads session chains directly, never the cubes. It is slow and that is fine: it is here to disagree.
"""

from __future__ import annotations

import math
from decimal import Decimal
from typing import Any

from tests.engine.plain_exits import AGAIN, Exits
from tests.engine.plain_managed import Leg
from tests.engine.plain_recording import (
    ABSENT,
    MONEY,
    MULTIPLIER,
    QUANTUM,
    Contract,
    Fraction,
    Recording,
)


class Reference(Exits):
    """Runs one normalised strategy document over a recording."""

    def __init__(self, document: dict[str, Any], recording: Recording, cash: Decimal) -> None:
        self.recording, self.cash, self.next = recording, cash, 1
        self.entries = [
            {name: [r for r in entry[name] if not r.get("off")] for name in entry if name not in ("id", "underlying")}
            | {
                "name": entry["id"],
                "later": [leg for leg in entry["legs"] if leg["rule"] == "later_leg" and not leg.get("off")],
            }
            for entry in document["entries"]
        ]
        for entry in self.entries:
            entry["legs"] = [leg for leg in entry["legs"] if leg["rule"] != "later_leg"]
            points = [
                Fraction(str(r["points"]))
                for r in entry["checks"]
                if r["rule"] == "net_premium" and r["kind"] == "credit"
            ]
            entry["credit"] = max(points, default=None)
        self.document, self.entry = document, document["entries"][0]
        self.limit = next((r for r in document["limits"] if r["rule"] == "capital" and not r.get("off")), {})
        self.refuses = self.limit.get("entries", "refuse") == "refuse"
        common = [r for r in document["leave"] if not r.get("off")]
        for entry in self.entries:
            every = [*common, *entry["leave"]]
            entry["leaves"] = [r for r in every if self.is_loss(r)] + [r for r in every if not self.is_loss(r)]
            entry["adjusts"] = [*(r for r in document["adjust"] if not r.get("off")), *entry["adjust"]]
        self.set = {r["rule"]: r for r in document["orders"] if not r.get("off")}
        self.open: list[dict[str, Any]] = []
        self.lasting: dict[str, list[bool]] = {}
        self.accounts: dict[str, dict[str, Any]] = {}
        self.orders: list[dict[str, Any]] = []
        self.closed: list[dict[str, Any]] = []
        self.rests: dict[str, int] = {}
        self.due: list[dict[str, Any]] = []
        self.session_ends: list[float] = [float(cash)]
        self.decisions: list[tuple[int, str, str]] = []
        self.picked: list[tuple[int, str, list[Contract]]] = []
        """What entries that are no re-entries came to: when, whose, which contracts."""

    def run(self) -> None:
        for session, chain in enumerate(self.recording.chains):
            single = len(chain.times) == 1
            for snap in range(len(chain.times)):
                self.at = int(chain.times[snap])
                self.session, self.snap, self.single = session, snap, single
                self.last = snap == len(chain.times) - 1 and not single
                if snap == 0 and session:
                    self.earn()
                self.settle()
                self.confirm()
                for order in [o for o in self.orders if o["since"] < self.at]:
                    self.deal(order, False)
                self.pass_on()
                self.lapse()
                self.mark()
                self.call()
                self.note_account()
                self.guard()
                self.exits()
                self.adjust()
                self.enter_again()
                for entry in self.entries:
                    self.enter(entry)
                if single:
                    self.orders = [o for o in self.orders if not o.get("ending") or o["kind"] == "close"]
                    for order in list(self.orders):
                        self.deal(order, True)
                    self.mark()
            self.session_ends.append(self.equity())

    # -- rule 12
    def earn(self) -> None:
        """Interest on the cash of the session before, by one flat rate."""
        says = next((r for r in self.document["limits"] if r["rule"] == "interest" and not r.get("off")), None)
        if says is not None:
            rate = self.recording.rate + (says["more"] if self.cash < 0 else -says["less"]) / 100
            rate = rate if self.cash < 0 else max(0.0, rate)
            days = (self.recording.dates[self.session] - self.recording.dates[self.session - 1]).days
            self.cash += (self.cash * Decimal(math.exp(rate * days / 365) - 1)).quantize(Decimal("0.01"))

    # -- limits on conditions
    def equity(self) -> float:
        """Cash and open trades at mid, at their last valid one."""
        mids = (leg["n"] * Fraction(sum(leg.get("last") or (0, 0)), 2) for trade in self.open for leg in trade["legs"])
        return float(self.cash + Decimal(float(sum(mids, Fraction(0)) * MONEY)))

    def guard(self) -> None:
        self.asking = ""
        for rule in self.document["limits"] if self.open else ():
            if rule["rule"] != "close_trades" or any(o["rule"] == rule["id"] for o in self.orders if o.get("whole")):
                continue
            if not self.true_now(rule):
                continue
            self.rests[rule["id"]] = self.session
            for trade in sorted(self.open, key=lambda trade: -trade["number"]):
                there = [leg for leg in trade["legs"] if not self.over(leg["contract"])]
                if not there or any(o["trade"] == trade["number"] and o.get("whole") for o in self.orders):
                    continue
                self.leave(trade, rule["id"], True)
                if rule["which"] == "newest":
                    break

    # -- rule 10
    def settle(self) -> None:
        for trade in list(self.open):
            due = [leg for leg in trade["legs"] if self.settled_value(leg["contract"]) is not None]
            for order in [o for o in self.orders if o["trade"] == trade["number"] and o["legs"]]:
                both = [both for both in zip(order["ids"], order["legs"], strict=True) if not self.over(both[1][0])]
                order["ids"], order["legs"] = [name for name, _ in both], [leg for _, leg in both]
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

    def finish(self, trade: dict[str, Any], rule: str, left: int) -> None:
        self.open.remove(trade)
        self.orders = [order for order in self.orders if order["trade"] != trade["number"]]
        undone = "leg_by_leg" in self.set and rule == self.set["leg_by_leg"]["id"]
        for entry in self.entries if not undone else ():
            waits = any(w["rule"] == "after_trade" and w["entry"] == trade["entry"]["name"] for w in entry["when"])
            if waits and not any(due["entry"] is entry and "rule" not in due for due in self.due):
                self.due.append({"entry": entry})
        self.closed.append({**trade, "rule": rule, "left": left, "closed": self.at})

    def again(self, trade: dict[str, Any], rule: str, left: int) -> None:
        """An exit of the position, now done, may ask for the entry to be made again."""
        again = next((r for r in trade["entry"]["leaves"] if r["id"] == rule and r["rule"] in AGAIN), None)
        if any(r["id"] == rule and r.get("otherwise") == "again" for r in trade["entry"]["adjusts"]):
            again = {"times": 10_000, "when": "now"}
        if again is not None and trade["chain"] < again["times"]:
            to = next(e for e in self.entries if e["name"] == again.get("entry", trade["entry"]["name"]))
            legs = {
                leg["id"]: (leg["contract"], leg["n"])
                for leg in trade["gone"]
                if leg["by"] == "order" and leg["out_at"] >= left
            }
            self.due.append({"entry": to, "rule": rule, "chain": trade["chain"] + 1, "later": again["when"] == "next",
                             "legs": legs if again.get("picks") == "same" else None})  # fmt: skip

    # -- rule 8
    def leave(self, trade: dict[str, Any], rule: str, loss: bool) -> None:
        """Decide to close what can be closed; what else is at work for it goes, and its legs come to this."""
        mine = [order for order in self.orders if order["trade"] == trade["number"]]
        taken = {name for order in mine if order["kind"] == "close" for name in order["ids"]}
        for order in mine:
            order["ending"] = True
        legs = [leg for leg in trade["legs"] if not self.over(leg["contract"]) and leg["id"] not in taken]
        self.close(trade, [(leg["id"], leg["contract"], -leg["n"]) for leg in legs], rule, loss, whole=True)

    # -- rules 3, 5, 9
    def mark(self) -> None:
        for trade in self.open:
            self.mark_one(trade)
            self.note([*trade["entry"]["leaves"], *trade["entry"]["adjusts"]], trade)

    def note_account(self) -> None:
        limits = [rule for rule in self.document["limits"] if not rule.get("off")]
        for entry in self.entries:
            self.entry, self.asking = entry, entry["name"]
            self.note([*entry["conditions"], *limits])
        self.asking = ""
        self.note(limits)

    def mark_one(self, trade: dict[str, Any]) -> None:
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

    # -- rule 17
    def adjust(self) -> None:
        for trade in list(self.open):
            rules = trade["entry"]["adjusts"]
            busy = any(o["trade"] == trade["number"] for o in self.orders)
            if not rules or busy or all(self.over(leg["contract"]) for leg in trade["legs"]):
                continue
            for place, rule in enumerate(rules):
                if (
                    (trade["adjusted"] == self.session and not rule.get("often"))
                    or rule.get("only")
                    or not self.asked_now(rule, trade)
                    or not self.true_now(rule, trade)
                ):
                    continue
                legs = self.proposal(rules[place:], trade)
                made = bool(legs) and self.move(rule, trade, legs)
                if not made and rule.get("otherwise"):
                    self.leave(trade, rule["id"], False)
                elif not legs:
                    continue
                break

    def move(self, rule: dict[str, Any], trade: dict[str, Any], legs: list[Leg]) -> bool:
        held = {
            (leg["id"], leg["contract"]): [leg["n"], Fraction(sum(leg["last"]), 2) if leg["last"] else leg["in"]]
            for leg in trade["legs"]
        }
        for name, contract, n in legs:
            held.setdefault((name, contract), [0, self.new_price((contract, n))])[0] += n
        needs = self.capital([(contract, n, price) for (_, contract), (n, price) in held.items() if n])
        if self.refuses and needs > self.free() + self.capital(self.at_mid(trade)) + 0.005:
            return False
        if not rule.get("often"):
            trade["adjusted"] = self.session
        if not self.last:
            self.orders.append({"kind": "adjust", "trade": trade["number"], "legs": [(c, n) for _, c, n in legs], "ids": [x for x, _, _ in legs],
                                "at": self.at, "since": self.at, "session": self.session, "rule": rule["id"], "lots": trade["lots"]})  # fmt: skip
        return True

    def enter(self, entry: dict[str, Any]) -> None:
        said = self.look(entry)
        if not said:
            return
        first = next(when["id"] for when in entry["when"] if when["rule"] != "picks_kept")
        if said == "skipped":
            self.decisions.append((self.at, "skipped", first))
            return
        self.try_to_enter(entry, first)

    def enter_again(self) -> None:
        """Entries that an exit asked for, and those that are looked at when a trade has ended."""
        waiting, self.due = self.due, []
        for due in waiting:
            entry = due["entry"]
            if due.get("later") and self.look(entry) != "due":
                self.due.append(due)
            elif "rule" in due:
                self.try_to_enter(entry, due["rule"], due["chain"], due["legs"])
            else:
                self.try_to_enter(entry, next(w["id"] for w in entry["when"] if w["rule"] != "picks_kept"))

    def try_to_enter(
        self, entry: dict[str, Any], rule: str, chain: int = 0, legs: dict[str, tuple[Contract, int]] | None = None
    ) -> None:
        said_no, ids, picked, lots = self.judge(entry, chain > 0, legs)
        if said_no:
            if not chain:
                self.decisions.append((self.at, "no entry", said_no))
            return
        self.decisions.append((self.at, "entry", rule))
        entry["made"] = self.session
        if not chain:
            self.picked.append((self.at, entry["name"], [contract for contract, _ in picked]))
        number, self.next = self.next, self.next + 1
        if not self.last:
            self.orders.append(
                {"kind": "open", "trade": number, "legs": picked, "at": self.at, "since": self.at, "session": self.session,
                 "entry": entry, "ids": ids, "lots": lots, "brought": Fraction(0), "chain": chain}
            )  # fmt: skip

    def judge(
        self, entry: dict[str, Any], again: bool = False, legs: dict[str, tuple[Contract, int]] | None = None
    ) -> tuple[str, list[str], list[tuple[Contract, int]], int]:
        self.entry, self.asking = entry, entry["name"]
        kept = legs if again else self.legs_of_the_day(entry)
        if kept is None and not again and self.look(entry) == "due":
            self.keep(entry)
        for rule in self.document["limits"]:
            rests = self.session - self.rests.get(rule["id"], -999) <= rule.get("sessions", -1)
            if rests or (rule["rule"] in ("no_entry", "close_trades") and self.bars(rule)):
                return rule["id"], [], [], 0
        count = len({t["number"] for t in self.open} | {o["trade"] for o in self.orders if o["kind"] == "open"})
        for rule in entry["conditions"]:
            if rule["rule"] == "open_limit" and count >= rule["limit"]:
                return rule["id"], [], [], 0
            if rule["rule"] == "stay_out_event":
                to, since = (self.value({"measure": f"sessions_{way}_event"}) for way in ("to", "since"))
                if (to is not None and to <= rule["before"]) or (since is not None and since <= rule["after"]):
                    return rule["id"], [], [], 0
            if rule["rule"].startswith("when_"):
                value = self.measure(rule)
                if value is None or not (
                    value > rule["level"] if rule["comparison"] == "above" else value < rule["level"]
                ):
                    return rule["id"], [], [], 0
            if rule["rule"] == "condition" and not self.true_now(rule):
                return rule["id"], [], [], 0
        stands_in_the_way, picked = "", {}
        for tried in self.expirations_tried(entry) if kept is None else ():
            self.tried = tried
            said_no, picked = self.structure(entry)
            if not said_no:
                break
            stands_in_the_way = stands_in_the_way or said_no
        else:
            if kept is None:
                return stands_in_the_way, [], [], 0
            said_no, picked = self.in_contracts(entry, kept)
            if said_no:
                return said_no, [], [], 0
        lots = self.lots(entry["size"][0], picked)
        legs = [(contract, n * lots) for contract, n in picked.values()]
        if lots == 0:
            return entry["size"][0]["id"], [], [], 0
        if self.refuses and self.capital([(*leg, self.new_price(leg)) for leg in legs]) > self.free() + 0.005:
            return entry["size"][0]["id"], [], [], 0
        return "", list(picked), legs, lots

    def keep(self, entry: dict[str, Any]) -> None:
        """Keep for the day what is picked now, if every leg can be."""
        legs = {leg["id"] for leg in entry["legs"]}
        for tried in self.expirations_tried(entry):
            self.tried = tried
            said_no, picked = self.structure(entry)
            # the nearest, where none passes its checks
            if said_no not in legs and (not said_no or entry.get("kept", (None,))[0] != self.session):
                entry["kept"] = (self.session, picked)
            if not said_no:
                return

    def lots(self, size: dict[str, Any], picked: dict[str, tuple[Contract, int]]) -> int:
        if size["rule"] == "fixed_lots":
            return int(size["lots"])
        if size["rule"] == "value_lots":
            wanted = self.value(size["value"], picked=picked)
            known = wanted is not None and wanted is not ABSENT
            return max(0, min(size["most"], math.floor(wanted + 1e-9))) if known else 0
        each = self.value({"measure": "max_loss"}, picked=picked)
        if size["rule"] == "capital_share":
            each = self.capital_of(picked)
        elif each is not None:
            each *= MULTIPLIER
        money = size["money"] if size["rule"] == "risk_money" else self.equity() * size["percent"] / 100
        if each is None or each <= 0:
            return 0
        return max(0, min(size["most"], math.floor(money / each + 1e-9)))

    def call(self) -> None:
        """Below the capital that is needed at a session's end, newest trades leave at the market, if the sheet says."""
        if not (self.last or self.single) or not self.open or self.free() > -0.005:
            return
        below = self.limit["below"] if self.limit else "report"
        for trade in sorted(self.open, key=lambda t: (-t["opened"], -t["number"])):
            needs = self.capital(self.at_mid(trade))
            leaving = any(o["trade"] == trade["number"] and o.get("whole") for o in self.orders)
            there = [(leg["contract"], -leg["n"]) for leg in trade["legs"] if not self.over(leg["contract"])]
            if below == "report" or leaving or needs <= 0.005 or not there:
                continue
            self.leave(trade, self.limit["id"], True)
            if below == "newest":
                break

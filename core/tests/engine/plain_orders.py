"""Orders of the second implementation: how they are dealt, end, and what follows, as plainly as possible."""

from __future__ import annotations

import math
from decimal import Decimal
from typing import Any

from tests.engine.plain_managed import Leg, Managed
from tests.engine.plain_recording import MONEY, QUANTUM, Contract, Fraction, cents


class Orders(Managed):
    def close(
        self, trade: dict[str, Any], legs: list[Leg], rule: str, loss: bool, then: dict[str, str] | None = None, whole: bool = False
    ) -> None:  # fmt: skip
        self.orders.append({"kind": "close", "trade": trade["number"], "legs": [(c, n) for _, c, n in legs], "ids": [name for name, _, _ in legs],
                            "at": self.at, "since": self.at, "session": self.session, "rule": rule, "loss": loss, "lots": trade["lots"],
                            "whole": whole, "then": then or {}})  # fmt: skip

    def leave_legs(
        self, trade: dict[str, Any], legs: list[Leg], rule: str, loss: bool, then: dict[str, str] | None = None
    ) -> None:
        """Decide to close legs; an adjustment that waits to deal in them is overtaken."""
        for order in self.orders:
            if (
                order["kind"] == "adjust"
                and order["trade"] == trade["number"]
                and set(order["ids"]) & {leg[0] for leg in legs}
            ):
                order["ending"] = True
        self.close(trade, [(name, contract, -n) for name, contract, n in legs], rule, loss, then)

    def confirm(self) -> None:
        """What was to end is gone; legs that it was to close come to the exit of the position, after what that has."""
        gone = [order for order in self.orders if order.get("ending")]
        self.orders = [order for order in self.orders if not order.get("ending")]
        for order in gone:
            whole = next((o for o in self.orders if o.get("whole") and o["trade"] == order["trade"]), None)
            if order["kind"] == "close" and whole is not None:
                whole["more"] = True

    def pass_on(self) -> None:
        """Exits of positions close all that no other order closes."""
        for order in [o for o in self.orders if o.pop("more", False)]:
            trade = next(t for t in self.open if t["number"] == order["trade"])
            legs = [leg for leg in trade["legs"] if not self.over(leg["contract"])]
            order["ids"] = [leg["id"] for leg in legs]
            order["legs"] = [(leg["contract"], -leg["n"]) for leg in legs]

    def deal(self, order: dict[str, Any], same: bool) -> None:
        legs = self.turn(order, same)
        prices = self.deals_at(order, legs, same) if legs else None
        if prices:
            self.fill(order, legs, prices)

    def turn(self, order: dict[str, Any], same: bool) -> list[tuple[Contract, int]]:
        """The legs dealt next."""
        every = order["legs"]
        if "leg_by_leg" not in self.set or order.get("loss") or same:
            return list(every)
        bought = [leg for leg in every if leg[1] > 0]
        first = bought if bought else list(every)
        return first[:1] if self.set["leg_by_leg"]["how"] == "each" else first

    def waited(self, order: dict[str, Any]) -> int | None:
        """Minutes of sessions since an order, or its part, came to work."""
        chains, total = self.recording.chains, 0
        for session in range(order["turn_session"] if "turn_session" in order else order["session"], self.session + 1):
            times = [int(t) for t in chains[session].times]
            if session in (order.get("turn_session", order["session"]), self.session) and len(times) == 1:
                return None
            for before, after in zip(times, times[1:], strict=False):
                if before >= order["since"] and after <= self.at:
                    total += (after - before) // 60
        return total

    def deals_at(self, order: dict[str, Any], legs: list[tuple[Contract, int]], same: bool) -> list[Fraction] | None:
        assumed = Fraction(self.set.get("fill_model", {"share": 100})["share"], 100)
        found = self.fill_prices(order, legs, Fraction(1) if order.get("loss") else assumed, (self.session, self.snap))
        patience = self.set.get("patience")
        if found is None or patience is None or order.get("loss"):
            return found
        shares = [patience["start"]]
        while patience["step"] > 0 and shares[-1] < patience["most"]:
            shares.append(min(patience["most"], shares[-1] + patience["step"]))
        waited, every = None if same else self.waited(order), patience["minutes"]
        if waited is None:
            share, over = shares[-1], True
        else:
            # the limit that was set for the minutes up to now
            share = next((s for k, s in enumerate(shares) if waited <= (k + 1) * every), shares[-1])
            over = waited > len(shares) * every
        before = (self.session, self.snap)
        if not same:
            earlier = self.session - 1
            before = (
                (self.session, self.snap - 1) if self.snap else (earlier, len(self.recording.chains[earlier].times) - 1)
            )
        limit = self.fill_prices(order, legs, Fraction(share, 100), before, False)
        if limit is not None:
            whole = len(legs) == len(order["legs"]) and "parted" not in order
            lots = order["lots"] if whole else math.gcd(*(n for _, n in legs))
            most = math.floor(sum((n * p for (_, n), p in zip(legs, limit, strict=True)), Fraction(0)) / lots) * lots
            if sum(n * p for (_, n), p in zip(legs, found, strict=True)) <= most:
                return found
        takes = patience["entry" if order["kind"] == "open" else "exit"] == "cross"
        return self.fill_prices(order, legs, Fraction(1), (self.session, self.snap)) if over and takes else None

    def fill_prices(
        self, order: dict[str, Any], legs: list[tuple[Contract, int]], share: Fraction, at: tuple[int, int],
        asks: bool = True,
    ) -> list[Fraction] | None:  # fmt: skip
        if order["kind"] != "close" and order["session"] != self.session:
            return None
        out = []
        for contract, n in legs:
            quote = self.recording.quote(contract, *at)
            if quote is None or (n < 0 and quote[0] == 0 and order["kind"] != "close"):
                return None
            if n < 0 and quote[0] == 0:
                out.append(Fraction(0))
                continue
            mid, half = Fraction(quote[0] + quote[1], 2), Fraction(quote[1] - quote[0], 2)
            out.append(mid + share * half * (1 if n > 0 else -1))
        if (
            asks
            and order["kind"] == "open"
            and order["entry"]["credit"] is not None
            and len(legs) == len(order["legs"])
        ):
            brought = sum((-n * price for (_, n), price in zip(legs, out, strict=True)), Fraction(0)) + order["brought"]
            if brought * QUANTUM < order["entry"]["credit"] * order["lots"]:
                return None
        return out

    def fill(self, order: dict[str, Any], dealt: list[tuple[Contract, int]], prices: list[Fraction]) -> None:
        # legs of one contract are told apart by where they stand
        left = list(range(len(order["legs"])))
        places = [left.pop(next(k for k, place in enumerate(left) if order["legs"][place] == leg)) for leg in dealt]
        ids = [order["ids"][place] for place in places]
        if not left:
            if not order.get("more"):
                self.orders.remove(order)
        else:
            order["ids"] = [order["ids"][place] for place in left]
            if order["kind"] == "open":
                order["brought"] -= sum((n * p for (_, n), p in zip(dealt, prices, strict=True)), Fraction(0))
            order["legs"] = [order["legs"][place] for place in left]
            order["since"], order["turn_session"], order["parted"] = self.at, self.session, True
        costs = self.set.get("commission", {"per_contract": 0.8, "per_order": 0})
        fee = Fraction(str(costs["per_contract"])) * sum(abs(n) for _, n in dealt) + Fraction(str(costs["per_order"]))
        if order["kind"] == "open":
            there = [trade for trade in self.open if trade["number"] == order["trade"]]
            trade = there[0] if there else {
                "number": order["trade"], "opened": self.at, "legs": [], "gone": [], "realised": Fraction(0),
                "cash": Decimal(0), "best": None, "decided": order["at"], "entry": order["entry"],
                "spot": int(self.recording.chains[self.session].spot[self.snap]), "premium": Fraction(0),
                "lots": order["lots"], "left": order["lots"], "chain": order["chain"], "stops": [], "acted": set(), "adjusted": None,
            }  # fmt: skip
            trade["premium"] -= sum((n * p for (_, n), p in zip(dealt, prices, strict=True)), Fraction(0))
            for (contract, n), price, name in zip(dealt, prices, ids, strict=True):
                trade["legs"].append({"contract": contract, "n": n, "in": price, "id": name})
                self.pay(trade, cents(-n * price * MONEY))
            self.pay(trade, -cents(fee))
            if not there:
                self.open.append(trade)
            return
        trade = next(t for t in self.open if t["number"] == order["trade"])
        if order["kind"] == "adjust":
            self.put(trade, [(name, *leg, price) for name, leg, price in zip(ids, dealt, prices, strict=True)])
            for (_, n), price in zip(dealt, prices, strict=True):
                self.pay(trade, cents(-n * price * MONEY))
        for (contract, n), price, name in zip(dealt, prices, ids, strict=True) if order["kind"] == "close" else ():
            leg = next(leg for leg in trade["legs"] if leg["contract"] == contract and leg["id"] == name)
            if leg["n"] == -n:
                self.close_leg(trade, leg, price)
            else:
                self.gone(trade, leg, -n, price, "order")
                leg["n"] += n
                self.pay(trade, cents(-n * price * MONEY))
        self.pay(trade, -cents(fee))
        if not trade["legs"]:
            self.finish(trade, order["rule"], order["at"])
        if left or order.get("more"):
            return
        if order.get("whole"):
            self.again(trade, order["rule"], order["at"])
        elif trade["legs"]:
            self.follow(order, trade)

    def follow(self, order: dict[str, Any], trade: dict[str, Any]) -> None:
        """What an exit of legs asked for when it is done."""
        trade["left"] -= order.get("share", 0)
        then = order.get("then") or {}
        leg = next((leg for leg in trade["legs"] if leg["id"] == then.get("leg")), None)
        if leg is None or self.over(leg["contract"]):
            return
        if then["do"] == "stop":
            trade["stops"] = [stop for stop in trade["stops"] if stop["leg"] != leg["id"]]
            trade["stops"].append({"leg": leg["id"], "price": leg["in"], "rule": order["rule"]})
        elif not any(
            leg["id"] in o["ids"] for o in self.orders if o["kind"] == "close" and o["trade"] == trade["number"]
        ):
            self.leave_legs(trade, [(leg["id"], leg["contract"], leg["n"])], order["rule"], True)

    def lapse(self) -> None:
        patience = self.set.get("patience", {"entry": ""})
        for order in [o for o in self.orders if o["kind"] != "close"]:
            over = self.last or order["session"] != self.session
            if not over and patience["entry"] == "give_up" and order["kind"] == "open":
                waited, shares = self.waited(order), 1
                way = patience["most"] - patience["start"]
                if patience["step"] > 0 and way > 0:
                    shares += math.ceil(way / patience["step"])
                over = waited is not None and waited >= shares * patience["minutes"]
            if not over:
                continue
            self.orders.remove(order)
            mine = [t for t in self.open if t["number"] == order["trade"] and not order.get("ending")]
            for trade in mine if order["kind"] == "open" else ():
                if self.set["leg_by_leg"]["rest"] == "undo":
                    self.leave(trade, self.set["leg_by_leg"]["id"], True)

    def close_leg(self, trade: dict[str, Any], leg: dict[str, Any], price: Fraction) -> None:
        trade["legs"].remove(leg)
        self.gone(trade, leg, leg["n"], price, "settlement" if self.over(leg["contract"]) else "order")
        self.pay(trade, cents(leg["n"] * price * MONEY))

    def pay(self, trade: dict[str, Any], amount: Decimal) -> None:
        self.cash += amount
        trade["cash"] += amount

    def leave(self, trade: dict[str, Any], rule: str, loss: bool) -> None:
        raise NotImplementedError

    def finish(self, trade: dict[str, Any], rule: str, left: int) -> None:
        raise NotImplementedError

    def again(self, trade: dict[str, Any], rule: str, left: int) -> None:
        raise NotImplementedError

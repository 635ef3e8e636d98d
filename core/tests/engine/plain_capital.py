"""Capital, as plainly as possible (rule 18)."""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.optimize import linear_sum_assignment

from tests.engine.plain_recording import MONEY, MULTIPLIER, QUANTUM, Contract, Fraction, Here


class Capital(Here):
    def new_price(self, leg: tuple[Contract, int]) -> Fraction:
        quote = self.recording.quote(leg[0], self.session, self.snap) or (0, 0)
        mid, half = Fraction(sum(quote), 2), Fraction(quote[1] - quote[0], 2)
        if leg[1] < 0 and quote[0] == 0:
            return mid
        return mid + Fraction(self.set.get("fill_model", {"share": 100})["share"], 100) * half * (
            1 if leg[1] > 0 else -1
        )

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
            total += float(sum((n * price for _, n, price in held), Fraction(0)) * MONEY)
            for order in [o for o in self.orders if o["kind"] == "open" and o["trade"] == trade["number"]]:
                # legs of its entry that are still to come stand beside those that are there
                quotes = [self.recording.quote(contract, self.session, self.snap) for contract, _ in order["legs"]]
                held += [(*leg, Fraction(sum(q or (0, 0)), 2)) for leg, q in zip(order["legs"], quotes, strict=True)]
            total -= self.capital(held)
        for order in self.orders:
            if order["kind"] == "open" and all(trade["number"] != order["trade"] for trade in self.open):
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

    def capital_of(self, picked: dict[str, tuple[Contract, int]]) -> float:
        quotes = [self.recording.quote(c, self.session, self.snap) or (0, 0) for c, _ in picked.values()]
        return self.capital([(*leg, Fraction(sum(q), 2)) for leg, q in zip(picked.values(), quotes, strict=True)])

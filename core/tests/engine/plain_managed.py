"""Exits of legs and of shares, what follows them, and adjustments, as plainly as possible."""

from __future__ import annotations

import datetime as dt
import math
from typing import Any

from tests.engine.plain_recording import ABSENT, QUANTUM, Contract, Fraction, compares
from tests.engine.plain_structures import Structures

OF_LEGS = ("leg_condition", "leg_condition_stop", "leg_condition_partner")
GONE = {"closed": ("order",), "expired": ("settlement",), "delivered": (), "gone": ("order", "settlement")}
PARTS = 2000
"""Of a quantum, in which prices are kept."""
Leg = tuple[str, Contract, int]


class Managed(Structures):
    # -- lots
    def lots_of(self, trade: dict[str, Any]) -> int:
        """Whole lots of what is held."""
        return math.gcd(trade["left"], *(leg["n"] for leg in trade["legs"]))

    def share_of(self, trade: dict[str, Any], percent: int) -> list[Leg]:
        lots = max(1, trade["lots"] * percent // 100)
        out = []
        for leg in trade["legs"]:
            if self.lots_of(trade) == trade["left"]:
                out.append((leg["id"], leg["contract"], leg["n"] // self.lots_of(trade) * lots))
            else:
                part = max(1, abs(leg["n"]) * percent // 100)
                out.append((leg["id"], leg["contract"], part if leg["n"] > 0 else -part))
        return out

    # -- exits
    def stopped(self, trade: dict[str, Any], stop: dict[str, Any]) -> bool:
        leg = next(leg for leg in trade["legs"] if leg["id"] == stop["leg"])
        quote = self.recording.quote(leg["contract"], self.session, self.snap)
        if quote is None:
            return False
        # in whole parts of a quantum: a mid is a half at most
        mid = Fraction(sum(quote), 2)
        return bool(mid >= stop["price"] if leg["n"] < 0 else mid <= stop["price"])

    def wishes(self, trade: dict[str, Any], working: set[str]) -> list[dict[str, Any]]:
        """Exits in their order: of the position, then of legs and stops, losses first in each."""
        held = [leg["id"] for leg in trade["legs"]]
        whole, parts = [], []
        for rule in trade["entry"]["leaves"]:
            if rule["rule"] not in (*OF_LEGS, "condition_share"):
                whole.append({"rule": rule, "id": rule["id"], "loss": self.is_loss(rule), "legs": held, "whole": True})
                continue
            legs = held if rule["rule"] == "condition_share" else [rule["what"]]
            if set(legs) <= set(held) and not set(legs) & working and rule["id"] not in trade["acted"]:
                parts.append({"rule": rule, "id": rule["id"], "loss": self.is_loss(rule), "legs": legs, "whole": False})
        for stop in trade["stops"]:
            if stop["leg"] in held and stop["leg"] not in working:
                parts.append({"stop": stop, "id": stop["rule"], "loss": True, "legs": [stop["leg"]], "whole": False})
        return [*whole, *(w for w in parts if w["loss"]), *(w for w in parts if not w["loss"])]

    def acting_now(self, trade: dict[str, Any], working: set[str], entering: bool) -> list[dict[str, Any]]:
        out: list[dict[str, Any]] = []
        for wish in self.wishes(trade, working):
            if entering and not wish["loss"]:
                continue
            if not (self.stopped(trade, wish["stop"]) if "stop" in wish else self.leaves(wish["rule"], trade)):
                continue
            if not any(other["whole"] or set(wish["legs"]) & set(other["legs"]) for other in out):
                out.append(wish)
        return out

    def over(self, contract: Contract) -> bool:
        raise NotImplementedError

    def leaves(self, rule: dict[str, Any], trade: dict[str, Any]) -> bool:
        raise NotImplementedError

    def is_loss(self, rule: dict[str, Any]) -> bool:
        raise NotImplementedError

    # -- adjustments
    def asked_now(self, rule: dict[str, Any], trade: dict[str, Any]) -> bool:
        """Whether an adjustment is looked at now."""
        if not rule.get("daily") and not rule.get("upon"):
            return self.look(trade["entry"]) == "due"
        if rule.get("daily") and self.at_time(rule["daily"]):
            return True
        if self.single and self.set.get("single_snapshots", {"policy": "decide"})["policy"] == "skip":
            return False
        if rule.get("upon") == "every":
            return True
        hows = GONE[rule["upon"]] if rule.get("upon") else ()
        sessions = [
            (leg["out_session"], leg["out_session"] + leg["out_last"]) for leg in trade["gone"] if leg["by"] in hows
        ]
        return any(self.session in both for both in sessions)

    def at_time(self, time: str) -> bool:
        weekdays = ["mon", "tue", "wed", "thu", "fri"]
        return self.look({"when": [{"rule": "decision_times", "weekdays": weekdays, "time": time}]}) == "due"

    def held_legs(self, trade: dict[str, Any]) -> list[Leg]:
        return [(leg["id"], leg["contract"], leg["n"]) for leg in trade["legs"]]

    def as_picked(self, legs: list[Leg], lots: int | None = None) -> dict[str, tuple[Contract, int]]:
        """Legs as a lot of a structure."""
        parts = lots or math.gcd(*(n for _, _, n in legs))
        return {name: (contract, n // parts) for name, contract, n in legs}

    def would_hold(self, condition: dict[str, Any], legs: list[Leg], brings: float | None) -> bool:
        """Of a position that dealing would make which ``brings`` so many points; nothing: it cannot be dealt."""
        parts = math.gcd(*(n for _, _, n in legs))
        self.brings = None if brings is None else brings / parts
        sides = [self.value(condition[side], None, self.as_picked(legs)) for side in ("left", "right")]
        return compares(condition, *sides)

    def credit_of(self, trade: dict[str, Any], legs: list[Leg]) -> float | None:
        """What dealing in legs brings now, in points."""
        held, found = {(leg["id"], leg["contract"]) for leg in trade["legs"]}, Fraction(0)
        for name, contract, n in legs:
            price = self.dealt_at(contract, n, (name, contract) in held)
            if price is None:
                return None
            found -= n * Fraction(round(PARTS * price), PARTS)
        return float(found * QUANTUM)

    def credit_between(self, trade: dict[str, Any], wanted: list[Leg]) -> float | None:
        count: dict[tuple[str, Contract], int] = {}
        for name, contract, n in [*((name, c, -n) for name, c, n in self.held_legs(trade)), *wanted]:
            count[name, contract] = count.get((name, contract), 0) + n
        return self.credit_of(trade, [(*key, n) for key, n in count.items() if n])

    def ladder(self, leg: dict[str, Any], where: str) -> list[Contract]:
        """Quoted contracts away from the money or toward it, nearest first."""
        day, right, strike = leg["contract"]
        up = (right == "call") == (where == "away")
        found = [
            c
            for c in self.recording.rows[self.session]
            if c[:2] == (day, right) and (c[2] > strike) == up and c[2] != strike
        ]
        quoted = [c for c in found if self.recording.quote(c, self.session, self.snap)]
        return sorted(quoted, key=lambda c: abs(c[2] - strike))

    def moves(self, rule: dict[str, Any], trade: dict[str, Any]) -> list[Leg]:
        """What an adjustment would deal in: legs by name, each with a contract and a signed number."""
        kind, held = rule["rule"], {leg["id"]: leg for leg in trade["legs"]}
        if kind == "change_lots":
            lots, more = self.lots_of(trade), rule["lots"] * (1 if rule["way"] == "open" else -1)
            if lots + more > rule["bound"] if more > 0 else lots + more < rule["bound"]:
                return []
            return [(name, leg["contract"], leg["n"] // lots * more) for name, leg in held.items()]
        if kind in ("roll_out", "roll_leg_out"):
            mine = [leg for leg in trade["legs"] if leg["n"] < 0] if kind == "roll_out" else [held.get(rule["what"])]
            return self.rolled_out(rule, [leg for leg in mine if leg])
        if kind == "open_leg":
            sheet = next(leg for leg in trade["entry"]["later"] if leg["id"] == rule["what"])
            contract = None if rule["what"] in held else self.picked_beside(sheet, trade)
            count = sheet["ratio"] * (-1 if sheet["side"] == "sell" else 1) * self.lots_of(trade)
            return [] if contract is None else [(rule["what"], contract, count)]
        leg = held.get(rule["what"])
        if leg is None:
            return []
        if kind == "recentre":
            return self.recentred(rule, trade, leg)
        if kind == "close_leg":
            return [(leg["id"], leg["contract"], -leg["n"])] if len(held) > 1 else []
        if kind == "balance":
            return self.balanced(rule, trade, leg)
        to: Contract | None = None
        if kind == "roll_strikes":
            ladder = self.ladder(leg, rule["where"])
            to = ladder[rule["strikes"] - 1] if len(ladder) >= rule["strikes"] else None
        elif kind == "roll_until":
            goal = {"left": rule["goal"], "is": rule["goal_is"], "right": rule["goal_than"]}
            for contract in self.ladder(leg, rule["where"])[: rule["most"]]:
                legs = [(n, contract if n == leg["id"] else c, k) for n, c, k in self.held_legs(trade)]
                if self.would_hold(goal, legs, self.credit_between(trade, legs)):
                    to = contract
                    break
        elif kind == "roll_anew":
            sheets = [*trade["entry"]["legs"], *trade["entry"]["later"]]
            to = self.picked_beside(next(sheet for sheet in sheets if sheet["id"] == leg["id"]), trade)
        elif kind == "roll_like":
            sheets = [*trade["entry"]["legs"], *trade["entry"]["later"]]
            to = self.picked_beside(next(sheet for sheet in sheets if sheet["id"] == rule["other"]), trade, leg["id"])
        else:
            assert kind == "roll_to_delta", kind
            to = self.nearest_delta(leg["contract"], rule["delta"])
        if to is None or to == leg["contract"]:
            return []
        return [(leg["id"], leg["contract"], -leg["n"]), (leg["id"], to, leg["n"])]

    def picked_beside(self, sheet: dict[str, Any], trade: dict[str, Any], aside: str = "") -> Contract | None:
        """What a leg's sentence picks now beside the trade's other legs."""
        aside = aside or sheet["id"]
        others = [leg for leg in trade["legs"] if leg["id"] != aside and not self.over(leg["contract"])]
        count = sheet["ratio"] * (-1 if sheet["side"] == "sell" else 1)
        picked = {leg["id"]: (leg["contract"], leg["n"]) for leg in others}
        return self.pick(
            sheet, picked, [leg["contract"] for leg in others if leg["n"] * count < 0], trade["entry"]["checks"]
        )

    def nearest_delta(self, like: Contract, wanted: float) -> Contract | None:
        found = []
        for contract in self.recording.rows[self.session]:
            if contract[:2] == like[:2] and self.recording.quote(contract, self.session, self.snap):
                delta = self.recording.delta(contract, self.session, self.snap)
                if delta is not None:
                    outward = -contract[2] if contract[1] == "call" else contract[2]
                    found.append((abs(abs(delta) - round(wanted * 10_000)), outward, contract))
        return min(found)[2] if found else None

    def listed(self, day: dt.date, right: str) -> list[int]:
        """Quoted strikes of an expiration."""
        return [
            c[2] for c in self.recording.listed[self.session][day, right]
            if self.recording.quote(c, self.session, self.snap)
        ]  # fmt: skip

    def rolled_out(self, rule: dict[str, Any], legs: list[dict[str, Any]]) -> list[Leg]:
        out: list[Leg] = []
        for leg in legs:
            day, right, strike = leg["contract"]
            # expirations in which anything is offered now
            later = {e for e in self.recording.quoted(self.session, self.snap) if e > day}
            if not later:
                return []
            wanted = day + dt.timedelta(days=rule["days"])
            to = min(later, key=lambda e: (abs((e - wanted).days), e))
            strikes = self.listed(to, right)
            if not strikes:
                return []
            near = min(strikes, key=lambda k: (abs(k - strike), k))
            out += [(leg["id"], leg["contract"], -leg["n"]), (leg["id"], (to, right, near), leg["n"])]
        return out

    def recentred(self, rule: dict[str, Any], trade: dict[str, Any], leg: dict[str, Any]) -> list[Leg]:
        level = self.value(rule["value"])
        strikes = self.listed(*leg["contract"][:2])
        if level is None or level is ABSENT or not strikes:
            return []
        moved = min(strikes, key=lambda k: (abs(k - level), k)) - leg["contract"][2]
        at_most = int(self.recording.chains[self.session].spot[self.snap]) / 100 * rule["within"] / 100
        out: list[Leg] = []
        taken: set[Contract] = set()
        for held in trade["legs"]:
            day, right, strike = held["contract"]
            near = min(self.listed(day, right), key=lambda k: (abs(k - strike - moved), k), default=None)
            if near is None or abs(near - strike - moved) > at_most or (day, right, near) in taken:
                return []
            taken.add((day, right, near))
            if near != strike:
                out += [(held["id"], held["contract"], -held["n"]), (held["id"], (day, right, near), held["n"])]
        return out

    def balanced(self, rule: dict[str, Any], trade: dict[str, Any], leg: dict[str, Any]) -> list[Leg]:
        found = []
        for more in range(-rule["most"], rule["most"] + 1):
            if (leg["n"] + more) * leg["n"] <= 0:
                continue
            legs = [(n, c, k + more if n == leg["id"] else k) for n, c, k in self.held_legs(trade)]
            self.brings = self.credit_between(trade, legs)
            goal, to = (self.value(rule[name], None, self.as_picked(legs, 1)) for name in ("goal", "to"))
            if goal is None or to is None:
                return []
            found.append((round(abs(goal - to), 9), abs(more), more))
        more = min(found)[2]
        return [(leg["id"], leg["contract"], more)] if more else []

    def proposal(self, rules: list[dict[str, Any]], trade: dict[str, Any]) -> list[Leg]:
        """What the first adjustment asks for, with what it wants of the next."""
        rule = rules[0]
        legs = self.moves(rule, trade)
        if any(self.over(contract) for _, contract, _ in legs):
            return []
        provided = [*([rule["provided"]] if rule.get("provided") else []), *(rule.get("provided_also") or [])]
        if not legs or not (rule.get("further") or provided):
            return legs
        then = self.as_dealt(trade, legs)
        if rule.get("further"):
            more = self.proposal(rules[1:], then) if then and rules[1:] and self.true_now(rules[1], then) else []
            if more:
                count: dict[tuple[str, Contract], int] = {}
                for name, contract, n in [*legs, *more]:
                    count[name, contract] = count.get((name, contract), 0) + n
                legs = [(*key, n) for key, n in count.items() if n]
                then = self.as_dealt(trade, legs)
            elif rule["further"] == "must":
                return []
        brings = self.credit_of(trade, legs)
        for condition in provided:
            if not (then and then["legs"] and self.would_hold(condition, self.held_legs(then), brings)):
                return []
        return legs

    def as_dealt(self, trade: dict[str, Any], legs: list[Leg]) -> dict[str, Any] | None:
        """A trade as it would be once legs are dealt at what they fill at now."""
        made: dict[str, Any] = {**trade, "legs": [dict(leg) for leg in trade["legs"]], "gone": list(trade["gone"])}
        dealt = []
        held = {(leg["id"], leg["contract"]) for leg in trade["legs"]}
        for name, contract, n in legs:
            price = self.dealt_at(contract, n, (name, contract) in held)
            if price is None:
                return None
            dealt.append((name, contract, n, price))
        self.put(made, dealt)
        self.mark_one(made)
        return made

    def dealt_at(self, contract: Contract, n: int, closes: bool) -> Fraction | None:
        quote = self.recording.quote(contract, self.session, self.snap)
        if quote is None or (n < 0 and quote[0] == 0 and not closes):
            return None
        if n < 0 and quote[0] == 0:
            return Fraction(0)
        mid, half = Fraction(sum(quote), 2), Fraction(quote[1] - quote[0], 2)
        share = Fraction(self.set.get("fill_model", {"share": 100})["share"], 100)
        return mid + share * half * (1 if n > 0 else -1)

    def put(self, trade: dict[str, Any], dealt: list[tuple[str, Contract, int, Fraction]]) -> None:
        """A trade's legs after an adjustment."""
        before = {leg["id"]: leg["n"] for leg in trade["legs"]}
        lots = self.lots_of(trade)
        names = list(before)
        for name, contract, n, price in dealt:
            held = next((leg for leg in trade["legs"] if (leg["id"], leg["contract"]) == (name, contract)), None)
            if held is None:
                trade["legs"].append({"contract": contract, "n": n, "in": price, "id": name, "from": self.at})
            elif (held["n"] > 0) == (n > 0):
                # the average, to the part of a quantum that the book keeps; its record has what came when
                held["came"] = [*held.get("came", [[held["n"], held["in"]]]), [n, price]]
                held["in"] = Fraction(round(PARTS * (held["n"] * held["in"] + n * price) / (held["n"] + n)), PARTS)
                held["n"] += n
            else:
                self.gone(trade, held, -n, price, "adjustment")
                held["n"] += n
        trade["legs"] = [leg for leg in trade["legs"] if leg["n"]]
        trade["legs"].sort(key=lambda leg: names.index(leg["id"]) if leg["id"] in names else len(names))
        after = {leg["id"]: leg for leg in trade["legs"]}
        if not after or set(after) != set(before):
            return
        grown = {Fraction((leg["n"] - before[name]) * lots, before[name]) for name, leg in after.items()}
        more = grown.pop()
        if grown or not more or more.denominator != 1:
            return
        trade["lots"] += int(more)
        trade["left"] += int(more)
        if more > 0:
            prices = {(name, contract): price for name, contract, _, price in dealt}
            for name, leg in after.items():
                trade["premium"] -= (leg["n"] - before[name]) * prices[name, leg["contract"]]

    def gone(self, trade: dict[str, Any], leg: dict[str, Any], n: int, price: Fraction, by: str) -> None:
        """So many contracts of a leg are closed."""
        last = self.snap == len(self.recording.chains[self.session].times) - 1
        told = {"n": n, "out": price, "by": by, "out_at": self.at, "out_session": self.session, "out_last": int(last)}
        for n_then, at_then in self.came(leg, n):
            trade["gone"].append({**leg, **told, "n": n_then, "in": at_then})
        trade["realised"] += n * (price - leg["in"])

    @staticmethod
    def came(leg: dict[str, Any], n: int) -> list[tuple[int, Fraction]]:
        """So many contracts of a leg as they came, the oldest first; at the average, once a part of them goes alone."""
        came = leg.pop("came", None)
        if came is None or n == leg["n"]:
            return [(each, price) for each, price in came or [(n, leg["in"])]]
        one_by_one = [place for place, (each, _) in enumerate(came) for _ in range(abs(each))]
        sign = 1 if n > 0 else -1
        first, rest = one_by_one[: abs(n)], one_by_one[abs(n) :]
        leg["came"] = [[sign * rest.count(place), leg["in"]] for place in sorted(set(rest))]
        return [(sign * first.count(place), leg["in"]) for place in sorted(set(first))]

    def mark_one(self, trade: dict[str, Any]) -> None:
        raise NotImplementedError

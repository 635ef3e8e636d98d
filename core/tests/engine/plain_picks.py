"""Picks and checks of a sheet, as plainly as possible."""

from __future__ import annotations

import datetime as dt
import math
from typing import Any

from strell_core.market.chains import SessionChain
from tests.demo import REPORTS
from tests.engine.plain_recording import ABSENT, QUANTUM, Contract, Fraction
from tests.engine.plain_values import Values

BY_VALUE = ("at_value", "value_out", "value_from_leg")
"""Picks that go by a value in points."""


class Picks(Values):
    tried: dt.date | None = None
    """The expiration that legs which walk out are tried with."""

    def pick(
        self, leg: dict[str, Any], picked: dict[str, tuple[Contract, int]], other_way: list[Contract],
        checks: list[dict[str, Any]],
    ) -> Contract | None:  # fmt: skip
        return next(iter(self.ranked(leg, picked, other_way, checks)), None)

    def ranked(
        self, leg: dict[str, Any], picked: dict[str, tuple[Contract, int]], other_way: list[Contract],
        checks: list[dict[str, Any]], passed_over: int = 0,
    ) -> list[Contract]:  # fmt: skip
        """What a leg may take, best first; ``passed_over``: so many of its expirations are passed over."""
        chain = self.recording.chains[self.session]
        first = next((contract[0] for contract, _ in picked.values()), None)
        today = chain.date
        quoted = self.recording.quoted(self.session, self.snap)
        expiry = leg["expiry"]
        if expiry["pick"] == "nearest_days":
            listed = [e for e in quoted if expiry["from"] <= (e - today).days <= expiry["to"]]
            target = today + dt.timedelta(days=expiry["days"])
        elif expiry["pick"] == "walk_out":
            listed, target = [e for e in quoted if e == self.tried], today
        elif expiry["pick"] == "same_expiration":
            listed, target = [e for e in quoted if e == first], first or today
        elif expiry["pick"] == "nth_listed":
            later = sorted(e for e in quoted if (e - today).days >= expiry["days"])
            listed, target = later[expiry["n"] - 1 : expiry["n"]], today
        elif expiry["pick"] == "around_event":
            assert (expiry["which"], expiry["side"]) == ("nearest", "after")
            report = min((date for date in REPORTS if date >= today), default=None)
            if report is None:
                return []
            # what settles on its day does so before it comes
            listed, target = [e for e in quoted if e > report], report
        elif expiry["pick"] in ("days_after_leg", "same_as_leg", "nth_after_leg"):
            of = picked[expiry["leg"]][0][0]
            later = sorted(e for e in quoted if e > of)
            listed, target = later, of + dt.timedelta(days=expiry.get("days", 0))
            if expiry["pick"] == "same_as_leg":
                listed = [e for e in quoted if e == of]
            elif expiry["pick"] == "nth_after_leg":
                listed = later[expiry["n"] - 1 : expiry["n"]]
        else:
            if first is None:
                return []
            listed, target = [e for e in quoted if e > first], first + dt.timedelta(days=expiry["days"])
        listed = sorted(listed, key=lambda e: (abs((e - target).days), e))[passed_over:]
        if not listed:
            return []
        chosen = listed[0]
        found: list[tuple[Any, Contract]] = []
        for contract in self.recording.listed[self.session][chosen, leg["right"]]:
            away = self.away(leg["strike"], contract, chain, picked)
            if away is None or contract in other_way:
                continue
            outward = -contract[2] if leg["right"] == "call" else contract[2]
            if self.allowed(contract, checks):
                found.append(((away, outward), contract))
        at_most = self.at_most(leg["strike"], chain)
        return [contract for (away, _), contract in sorted(found) if away <= at_most]

    def expirations_tried(self, entry: dict[str, Any]) -> list[dt.date | None]:
        """Expirations that a sheet walks out through, nearest first; nothing in particular where it does not walk."""
        chain = self.recording.chains[self.session]
        picks = [leg["expiry"] for leg in entry["legs"] if leg["expiry"]["pick"] == "walk_out"]
        if not picks:
            return [None]
        found = self.recording.quoted(self.session, self.snap)
        return sorted(e for e in found if picks[0]["from"] <= (e - chain.date).days <= picks[0]["to"]) or [None]

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
        if pick["pick"] == "premium_value":
            return pick["within"] / 100
        if pick["pick"] in ("percent_rounded", "expected_moves", "points_from_leg", "fixed_strike", *BY_VALUE):
            return float(int(chain.spot[self.snap]) / 100 * pick["within"] / 100) + 5e-7
        if pick["pick"] == "strikes_from_leg":
            return pick["within"]
        if pick["pick"] == "nearest_delta":
            wide = pick["within"]
            return round((pick["delta"] * int(wide[:-2]) / 100 if isinstance(wide, str) else wide) * 10_000)
        if pick["pick"] == "strikes_from_money":
            return pick["within"]
        share = Fraction(str(pick["within"])) / 100
        of = Fraction(int(chain.spot[self.snap]), 100) if pick["pick"] == "percent_from_spot" else pick["points"]
        return share * Fraction(str(of))

    def away(
        self, pick: dict[str, Any], contract: Contract, chain: SessionChain, picked: dict[str, tuple[Contract, int]]
    ) -> Any:
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
        if pick["pick"] == "premium_value":
            wanted = self.value(pick["value"], None, picked)
            if wanted is None or wanted is ABSENT or wanted <= 0:
                return None
            return round(abs(float(Fraction(sum(quote), 2) * QUANTUM) - round(wanted, 6)) / round(wanted, 6), 6)
        if pick["pick"] in ("percent_rounded", "expected_moves", "fixed_strike", *BY_VALUE):
            spot = int(chain.spot[self.snap]) / 100
            points = self.value(pick["value"], None, picked) if pick["pick"] in BY_VALUE else 0.0
            if points is None or points is ABSENT:
                return None
            points = round(points, 6)
            if pick["pick"] == "percent_rounded":
                level = spot + out * spot * pick["percent"] / 100
            elif pick["pick"] == "fixed_strike":
                level = pick["strike"]
            elif pick["pick"] == "at_value":
                level = points
            elif pick["pick"] == "value_out":
                level = spot + out * points
            elif pick["pick"] == "value_from_leg":
                level = picked[pick["leg"]][0][2] + out * points
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
            there = self.recording.offered(self.session, self.snap)[contract[:2]]
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
        listed = self.recording.offered(self.session, self.snap)[contract[:2]]
        centre = min(range(len(listed)), key=lambda i: abs(listed[i] - forward))
        at = centre + (1 if contract[1] == "call" else -1) * pick["strikes"]
        return abs(listed.index(strike) - at) if 0 <= at < len(listed) else None

    def straddle(self, expiration: dt.date, chain: SessionChain) -> float | None:
        """Mid of call and put at the strike nearest to the forward that quotes both, points."""
        forward = float(chain.forward[chain.expirations.index(expiration), self.snap])
        both = []
        for _, _, strike in self.recording.listed[self.session][expiration, "call"]:
            call = self.recording.quote((expiration, "call", strike), self.session, self.snap)
            put = self.recording.quote((expiration, "put", strike), self.session, self.snap)
            if call and put:
                both.append((abs(strike - forward), strike, sum(call) + sum(put)))
        return min(both)[2] / 2 * float(QUANTUM) if both and forward > 0 else None

    def from_wish(self, rule: dict[str, Any], named: dict[str, tuple[Contract, int]]) -> float | None:
        """How far a structure is from what legs that are chosen together should come to."""
        goal, to = (self.value(rule[side], None, named) for side in ("goal", "to"))
        return None if goal in (None, ABSENT) or to in (None, ABSENT) else round(abs(goal - to), 9)  # type: ignore[operator]

    def holds(
        self, rule: dict[str, Any], picked: list[tuple[Contract, int]], named: dict[str, tuple[Contract, int]]
    ) -> bool:
        if rule["rule"] == "strike_filter":
            return True
        if rule["rule"] == "together":
            return self.from_wish(rule, named) is not None
        if rule["rule"] == "condition":
            return self.true_now(rule, picked=named)
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

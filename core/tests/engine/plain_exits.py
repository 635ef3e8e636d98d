"""Exits of the second implementation, as plainly as possible (rule 7)."""

from __future__ import annotations

import datetime as dt
from typing import Any

from tests.engine.plain_managed import OF_LEGS
from tests.engine.plain_orders import Orders
from tests.engine.plain_recording import Fraction, local

AGAIN = ("condition_again", "condition_other_entry")
"""Exits after which an entry is made again."""


class Exits(Orders):
    def exits(self) -> None:
        for trade in list(self.open):
            mine = [o for o in self.orders if o["trade"] == trade["number"]]
            over = {leg["id"] for leg in trade["legs"] if self.over(leg["contract"])}
            if any(o.get("whole") for o in mine) or len(over) == len(trade["legs"]):
                continue
            working = over | {name for o in mine if o["kind"] == "close" for name in o["ids"]}
            # legs of its entry that are still to come are waited for, but not with a loss
            entering = any(o["kind"] == "open" for o in mine)
            for wish in self.acting_now(trade, working, entering):
                if wish["whole"]:
                    self.leave(trade, wish["id"], wish["loss"])
                    continue
                legs = [leg for leg in self.held_legs(trade) if leg[0] in wish["legs"]]
                rule, then, before = wish.get("rule", {}), {}, len(self.orders)
                if rule.get("rule") == "condition_share":
                    trade["acted"].add(rule["id"])
                    legs = self.share_of(trade, rule["percent"])
                elif rule.get("rule") in ("leg_condition_stop", "leg_condition_partner"):
                    then = {"do": "stop" if rule["rule"].endswith("stop") else "close", "leg": rule["other"]}
                self.leave_legs(trade, legs, wish["id"], wish["loss"], then)
                if rule.get("rule") == "condition_share" and self.lots_of(trade) == trade["left"]:
                    self.orders[before]["share"] = max(1, trade["lots"] * rule["percent"] // 100)

    @staticmethod
    def is_loss(rule: dict[str, Any]) -> bool:
        return rule["rule"] in ("premium_stop", "strike_fence", "profit_floor") or rule.get("as") == "loss"

    def doubtful(self, trade: dict[str, Any]) -> bool:
        marks = self.set.get("doubtful_marks", {"percent": 50, "last": "wait"})
        if trade["mid"] is None:
            return True
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
        if kind == "condition" or kind in (*AGAIN, *OF_LEGS, "condition_share"):
            return self.true_to_leave(rule, trade) and not (rule["as"] == "profit" and self.doubtful(trade))
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
            return held > rule["days"] or (held == rule["days"] and now >= self.leaving(rule["time"]))
        assert kind == "before_expiration", kind
        wanted = min(leg["contract"][0] for leg in trade["legs"]) - dt.timedelta(days=rule["days"])
        leaving = wanted
        while leaving not in self.recording.closes:
            leaving -= dt.timedelta(days=1)
        return today > leaving or (today == leaving and now >= self.leaving(rule["time"]))

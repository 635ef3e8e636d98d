"""What was true of trades and of the account at earlier snapshots, as plainly as possible: all of it is kept, by snapshot."""

from __future__ import annotations

from typing import Any

from tests.engine.plain_recording import ABSENT, compares

CROSSINGS = ("crosses above", "crosses below")
NOT_OF_A_MARKET = (
    "position_capital", "pnl", "pnl_drop", "net_greek", "move_since_entry", "days_to_expiration", "days_held_so_far", "leg_price",
    "leg_greek", "leg_distance", "leg_pnl", "leg_iv_change", "leg_days", "leg_contracts", "leg_strike", "account_greek", "open_trade",
    "losses_in_a_row", "sessions_since_loss", "losses_today", "realised_today", "pnl_today", "below_high", "open_trades",
)  # fmt: skip


def of_a_market(item: Any) -> bool:
    """Whether nothing in a comparison speaks of a trade or of the account."""
    if isinstance(item, dict):
        return item.get("measure") not in NOT_OF_A_MARKET and all(of_a_market(inner) for inner in item.values())
    return not isinstance(item, list) or all(of_a_market(inner) for inner in item)


def comparisons(rule: dict[str, Any]) -> list[dict[str, Any]]:
    return [rule, *(rule.get("also") or ()), *([rule["until"]] if rule.get("until") else [])]


def needs_past(rule: dict[str, Any]) -> bool:
    """Whether something of it has to be kept that no recording tells."""
    if "left" not in rule or all(of_a_market([item["left"], item["right"]]) for item in comparisons(rule)):
        return False
    return bool(rule.get("until")) or any(item.get("looks") or item["is"] in CROSSINGS for item in comparisons(rule))


def said(rule: dict[str, Any]) -> str:
    return repr([rule.get(name) for name in ("left", "is", "right", "looks", "join", "also", "until")])


class Past:
    """Of a trade, in it; of the account, by who asks."""

    session: int
    snap: int
    recording: Any
    accounts: dict[str, dict[str, Any]]
    asking = ""
    """The entry that asks; nothing: a limit that closes."""

    def value(self, value: dict[str, Any], trade: dict[str, Any] | None = None, picked: Any = None) -> float | None:
        raise NotImplementedError

    def one(self, rule: dict[str, Any], trade: dict[str, Any] | None = None, picked: Any = None) -> bool:
        raise NotImplementedError

    def together(self, rule: dict[str, Any], trade: dict[str, Any] | None = None, picked: Any = None) -> bool:
        raise NotImplementedError

    def kept(self, rule: dict[str, Any], trade: dict[str, Any] | None) -> dict[int, Any]:
        """By number of the snapshot, from those before this one."""
        now = self.recording.number[self.session, self.snap]
        holder = self.accounts.setdefault(self.asking, {}) if trade is None else trade
        every = holder.setdefault("past", {}).get(said(rule), {})
        return {place: found for place, found in every.items() if place < now}

    def note(self, rules: list[dict[str, Any]], trade: dict[str, Any] | None = None) -> None:
        """Keep what conditions will need of this snapshot."""
        now = self.recording.number[self.session, self.snap]
        holder = self.accounts.setdefault(self.asking, {}) if trade is None else trade
        past = holder.setdefault("past", {})
        for rule in rules:
            if not needs_past(rule):
                continue
            for item in comparisons(rule):
                if item["is"] in CROSSINGS:
                    past.setdefault(said({**item, "also": None, "until": None, "join": None}), {})[now] = (
                        self.difference(item, trade)
                    )
                elif item.get("looks"):
                    alone = {**item, "also": None, "until": None, "join": None}
                    past.setdefault(said(alone), {})[now] = self.compared(alone, trade)
            if rule.get("until"):
                past.setdefault(said(rule), {})[now] = self.lasts(rule, trade)

    def difference(self, rule: dict[str, Any], trade: dict[str, Any] | None) -> float | None:
        left, right = (self.value(rule[side], trade) for side in ("left", "right"))
        if left is ABSENT or right is ABSENT:
            return ABSENT
        return None if left is None or right is None else round(left - right, 9)

    def compared(self, rule: dict[str, Any], trade: dict[str, Any] | None) -> bool | None:
        """Nothing: a value is not there."""
        sides = [self.value(rule[side], trade) for side in ("left", "right")]
        return None if None in sides and ABSENT not in sides else compares(rule, *sides)

    def in_a_row(self, rule: dict[str, Any], trade: dict[str, Any] | None) -> bool | None:
        """Nothing: it was false at none of the last snapshots, and is not known of one."""
        alone = {**rule, "also": None, "until": None, "join": None}
        now, before = self.recording.number[self.session, self.snap], self.kept(alone, trade)
        found = [before.get(place) for place in range(now - rule["looks"] + 1, now)]
        found.append(self.compared(alone, trade))
        return False if False in found else None if None in found else True

    def crossing(self, rule: dict[str, Any], trade: dict[str, Any] | None) -> bool | None:
        """Nothing: what it is now, or was last, is not known."""
        now, then = self.difference(rule, trade), None
        alone = {**rule, "also": None, "until": None, "join": None}
        for _, found in sorted(self.kept(alone, trade).items()):
            then = None if found is ABSENT else then if found is None else found
        if now is ABSENT:
            return False
        if now is None or then is None:
            return None
        return now > 0 >= then if rule["is"] == "crosses above" else now < 0 <= then

    def by_its_past(self, rule: dict[str, Any], trade: dict[str, Any] | None) -> bool | None:
        return self.crossing(rule, trade) if rule["is"] in CROSSINGS else self.in_a_row(rule, trade)

    def lasts(self, rule: dict[str, Any], trade: dict[str, Any] | None) -> bool:
        before = self.kept(rule, trade)
        if self.one({**rule["until"]}, trade):
            return False
        return self.together({**rule, "until": None}, trade) or bool(before and before[max(before)])

"""Values of a sheet, and money, as plainly as possible."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from tests.demo import REPORTS, breadth
from tests.engine.plain_capital import Capital
from tests.engine.plain_market import move_chance, volatility
from tests.engine.plain_past import CROSSINGS, Past, needs_past, of_a_market
from tests.engine.plain_recording import (
    ABSENT,
    MONEY,
    MULTIPLIER,
    QUANTUM,
    ZONE,
    Contract,
    Fraction,
    compares,
    local,
    minute,
)

OF_A_TRADE = (
    "position_capital", "pnl", "pnl_drop", "net_greek", "move_since_entry", "days_to_expiration", "days_held_so_far",
)  # fmt: skip


class Values(Past, Capital):
    # -- conditions
    def true_now(self, rule: dict[str, Any], trade: dict[str, Any] | None = None, picked: Any = None) -> bool:
        """Whether a sentence's conditions hold now."""
        if not rule.get("until"):
            return self.together(rule, trade, picked)
        if needs_past(rule):
            return self.lasts(rule, trade)
        known = self.lasting.get(rule["id"])
        if known is None:
            known, on = [], False
            for place in range(len(self.recording.places)):
                with self.standing(place):
                    if self.one(rule["until"]):
                        on = False
                    elif self.together(rule):
                        on = True
                known.append(on)
            self.lasting[rule["id"]] = known
        return bool(known[self.recording.number[self.session, self.snap]])

    brings: float | None = None
    """What the adjustment that is asked about brings a lot, in points."""
    closing = False
    """The clock's values are asked as they will be on the session's last snapshot."""

    @property
    def to_last(self) -> int:
        """Minutes from a session's last snapshot but one to the last; 0 on every other."""
        minutes = self.recording.minutes[self.session]
        if self.single or self.snap != len(minutes) - 2:
            return 0
        close = minute(self.recording.closes[self.recording.dates[self.session]])
        return int(minutes[-1] - minutes[-2]) if close - minutes[-1] <= minutes[1] - minutes[0] else 0

    def true_to_leave(self, rule: dict[str, Any], trade: dict[str, Any]) -> bool:
        """Whether an exit's conditions hold now, or by the clock on the session's last snapshot, which comes next."""
        if self.true_now(rule, trade):
            return True
        if rule.get("until") or not self.to_last:
            return False
        self.closing = True
        try:
            return self.together(rule, trade)
        finally:
            self.closing = False

    def together(self, rule: dict[str, Any], trade: dict[str, Any] | None = None, picked: Any = None) -> bool:
        found = [self.one(item, trade, picked) for item in (rule, *(rule.get("also") or ()))]
        return any(found) if rule.get("join") == "or" else all(found)

    def bars(self, rule: dict[str, Any]) -> bool:
        """Whether a limit lets nothing be entered: it holds, or it cannot be told whether it does."""
        every = (rule, *(rule.get("also") or ()))
        if rule.get("until") or any(item.get("looks") and of_a_market(item) for item in every):
            return self.true_now(rule)
        found: list[bool | None] = []
        for item in every:
            if item.get("looks") or item["is"] in CROSSINGS:
                found.append(self.by_its_past(item, None))
                continue
            sides = [self.value(item[side]) for side in ("left", "right")]
            found.append(None if None in sides else compares(item, *sides))
        if rule.get("join") == "or":
            return any(item is not False for item in found)
        return all(item is not False for item in found)

    def one(self, rule: dict[str, Any], trade: dict[str, Any] | None = None, picked: Any = None) -> bool:
        if rule["is"] in ("crosses above", "crosses below"):
            if not of_a_market([rule["left"], rule["right"]]):
                return bool(self.by_its_past(rule, trade))
            return self.crossed(rule)
        if rule.get("looks") and not of_a_market([rule["left"], rule["right"]]):
            return bool(self.by_its_past(rule, trade))
        if not rule.get("looks"):
            sides = [self.value(rule[side], trade, picked) for side in ("left", "right")]
            return compares(rule, *sides)
        now = self.recording.number[self.session, self.snap]
        for place in range(now - rule["looks"] + 1, now + 1):
            if place < 0:
                return False
            with self.standing(place):
                if not self.one({**rule, "looks": None}):
                    return False
        return True

    def crossed(self, rule: dict[str, Any]) -> bool:
        """Of a value of completed sessions against a level: it was on the other side, or at it, when it last had a value.
        True all session, and acted on once."""
        away = []
        for session in range(self.session, -1, -1):
            with self.standing(self.recording.number[session, 0]):
                sides = [self.value(rule[side]) for side in ("left", "right")]
            known = None if None in sides else round(float(sides[0] or 0) - float(sides[1] or 0), 9)
            if known is None and session == self.session:
                return False
            if known is not None:
                away.append(known)
            if len(away) == 2:
                break
        if len(away) < 2 or self.entry.get("made") == self.session:
            return False
        now, before = away
        return now > 0 >= before if rule["is"] == "crosses above" else now < 0 <= before

    @contextmanager
    def standing(self, place: int) -> Iterator[None]:
        """Looked at from another snapshot of the recording."""
        before = self.session, self.snap
        self.session, self.snap = self.recording.places[place]
        yield
        self.session, self.snap = before

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
        if name == "while":
            sides = [self.value(value[side], trade, picked) for side in ("left", "right")]
            if None in sides:
                return None
            return self.value(value["then" if compares(value, *sides) else "otherwise"], trade, picked)
        found, grid = self.plain(name, value, trade, picked)
        return found if found is None or found is ABSENT or not grid else round(round(found / grid) * grid, 10)

    def plain(
        self, name: str, value: dict[str, Any], trade: dict[str, Any] | None, picked: Any
    ) -> tuple[float | None, float]:
        """What one measure says, and the grid it is on."""
        chain, money = self.recording.chains[self.session], MONEY
        spot = int(chain.spot[self.snap]) / 100
        closes = self.recording.settled[: self.session]
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
        if name == "move_chance":
            return move_chance(closes, value), 0.01
        if name in ("iv_now", "term_slope"):
            days = [value["days"]] if name == "iv_now" else [value["near"], value["far"]]
            levels = [volatility(self.recording, self.session, self.snap, n) for n in days]
            known = [level for level in levels if level is not None]
            return (known[0] - sum(known[1:]) if len(known) == len(days) else None), 0.01
        if name == "account_greek":
            found = [self.value({"measure": "net_greek"}, trade) for trade in self.open]
            return (None if None in found else sum(x for x in found if x is not None)), 0.0001
        if name == "open_trade":
            return self.of_open(value), 0.0001
        if name == "realised_volatility":
            return self.measure({"rule": "when_realised_volatility", "sessions": n}), 0.01
        if name == "rsi":
            return self.measure({"rule": "when_rsi", "sessions": n}), 0.01
        if name == "atm_iv":
            return self.measure({"rule": "when_atm_iv"}), 0.01
        if name == "statistic":
            assert value["which"] == "average" and value["of"]["measure"] == "atm_iv"
            window = [None if a is None else round(a, 2) for a in self.recording.atm[: self.session]][-n:]
            known = [a for a in window if a is not None]
            return (sum(known) / n if len(known) == n else None), 0.0001
        if name in ("sessions_to_event", "sessions_since_event"):
            # reports come after the close of their day
            to = [date for date in REPORTS if date >= today]
            since = [date for date in REPORTS if date < today]
            days = sorted(self.recording.closes)
            if name == "sessions_to_event":
                return (float(sum(today <= day <= to[0] for day in days)) if to else None), 1
            return (float(sum(since[-1] < day < today for day in days)) if since else None), 1
        if name in ("series_value", "series_age"):
            told = {date: number for date, number in breadth(self.recording.dates).items() if date < today}
            if not told:
                return None, 0
            last = max(told)
            if name == "series_value":
                return told[last], 0
            begins = dt.datetime.combine(last + dt.timedelta(days=1), dt.time(0), ZONE)
            return (self.at - begins.timestamp()) / 86_400, 0.0001
        if name == "weekday":
            return float(today.isoweekday()), 1
        if name == "minutes_to_close":
            return (self.recording.closes[today] - self.at) / 60 - (self.to_last if self.closing else 0), 1
        if name in ("losses_in_a_row", "sessions_since_loss", "losses_today", "realised_today"):
            return self.of_closed(name, value["of"]), 0.01 if name == "realised_today" else 1
        if name == "pnl_today":
            return self.equity() - self.session_ends[-1], 0.01
        if name == "below_high":
            below = max(0.0, max(self.session_ends) - self.equity())
            return (below if value["unit"] == "money" else 100 * below / max(self.session_ends)), 0.0001
        if name == "open_trades":
            return float(len(self.open) + sum(o["kind"] == "open" for o in self.orders)), 1
        if name == "net_credit":
            legs = [(n, self.recording.quote(c, self.session, self.snap)) for c, n in picked.values()]
            known = [(n, q) for n, q in legs if q]
            if len(known) < len(legs):
                return None, 0
            if value.get("basis") == "mid":
                return float(sum((-n * Fraction(sum(q), 2) for n, q in known), Fraction(0)) * QUANTUM), 0.0001
            return float(sum((-n * Fraction(q[0] if n < 0 else q[1]) for n, q in known), Fraction(0)) * QUANTUM), 0.0001
        if name == "adjustment_credit":
            return self.brings, 0.0001
        if name == "structure_greek":
            deltas = [(n, self.recording.delta(c, self.session, self.snap)) for c, n in picked.values()]
            return (
                None if any(d is None for _, d in deltas) else sum(n * (d or 0) / 10_000 for n, d in deltas)
            ), 0.0001
        if name == "capital_a_lot":
            return self.capital_of(picked), 0.01
        if name in ("max_loss", "max_profit"):
            return self.ends(picked, name), 0.0001
        if name in (
            "leg_price",
            "leg_greek",
            "leg_distance",
            "leg_pnl",
            "leg_iv_change",
            "leg_days",
            "leg_contracts",
            "leg_strike",
        ):
            return self.of_leg(name, value, trade, picked, spot)
        assert name in OF_A_TRADE, name
        if trade is None:
            return ABSENT, 0
        if name == "position_capital":
            return (None if trade["mid"] is None else self.capital(self.at_mid(trade))), 0.01
        if name == "pnl":
            parts = trade["mid"] if value["basis"] == "mid" else trade["close"]
            if parts is None or (value["unit"] == "premium" and trade["premium"] == 0):
                return None, 0
            if value["unit"] in ("capital", "most"):
                whole = self.most(trade) if value["unit"] == "most" else self.took(trade)
                return (None if whole is None else 100 * float(parts * money) / whole), 0.0001
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
        return float((today - local(trade["opened"]).date()).days), 1

    def of_open(self, value: dict[str, Any]) -> float | None:
        """What is asked of the newest, oldest or worst open trade."""
        if not self.open:
            return ABSENT
        trades = sorted(self.open, key=lambda trade: int(trade["number"]))
        if value["which"] == "worst":
            if any(trade["mid"] is None for trade in trades):
                return None
            trade = min(trades, key=lambda trade: trade["mid"])
        else:
            trade = trades[-1] if value["which"] == "newest" else trades[0]
        if value["what"] == "days":
            return float((self.recording.dates[self.session] - local(trade["opened"]).date()).days)
        assert value["what"] == "pnl"
        return None if trade["mid"] is None else float(trade["mid"] * MONEY)

    def of_closed(self, name: str, of: str) -> float | None:
        today = self.recording.dates[self.session]
        ended = [trade for trade in self.closed if of == "all" or trade["entry"] == self.entry]
        here = [trade["cash"] for trade in ended if local(trade["closed"]).date() == today]
        if name == "losses_today":
            return float(sum(cash < 0 for cash in here))
        if name == "realised_today":
            return float(sum(here))
        if name == "losses_in_a_row":
            return float(next((n for n, trade in enumerate(reversed(ended)) if trade["cash"] >= 0), len(ended)))
        lost = [local(trade["closed"]).date() for trade in ended if trade["cash"] < 0]
        return float(self.session - self.recording.by_date[max(lost)]) if lost else ABSENT

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
        if name == "leg_days":
            return float((contract[0] - self.recording.dates[self.session]).days), 1
        if name == "leg_strike":
            return float(contract[2]), 0.001
        if name == "leg_contracts":
            return float(n), 1
        if name == "leg_distance":
            away = (contract[2] - spot) * (1 if contract[1] == "call" else -1)
            if value["unit"] == "percent":
                return 100 * away / contract[2], 0.001
            move = self.straddle(contract[0], self.recording.chains[self.session])
            return (away if value["unit"] == "points" else None if move is None else away / move), 0.001
        if name == "leg_iv_change":
            if held is None:
                return ABSENT, 0
            now = self.recording.iv(contract, self.session, self.snap)
            with self.standing(self.recording.place_of(trade["opened"])):
                then = self.recording.iv(contract, self.session, self.snap)
            return (None if now is None or then is None else now - then), 0.01
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
            return float(made * MONEY), 0.0001
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

    def most(self, trade: dict[str, Any]) -> float | None:
        """The most a trade can make at its expiration, money; only its strikes and a price of nothing need be looked at."""
        legs = [(leg["contract"], leg["n"]) for leg in trade["legs"]]
        if len({c[0] for c, _ in legs}) != 1 or sum(n for c, n in legs if c[1] == "call") > 0:
            return None
        made = float((trade["realised"] - sum(leg["n"] * leg["in"] for leg in trade["legs"])) * QUANTUM)
        ends = [
            made + sum(n * max(0, (end - c[2]) * (1 if c[1] == "call" else -1)) for c, n in legs)
            for end in (0, *(c[2] for c, _ in legs))
        ]
        return max(ends) * MULTIPLIER if max(ends) > 0 else None

    def took(self, trade: dict[str, Any]) -> float | None:
        """Capital of a trade's legs as they were opened, money."""
        with self.standing(self.recording.place_of(trade["opened"])):
            needs = self.capital([(leg["contract"], leg["n"], leg["in"]) for leg in trade["legs"]])
        return needs or None

    def measure(self, rule: dict[str, Any]) -> float | None:
        """Daily measures over the sessions completed before this one, on a grid of 0.01."""
        kind, n = rule["rule"], rule.get("sessions", 0)
        closes = self.recording.settled[: self.session]
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

"""What limits say: the capital there is, and conditions on the account and the market."""

from __future__ import annotations

import datetime as dt
from bisect import bisect_right
from collections.abc import Sequence
from typing import Any

from strell_core.engine import capital
from strell_core.engine.expiry import Expiry
from strell_core.engine.plan import EntryPlan
from strell_core.engine.record import ALL, Rest, none_yet
from strell_core.engine.state import Need, OrderLeg, TradeState
from strell_core.measures.frames import FALSE, TRUE, Account, Ended, Past, PickedLeg, Values, Verdict
from strell_core.strategy import conditions, kinds
from strell_core.strategy.actions import Close
from strell_core.strategy.condition_truths import remember, truths
from strell_core.strategy.kinds import EntryFrame


class Limits(Expiry):
    """What is known of the account on one snapshot, what it forbids, and what it closes."""

    def watch_capital(self) -> None:
        """Compare equity with the capital that is needed, at a session's end (semantics rule 18)."""
        if not self.trades or not self.timeline.is_last[self.index]:
            return
        now = self._funds()
        self.needs.append(Need(self.observation.instant, now.equity, now.needed))
        self.record = self.record.closed(self.observation.date, now.equity)
        if now.free > -capital.CENT:
            return
        limit = self.plan.strategy.limits["capital"]
        told = {"equity": round(now.equity, 2), "needed": round(now.needed, 2)}
        self.say("call", None, limit.id, TRUE, told)
        if limit.params["below"] == "report" or "leave" not in self.plan.acts:
            return
        for trade in sorted(self.trades.values(), key=lambda trade: (-trade.opened_at, -trade.number)):
            whole = any(order.whole for order in self.at_work(trade.number, "close"))
            helps = capital.of_trade(self.market, trade, self.index) > capital.CENT
            if whole or not helps or not self.traded(trade.legs):
                continue
            self.leave(trade, trade.legs, limit.id, told, (), "loss", (), Close())
            if limit.params["below"] == "newest":
                break

    def note_equity(self) -> None:
        """Equity at a session's end after fills on its last snapshot."""
        if self.timeline.is_last[self.index]:
            self.record = self.record.closed(self.observation.date, self._funds().equity)

    def remember(self) -> None:
        """Keep what conditions on the account will need of this snapshot."""
        limits = self.plan.of_limits
        if not self.plan.remembers_account:
            return
        asked = [(entry.id, (*entry.of_account, *limits), entry.entry.underlying) for entry in self.plan.entries]
        for name, of_account, symbol in (("", limits, self.plan.strategy.underlying), *asked):
            if of_account:
                frame = EntryFrame(self.observation, self.account(name), symbol).frame()
                self.memory[name] = remember(of_account, frame)

    def watch_limits(self) -> None:
        """Close trades where a limit says so."""
        for rule in self.plan.strategy.guards if self.trades and "leave" in self.plan.acts else ():
            kind = kinds.limit_rules[rule.kind]
            if kind.closes is None or any(order.whole and order.rule == rule.id for order in self.orders):
                continue
            frame = EntryFrame(self.observation, self.account(""), self.plan.strategy.underlying).frame()
            if int(truths(rule.params, frame)[0]) != TRUE:
                continue
            told = conditions.told(rule.params, frame)
            self.rests[rule.id] = Rest(rule.id, self.observation.date)
            for trade in sorted(self.trades.values(), key=lambda trade: (-trade.opened_at, -trade.number)):
                if any(order.whole for order in self.at_work(trade.number, "close")) or not self.traded(trade.legs):
                    continue
                self.leave(trade, trade.legs, rule.id, told, (), "loss", (), Close())
                if kind.closes(rule.params) == "newest":
                    break

    def barred(self, entry: EntryPlan) -> tuple[str, int, Values] | None:
        """The limit that lets nothing be entered now: its sentence, what it said, and the numbers."""
        for rule in self.plan.strategy.guards:
            kind = kinds.limit_rules[rule.kind]
            rest = self.rests.get(rule.id)
            if rest is not None:
                words = f"a limit closed trades on {rest.since:%-d %b %Y}, nothing is entered yet"
                if self._sessions_since(rest.since) <= kind.rests(rule.params):
                    return rule.id, FALSE, {"message": words}
            if kind.bars:
                frame = EntryFrame(self.observation, self.account(entry.id), entry.entry.underlying).frame()
                truth = int(truths(rule.params, frame)[0])
                if truth != FALSE:
                    return rule.id, truth, conditions.told(rule.params, frame)
        return None

    def _sessions_since(self, date: dt.date) -> int:
        dates = self.timeline.dates
        return bisect_right(dates, self.observation.date) - bisect_right(dates, date)

    def _past(self, entry: str) -> Past:
        """What the run remembers of itself."""
        today = self.observation.date

        def ended(name: str) -> Ended:
            found = self.outcomes.get(name, none_yet(name))
            since = None if found.lost_on is None else self._sessions_since(found.lost_on)
            here = found.on == today
            return Ended(found.in_a_row, since, found.lost if here else 0, float(found.pnl) if here else 0.0)

        start = self.record.opened_with(today, self.yesterday, self.cash)
        trades = tuple(
            self.marks(number) for number in sorted(self.trades) if number in self.now or number in self.quiet
        )
        return Past(ended(ALL), ended(entry), start, self.record.highest(start), trades)

    def _funds(self) -> capital.Funds:
        return capital.funds(self.market, self.index, float(self.cash), list(self.trades.values()), self.orders)

    def account(self, entry: str) -> Account:
        """What an entry may know of the account."""
        state = self.state_now()

        def funds() -> tuple[float, float]:
            now = self._funds()
            return now.equity, now.free

        today, symbol = self.observation.date, self.plan.entry(entry).entry.underlying
        entered = {item.entry: item.times for item in state.entered if item.on == today}
        on_it = sum(entered.get(other.id, 0) for other in self.plan.entries if other.entry.underlying == symbol)
        # a trade that a delivery ended at this session's close counts until the next one begins
        gone = [trade for number, trade in self.delivering.items() if number not in self.trades]
        of_entry, of_symbol = (
            sum(found) for found in ([t.entry == entry for t in gone], [t.symbol == symbol for t in gone])
        )
        return Account(
            state.open_count + len(gone), state.open_of(entry) + of_entry, funds, entered.get(entry, 0), sum(entered.values()),
            lambda: self._past(entry), symbol, state.open_on(symbol) + of_symbol, on_it, self.memory.get(entry, ()),
        )  # fmt: skip

    def _short_of(self, needed: float, free: float) -> dict[str, Any] | None:
        """The figures where ``needed`` capital is more than is free."""
        if not capital.refuses(self.plan, needed, free):
            return None
        return capital.short_of(needed, free, self.timeline.underlying.on(self.observation.date).currency)

    def with_legs(self, trade: TradeState, legs: Sequence[OrderLeg]) -> list[capital.Backed]:
        """What a trade would hold after an order of these legs: what is new at its fill price, the rest at mid."""
        left = {(leg.leg_id, leg.contract): leg.contracts for leg in trade.legs}
        marks = {item.contract: item.parts for item in capital.held(self.of(trade), trade, self.index)}
        new, view = list[capital.Backed](), self.of(trade).view(self.index)
        for leg in legs:
            if (leg.leg_id, leg.contract) in left:
                left[leg.leg_id, leg.contract] += leg.contracts
            else:
                new.append(capital.new(self.plan, view, leg.contract, leg.contracts))
        return [capital.Backed(key[1], count, marks[key[1]]) for key, count in left.items() if count] + new

    def needed_with(self, trade: TradeState, legs: Sequence[OrderLeg]) -> float:
        """Capital that a trade would need after an order of these legs, money."""
        there = self.of(trade)
        return capital.needed(there, self.index, self.with_legs(trade, legs), there.multiplier(trade.opened_on))

    def unaffordable(self, trade: TradeState, legs: Sequence[OrderLeg]) -> dict[str, Any] | None:
        freed = capital.of_trade(self.market, trade, self.index)
        return self._short_of(self.needed_with(trade, legs), self._funds().free + freed)

    def afford(self, legs: Sequence[PickedLeg], lots: int) -> Verdict:
        """Whether free capital covers new legs at their fill prices."""
        if not capital.limits_entries(self.plan):
            return Verdict(TRUE, {})
        new = ((leg.contract, leg.contracts * lots) for leg in legs)
        view = self.observation.view(legs[0].contract.underlying)
        assert view is not None
        needed = capital.of_new(self.plan, view, new)
        refused = self._short_of(needed, self._funds().free)
        return Verdict(TRUE, {}) if refused is None else Verdict(FALSE, refused)

"""A strategy made ready to run: each entry with its schedule, exits in their order of precedence."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from functools import cached_property, partial
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

from strell_core.engine.looks import ActiveAdjustment
from strell_core.engine.working import Working
from strell_core.market.instruments import Underlying
from strell_core.market.market import Market, market_of
from strell_core.market.prices import PARTS
from strell_core.market.timeline import Timeline
from strell_core.measures.frames import Params
from strell_core.selection.select import Allows, walks
from strell_core.strategy import catalogue, kinds
from strell_core.strategy.actions import Close, Consequence
from strell_core.strategy.condition_truths import to_remember
from strell_core.strategy.document import Entry, Rule, Strategy
from strell_core.strategy.kinds import Exit, ExitKind
from strell_core.strategy.schedule import Schedule, together


@dataclass(frozen=True)
class ActiveExit:
    """An exit sentence with what it closes and what follows."""

    rule: Rule
    kind: Exit
    closes: Close
    then: tuple[Consequence, ...]
    way: ExitKind
    """Whether it leaves as a loss, a profit or otherwise."""


def _way(kind: Exit, rule: Rule) -> ExitKind:
    return kind.kind if kind.kind_of is None else kind.kind_of(rule.params)


@dataclass(frozen=True)
class EntryPlan:
    entry: Entry
    schedule: Schedule
    exits: tuple[ActiveExit, ...]
    """Of its trades: position before leg, loss before others, then the sheet's order (semantics rule 7)."""
    adjustments: tuple[ActiveAdjustment, ...]
    allows: tuple[Allows, ...] = ()
    """What strikes have to be for any of its picks."""
    walks: bool = False
    """A leg's expiration is looked for until the structure passes its checks."""
    together: Rule | None = None
    """The check that has the legs chosen together."""
    remembers: tuple[Params, ...] = ()
    """Conditions of its exits and adjustments of which something is kept from snapshot to snapshot."""
    of_account: tuple[Params, ...] = ()
    """The same of the conditions it is made on."""
    wishes: dict[tuple[str, ...], Any] = field(default_factory=dict, repr=False, compare=False)
    """Made so far by :func:`exits.wishes`, by the legs that are held."""

    @property
    def id(self) -> str:
        return self.entry.id


def _remembered(rules: Iterable[Rule]) -> tuple[Params, ...]:
    """Conditions of sentences of which something is kept from snapshot to snapshot."""
    asked = [rule.params for rule in rules if {"left", "is", "right"} <= set(rule.params)]
    return tuple(item for params in asked for item in to_remember(params))


Part = Literal["enter", "leave", "adjust"]
EVERYTHING: frozenset[Part] = frozenset(("enter", "leave", "adjust"))


@dataclass(frozen=True)
class Plan:
    strategy: Strategy
    underlyings: Mapping[str, Underlying]
    """By symbol: the one whose snapshots are the clock, and those that entries trade."""
    acts: frozenset[Part] = EVERYTHING
    """What the rules do by themselves; for the rest they are only asked."""
    single_units: bool = True
    """Whether the underlying itself is dealt in single units; else in contracts of as many as one option delivers."""

    def of(self, symbol: str) -> Underlying:
        """An underlying that is traded; without a symbol the one whose snapshots are the clock."""
        return self.underlyings[symbol or self.strategy.underlying]

    @cached_property
    def delivers(self) -> bool:
        """Whether any contract it may hold is settled by delivery."""
        return any(underlying.delivers for underlying in self.underlyings.values())

    @cached_property
    def working(self) -> Working:
        """How its limit orders are worked."""
        return Working.of(self.strategy)

    @cached_property
    def earns_interest(self) -> bool:
        """Whether the sheet asks for interest on cash."""
        return bool(self.strategy.limits["interest"].id)

    @cached_property
    def orders_say(self) -> str:
        """The same for all plans that deal in the same way."""
        return str(sorted(self.strategy.orders.items()))

    @cached_property
    def unit_halves(self) -> dict[str, int]:
        """By underlying, half of its own spread in parts, the nearest."""
        points = Decimal(str(self.strategy.orders["unit_spread"]["points"]))
        return {symbol: round(points * PARTS / there.quantum) for symbol, there in self.underlyings.items()}

    @cached_property
    def entries(self) -> tuple[EntryPlan, ...]:
        """In the sheet's order, which is that in which they are judged (semantics rule 19)."""
        catalogue.load()
        return tuple(self._entry(entry) for entry in self.strategy.entries)

    def _entry(self, entry: Entry) -> EntryPlan:
        decides_single = bool(self.strategy.orders["single_snapshots"]["policy"] == "decide")
        schedule = together(
            [kinds.schedules[rule.kind].schedule(rule.params, decides_single) for rule in entry.schedules]
        )
        found = []
        for rule in (*self.strategy.leave, *entry.leave):
            kind = kinds.exits[rule.kind]
            found.append(ActiveExit(rule, kind, kind.closes(rule.params), kind.then(rule.params), _way(kind, rule)))
        exits = tuple(sorted(found, key=lambda item: (item.closes != Close(), item.way != "loss")))
        adjust = (*self.strategy.adjust, *entry.adjust)
        asked = [(kinds.structure_conditions[rule.kind].allows, rule.params) for rule in entry.checks]
        allows = tuple(partial(may, params=params) for may, params in asked if may is not None)
        return EntryPlan(
            entry,
            schedule,
            exits,
            tuple(ActiveAdjustment.of(rule, kinds.adjustments[rule.kind], schedule) for rule in adjust),
            allows,
            walks(entry.legs),
            next((rule for rule in entry.checks if kinds.structure_conditions[rule.kind].chooses is not None), None),
            _remembered((*(item.rule for item in exits), *adjust)),
            _remembered(entry.conditions),
        )

    def entry(self, name: str) -> EntryPlan:
        """An entry by its id; a trade whose entry is gone goes on with what holds for every entry."""
        return self._by_id.get(name, self._without)

    def least(self, entry: EntryPlan) -> int | None:
        """What a fill has to bring so that the entry's checks on its premium hold there too."""
        quantum = self.of(entry.entry.underlying).quantum
        found = [kinds.structure_conditions[rule.kind].least(rule.params, quantum) for rule in entry.entry.checks]
        return max((item for item in found if item is not None), default=None)

    @cached_property
    def _by_id(self) -> dict[str, EntryPlan]:
        return {item.id: item for item in self.entries}

    @cached_property
    def _without(self) -> EntryPlan:
        first = self.entries[0]
        common = {rule.id for rule in self.strategy.leave}
        exits = tuple(item for item in first.exits if item.rule.id in common)
        remembers = _remembered(item.rule for item in exits)
        return EntryPlan(first.entry, first.schedule, exits, (), remembers=remembers)

    @cached_property
    def looks_at_legs(self) -> bool:
        """Whether any rule looks at the path of single legs."""
        return any(item.closes.legs and not item.kind.asks_all for entry in self.entries for item in entry.exits)

    @cached_property
    def remembers(self) -> bool:
        """Whether something of open trades is kept from snapshot to snapshot for conditions on them."""
        return any(entry.remembers for entry in self.entries)

    @cached_property
    def of_limits(self) -> tuple[Params, ...]:
        """Conditions of limits of which something is kept from snapshot to snapshot."""
        return _remembered(self.strategy.guards)

    @cached_property
    def remembers_account(self) -> bool:
        """Whether something of the account is kept, so that it is looked at on every snapshot."""
        return bool(self.of_limits) or any(entry.of_account for entry in self.entries)

    @cached_property
    def watches(self) -> bool:
        """Whether a limit is asked on every snapshot with open trades."""
        closes = any(kinds.limit_rules[rule.kind].closes is not None for rule in self.strategy.guards)
        return closes and "leave" in self.acts

    def looks(self, market: Market, begin: int, end: int) -> npt.NDArray[np.int64]:
        """Snapshots in ``[begin, end)`` at which any entry or adjustment is looked at by time or by a series, or was
        missed."""
        if not self.acts & {"enter", "adjust"}:
            return np.empty(0, np.int64)
        own = [item.schedule for entry in self.entries for item in entry.adjustments]
        schedules = [*(entry.schedule for entry in self.entries), *own]
        found = [schedule.looks(market, begin, end) for schedule in schedules]
        return np.unique(np.concatenate(found))


def make_plan(
    strategy: Strategy, history: Market | Timeline, acts: frozenset[Part] = EVERYTHING, single_units: bool = True
) -> Plan:
    """A strategy ready to run on a market; raises :class:`Mixed` where it would trade in several currencies, and
    ``KeyError`` where the market does not hold what an entry trades."""
    market = market_of(history)
    symbols = dict.fromkeys((strategy.underlying, *strategy.traded))
    plan = Plan(strategy, {symbol: market.timeline(symbol).underlying for symbol in symbols}, acts, single_units)
    currencies = {symbol: there.currency for symbol, there in plan.underlyings.items()}
    if len(set(currencies.values())) > 1:
        told = ", ".join(f"{symbol} in {currency}" for symbol, currency in currencies.items())
        raise Mixed(f"what is traded together has to be quoted in one currency: {told}")
    return plan


class Mixed(ValueError):
    """A strategy would trade in several currencies."""

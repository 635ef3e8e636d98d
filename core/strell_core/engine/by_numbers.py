"""Rules as compiled loops know them (:mod:`strell_core.engine.judged`, :mod:`strell_core.engine.lived`): by numbers, where every one
of them has some."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from decimal import Decimal
from functools import cached_property
from typing import Any, NamedTuple, cast

import numpy as np

from strell_core.engine.judged import AS_FIRST, BY_DAYS, LEG, OF_LOOK, OPEN_LIMIT
from strell_core.engine.known import MOST_LEGS, UNKNOWN, Ints, Known
from strell_core.engine.plan import EntryPlan, Plan
from strell_core.engine.watched import Nobody
from strell_core.market.instruments import Right
from strell_core.market.market import Observation
from strell_core.market.tape import NONE, Tape
from strell_core.market.timeline import Timeline
from strell_core.measures.frames import Account, Frame, Params
from strell_core.strategy import kinds
from strell_core.strategy.compiled import BY_TIME, Numbers
from strell_core.strategy.document import LegRule, Rule
from strell_core.strategy.kinds import EntryFrame, Exit, Picking

COST_DIGITS = 6
"""Digits after the point of what a contract and an order cost."""


class AsksAccount(Exception):
    """A condition rests on more than the look."""


NOBODY = cast(Account, Nobody(AsksAccount))


class Sheet(NamedTuple):
    """An entry by numbers: its conditions ``(n, 2)``, legs ``(n, 10)``, checks ``(n, 3)``, as
    :mod:`strell_core.engine.judged` has them; lots."""

    conditions: Ints
    legs: Ints
    checks: Ints
    lots: int


NO_SHEET = Sheet(np.zeros((0, 2), np.int64), np.zeros((0, len(LEG)), np.int64), np.zeros((0, 3), np.int64), 0)
"""Of rules of which only the engine's own rooms tell."""
Observed = Callable[[int], Observation]
Tell = Callable[[Observed, Ints], Iterable[int]]
"""What is told of looks, at these snapshots, and who says what is seen at one."""
ByLook = Callable[[str, Tell], int]
"""Where what is told by look is known, by what it says."""
AT_ONCE = 32
"""Looks of which is told at once what is known by look."""


class Numbered:
    """Rules of variants of one market by numbers, as far as they have some, put where compiled loops find them. Without a ``tape``
    none has any."""

    def __init__(self, known: Known, timeline: Timeline, tape: Tape | None) -> None:
        self._known, self._timeline, self._tape = known, timeline, tape
        self._sheets: dict[str, Sheet] = {}
        self._times: dict[int, int] = {}
        """Places of times of day."""
        self._terms: dict[Any, int] = {}
        self.names: dict[int, tuple[str, ...]] = {}
        """By place of their terms, what legs are called."""
        self._by_look: dict[Any, int] = {}
        self._told_by: dict[int, tuple[Tell, Ints]] = {}
        """By place in what is known by look: who tells it, and of which looks."""

    @cached_property
    def places(self) -> Mapping[int, int]:
        """By day, the place of an expiration."""
        return {} if self._tape is None else {int(day): at for at, day in enumerate(self._tape.expirations["day"])}

    def sheet(self, plan: Plan, entry: EntryPlan, name: str, looks_are: Any, looks: Ints) -> Sheet:
        """An entry by numbers. ``name``: the same for all that decide by the same rules at the same ``looks``."""
        if name not in self._sheets:
            told = self.terms(plan, named(entry.entry.legs)) != NONE

            def by_look(says: str, tell: Tell) -> int:
                return self._place((says, looks_are), tell, looks)

            self._sheets[name] = _sheet(plan, entry, self.places, by_look) if told else NO_SHEET
        return self._sheets[name]

    def give_up(self, name: str) -> None:
        """An entry's rules do not go by numbers after all."""
        self._sheets[name] = NO_SHEET

    def _place(self, key: Any, tell: Tell, looks: Ints) -> int:
        """Where what is told of looks is known."""
        if key not in self._by_look:
            place = self._by_look[key] = self._known.by_look.extend(np.full(len(looks), UNKNOWN))
            self._told_by[place] = tell, looks
        return self._by_look[key]

    def learn_looks(self, place: int, own: int, observed: Observed) -> None:
        """What is told of a look, and of those that come next, is known from now on; raises :class:`AsksAccount` where it cannot be
        told of a look by itself."""
        tell, looks = self._told_by[place]
        part = self._known.by_look.rows[place + own : place + min(own + AT_ONCE, len(looks))]
        lacks = np.flatnonzero(part == UNKNOWN)
        part[lacks] = tell(observed, looks[own + lacks])

    def terms(self, plan: Plan, legs: tuple[str, ...]) -> int:
        """The place of a plan's terms of orders for legs of these names; ``NONE``: compiled loops do not know them."""
        key = plan.orders_say, legs
        if key not in self._terms:
            told = None if self._tape is None else terms(plan)
            self._terms[key] = NONE if told is None else self._known.terms.add(told)
            if told is not None:
                self.names[self._terms[key]] = legs
        return self._terms[key]

    def add_exit(self, kind: Exit | None, params: Params) -> None:
        """The row of a further exit; without a kind, of one that only the engine's own rooms tell."""
        asks = kind.numbers if self._tape is not None and kind is not None else None
        numbers = Numbers(NONE) if asks is None else asks(params)
        at_a_time = numbers.kind in BY_TIME
        self._known.exits.add((numbers.kind, numbers.a, self._time(numbers.b) if at_a_time else numbers.b))

    def _time(self, minute: int) -> int:
        """The place of a time of day."""
        if minute not in self._times:
            self._times[minute] = len(self._times) + 1
            reached = self._timeline.reached(minute, 0, len(self._timeline.times))
            self._known.reached = np.concatenate([self._known.reached, reached[None]])
        return self._times[minute]


def named(legs: Sequence[LegRule]) -> tuple[str, ...]:
    """What legs of a sheet are called."""
    return tuple(leg.id for leg in legs)


def _sheet(plan: Plan, entry: EntryPlan, places: Mapping[int, int], by_look: ByLook) -> Sheet:
    """An entry by numbers; none, where any of its rules has none. ``places``: of expirations, by day."""
    rules, quantum = entry.entry, plan.of(entry.entry.underlying).quantum
    simple = (
        0 < len(rules.legs) <= MOST_LEGS
        and not (entry.walks or entry.schedule.keeps or entry.allows)
        and rules.size.kind == "fixed_lots"
        and not any(leg.optional for leg in rules.legs)
    )
    if not simple:
        return NO_SHEET
    conditions = []
    for rule in rules.conditions:
        if rule.kind == "open_limit":
            conditions.append((int(OPEN_LIMIT), int(rule.params["limit"])))
        else:
            conditions.append((int(OF_LOOK), by_look(f"holds {rule.kind} {rule.says}", _holds(rule, rules.underlying))))
    legs = []
    for place, leg in enumerate(rules.legs):
        assert leg.expiry is not None and leg.strike is not None
        numbers, expiry = kinds.strike_picks[leg.strike.kind].numbers, kinds.expiry_picks[leg.expiry.kind]
        as_first = leg.expiry.kind == "same_expiration" and place > 0
        if numbers is None or not (as_first or expiry.stands_alone):
            return NO_SHEET
        days = Numbers(NONE)
        if as_first:
            expiries = AS_FIRST
        elif expiry.numbers is not None:
            expiries, days = BY_DAYS, expiry.numbers(leg.expiry.params)
        else:
            expiries = by_look(f"in {leg.expiry.kind} {leg.expiry.says}", _chosen(leg.expiry, rules.underlying, places))
        picks = *numbers(leg.strike.params, quantum), Right(leg.right).sign, leg.contracts
        legs.append((*picks, expiries, days.a, days.b, days.within))
    checks = []
    for rule in rules.checks:
        asks = kinds.structure_conditions[rule.kind].numbers
        if asks is None:
            return NO_SHEET
        checks.append(asks(rule.params, quantum)[:3])
    return Sheet(_rows(conditions, 2), _rows(legs, len(LEG)), _rows(checks, 3), int(rules.size.params["lots"]))


def _rows(values: Iterable[tuple[int, ...]], columns: int) -> Ints:
    return np.array(list(values), np.int64).reshape(-1, columns)


def _holds(rule: Rule, symbol: str) -> Tell:
    condition = kinds.enter_conditions[rule.kind]

    def tell(observed: Observed, looks: Ints) -> Iterable[int]:
        if condition.over is None:
            return [condition.judge(EntryFrame(observed(int(at)), NOBODY, symbol), rule.params).truth for at in looks]
        first, market = int(looks[0]), observed(int(looks[0])).market
        return condition.over(Frame(market, first, int(looks[-1]) + 1, symbol), rule.params)[looks - first]

    return tell


def _chosen(rule: Rule, symbol: str, places: Mapping[int, int]) -> Tell:
    """The place of the expiration that a pick takes; ``NONE`` where none fits."""
    choose = kinds.expiry_picks[rule.kind].choose

    def told(observation: Observation) -> int:
        view = observation.view(symbol)
        assert view is not None
        found = choose(Picking(EntryFrame(observation, NOBODY, symbol).frame(), view), view.expirations, rule.params)
        return places[found[0].toordinal()] if found else NONE

    return lambda observed, looks: [told(observed(int(at))) for at in looks]


def terms(plan: Plan) -> tuple[int, int, bool, int, int, int] | None:
    """How a plan's orders are dealt, as :data:`strell_core.engine.known.TERMS`; ``None`` where a contract costs parts of a cent
    beyond counting."""
    orders = plan.strategy.orders
    costs = [Decimal(str(orders["commission"][name])) for name in ("per_contract", "per_order")]
    if any(cost != round(cost, COST_DIGITS) for cost in costs):
        return None
    of = 10**COST_DIGITS
    a_contract, an_order = (int(cost * of) * 100 for cost in costs)
    doubt = orders["doubtful_marks"]
    return orders["fill_model"]["share"], doubt["percent"], doubt["last"] == "wait", a_contract, an_order, of

"""Rules as compiled loops know them (:mod:`strell_core.engine.judged`, :mod:`strell_core.engine.lived`): by numbers, where every one
of them has some."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from decimal import Decimal
from typing import NamedTuple, cast

import numpy as np

from strell_core.engine.judged import AS_FIRST, BY_DAYS, LEG, OF_LOOK, OPEN_LIMIT
from strell_core.engine.known import MOST_LEGS, Ints
from strell_core.engine.plan import EntryPlan, Plan
from strell_core.market.instruments import Right
from strell_core.market.market import Observation
from strell_core.market.tape import NONE, Tape
from strell_core.measures.frames import Account, Frame
from strell_core.strategy import kinds
from strell_core.strategy.compiled import Numbers
from strell_core.strategy.document import Rule
from strell_core.strategy.kinds import EntryFrame, Picking

FINEST = 6
"""Digits after the point of what a contract and an order cost."""


class AsksAccount(Exception):
    """A condition rests on more than the look."""


class _Nobody:
    """An account that may not be asked."""

    def __getattr__(self, name: str) -> int:
        raise AsksAccount(name)


NOBODY = cast(Account, _Nobody())


class Sheet(NamedTuple):
    """An entry by numbers: its conditions ``(n, 2)``, legs ``(n, 10)``, checks ``(n, 3)``, as
    :mod:`strell_core.engine.judged` has them; lots."""

    conditions: Ints
    legs: Ints
    checks: Ints
    lots: int


NO_SHEET = Sheet(np.zeros((0, 2), np.int64), np.zeros((0, len(LEG)), np.int64), np.zeros((0, 3), np.int64), 0)
"""Of rules of which only the engine's own rooms tell."""
Tell = Callable[[Callable[[int], Observation], Ints], Iterable[int]]
"""What is told of looks, at these snapshots, and who says what is seen at one."""
ByLook = Callable[[str, Tell], int]
"""Where what is told by look is known, by what it says."""


def sheet(plan: Plan, entry: EntryPlan, tape: Tape, by_look: ByLook) -> Sheet:
    """An entry by numbers; none, where any of its rules has none."""
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
            expiries = by_look(f"in {leg.expiry.kind} {leg.expiry.says}", _chosen(leg.expiry, rules.underlying, tape))
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

    def tell(observed: Callable[[int], Observation], looks: Ints) -> Iterable[int]:
        if condition.over is None:
            return [condition.judge(EntryFrame(observed(int(at)), NOBODY, symbol), rule.params).truth for at in looks]
        first, market = int(looks[0]), observed(int(looks[0])).market
        return condition.over(Frame(market, first, int(looks[-1]) + 1, symbol), rule.params)[looks - first]

    return tell


def _chosen(rule: Rule, symbol: str, tape: Tape) -> Tell:
    """The place of the expiration that a pick takes; ``NONE`` where none fits."""
    choose, places = (
        kinds.expiry_picks[rule.kind].choose,
        {int(day): at for at, day in enumerate(tape.expirations["day"])},
    )

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
    if any(cost != round(cost, FINEST) for cost in costs):
        return None
    of = 10**FINEST
    a_contract, an_order = (int(cost * of) * 100 for cost in costs)
    doubt = orders["doubtful_marks"]
    return orders["fill_model"]["share"], doubt["percent"], doubt["last"] == "wait", a_contract, an_order, of

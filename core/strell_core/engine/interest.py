"""Interest on the cash of a run over history (semantics rule 12)."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal

from strell_core.engine.plan import Plan
from strell_core.engine.state import Advanced, EngineState
from strell_core.engine.step import Step
from strell_core.market import rates
from strell_core.market.instruments import Underlying
from strell_core.market.market import Observation
from strell_core.market.prices import money


def booked(plan: Plan, state: EngineState, observation: Observation) -> Advanced:
    """The state with the interest on its cash since the session that a run looked at before this one; nothing is booked
    in its first, nor a second time in one session."""
    step, today = Step(plan, state, observation), observation.date
    before, step.interest_to = step.interest_to, today
    if before is not None and before < today:
        amount = earned(plan, observation.timeline.underlying, step.cash, before, today)
        if amount:
            step.book(0, "interest", None, 0, 0, amount)
    return step.result()


def earned(plan: Plan, underlying: Underlying, cash: Decimal, before: dt.date, today: dt.date) -> Decimal:
    """What cash earns from a day to the next by a sheet's sentence, money to the cent; negative what debt costs.

    Formula: cash × (e^(rate × days / 365) − 1), with the shortest interest known on the first day.
    """
    says, rate = plan.strategy.limits["interest"].params, underlying.interest(before, today)
    rate = max(0.0, rate - says["less"] / 100) if cash > 0 else rate + says["more"] / 100
    return money(cash * Decimal(rates.earned(rate, (today - before).days)))

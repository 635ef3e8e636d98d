"""When the holder of an American option that was sold exercises it early (semantics rule 10)."""

from __future__ import annotations

import datetime as dt
import math

from strell_core.engine.settlement import intrinsic_parts
from strell_core.market.instruments import ContractKey, step_at
from strell_core.market.prices import PARTS, SPOT_SCALE
from strell_core.market.timeline import Timeline
from strell_core.pricing.black import years_between


def dividend_ahead(timeline: Timeline, date: dt.date) -> float:
    """Points that go ex after session ``date`` and by the session that follows it, of a unit of ``date``: what is split by
    then is paid on as many as it becomes."""
    following = timeline.calendar.between(date + dt.timedelta(days=1), date + dt.timedelta(days=14))[:1]
    now = timeline.units_on(date)
    return sum(
        amount * timeline.units_on(ex) / now
        for ex, amount in timeline.underlying.dividends
        if date < ex <= (following or [date])[0]
    )


def exercised(timeline: Timeline, contract: ContractKey, index: int) -> bool:
    """Whether a contract is exercised at the end of the session whose last snapshot is ``index``: when waiting would
    cost its holder.

    A call in the money, when the dividend that goes ex before the next session is more than the put of its strike is
    worth (at mid) and the interest on the strike until it expires; without a quote of the put, more than its own value
    beyond the intrinsic one. A put in the money, when its mid stands no more than half a step above its intrinsic
    value.
    """
    view = timeline.view(index)
    quantum = timeline.underlying.quantum
    intrinsic = intrinsic_parts(contract, view.spot, quantum)
    if intrinsic == 0:
        return False
    own = view.quote(contract)
    mid = (own.bid + own.ask) * (PARTS // 2) if own.valid else None
    if contract.right == "put":
        if mid is None:
            return False
        terms = timeline.underlying.on(view.date)
        step = step_at(terms.ticks, quantum * mid / PARTS, quantum)
        return mid <= intrinsic + round(step * PARTS / quantum) // 2
    dividend = dividend_ahead(timeline, view.date)
    if dividend == 0:
        return False
    years = years_between(view.instant, timeline.settles_at(contract))
    interest = float(contract.strike) * -math.expm1(-view.interest(contract.expiration) * years)
    put = view.quote(contract._replace(right="put"))
    if put.valid:
        kept = (put.bid + put.ask) / 2 * float(quantum) + interest
    elif mid is not None:
        kept = (mid - intrinsic) / PARTS * float(quantum)
    else:
        return False
    return dividend > kept


def strike_parts(contract: ContractKey, timeline: Timeline) -> int:
    """A strike in parts of a quantum."""
    return round(float(contract.strike) * SPOT_SCALE * timeline.spot_parts)

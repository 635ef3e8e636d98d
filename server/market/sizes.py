"""Sizes that a recorded session told beside its quotes, read when something is dealt in them."""

from __future__ import annotations

import datetime as dt
from functools import lru_cache

from market.models import SessionChainRow, Underlying
from strell_core.market.calendars import SessionCalendar
from strell_core.market.chains import decode
from strell_core.market.extras import decode_extras
from strell_core.market.instruments import ContractKey
from strell_core.market.timeline import Sizes

Told = dict[ContractKey, dict[int, tuple[int, int]]]
"""Contracts bid for and offered, by contract and epoch second."""


def sizes_of(row: Underlying, calendar: SessionCalendar) -> Sizes | None:
    """Sizes of an underlying's history; ``None`` where no session told any."""
    rows = SessionChainRow.objects.filter(underlying=row, current=True, extras_size__gt=0)
    keys = dict(rows.values_list("date", "pk"))
    if not keys:
        return None

    def at(contract: ContractKey, instant: int) -> tuple[int, int] | None:
        key = keys.get(_session(calendar, instant))
        return None if key is None else _told(key).get(contract, {}).get(instant)

    return at


def _session(calendar: SessionCalendar, instant: int) -> dt.date:
    return calendar.local(instant).date()


@lru_cache(maxsize=4)
def _told(key: int) -> Told:
    payload, extras = SessionChainRow.objects.values_list("payload", "extras").get(pk=key)  # a version never changes
    chain, beside = decode(bytes(payload)), decode_extras(bytes(extras))
    if "bid_size" not in beside or "ask_size" not in beside:
        return {}
    bids, asks, times = beside["bid_size"].tolist(), beside["ask_size"].tolist(), chain.times.tolist()
    return {
        contract: {
            at: (bid, ask) for at, bid, ask in zip(times, bids[i], asks[i], strict=True) if bid >= 0 and ask >= 0
        }
        for i, contract in enumerate(chain.contracts)
    }

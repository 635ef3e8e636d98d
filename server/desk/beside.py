"""Other underlyings that a deployment's sheet looks at: their markets have clocks of their own."""

from __future__ import annotations

import time

import numpy as np

from market.models import Venue
from strell_core.market.market import Market

PATIENCE_SECONDS = 15.0
"""Wall seconds that a decision waits for another market's snapshot of the same instant."""

_since: dict[tuple[str, int], float] = {}
"""By symbol and instant, since when it is waited for."""


def not_traded(symbols: list[str]) -> list[str]:
    """Those of some underlyings that no market is connected for: nothing new will be known of them."""
    there = set(Venue.objects.filter(underlying__symbol__in=symbols).values_list("underlying__symbol", flat=True))
    return [symbol for symbol in symbols if symbol not in there]


def ready(market: Market, venue: Venue) -> int:
    """One past the last snapshot of the clock that may be decided on. A snapshot waits until every other underlying's
    market, if it runs in the same session, has recorded as far; after PATIENCE_SECONDS it is decided with what is there."""
    end = len(market.main.times)
    for symbol, there in market.others.items():
        other = Venue.objects.filter(underlying__symbol=symbol).first()
        if other is None or other.session != venue.session or other.sealed or other.quiet or not other.running:
            continue
        reached = int(there.times[-1])
        have = int(np.searchsorted(market.main.times, reached, side="right"))
        if have < end and _waits(symbol, int(market.main.times[have])):
            end = have
    return end


def _waits(symbol: str, instant: int) -> bool:
    now = time.monotonic()
    for key in [key for key in _since if key[0] == symbol and key[1] < instant]:
        del _since[key]
    return now - _since.setdefault((symbol, instant), now) < PATIENCE_SECONDS

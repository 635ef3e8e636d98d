"""What a sheet as it stands decides at every look: told while it is edited, without a run that is kept."""

from __future__ import annotations

import datetime as dt
import threading
import time
from collections import OrderedDict
from decimal import Decimal
from typing import Any

from django.contrib.auth.models import User

from config.errors import Conflict, Refused
from market.own import market_for, plan_for
from runs.models import Run
from runs.queries import decisions
from runs.warm import is_compiling
from strategies import services as strategies
from strategies.models import Strategy
from strell_core.engine.variants import Variants
from strell_core.market.market import Market
from strell_core.results.strip import strip
from strell_core.strategy.document import parse

CASH = Decimal(50_000)
"""What it begins with where the strategy was never run."""
LONGEST_SECONDS = 5.0
"""What takes longer is no answer while somebody edits: a backtest tells it."""
MOST = 2
"""Markets of which is kept what sheets have in common: tens of megabytes each."""

_kept: OrderedDict[Any, Variants] = OrderedDict()
_told: OrderedDict[Any, list[dict[str, Any]]] = OrderedDict()
_newest: dict[tuple[int, int], object] = {}
_lock = threading.Lock()
"""What is shared is for one at a time."""


def told(user: User, strategy_id: int) -> dict[str, Any]:
    """Every decision of the latest revision over all sessions that are not held back; raises :class:`Conflict` where a
    later question of the same person made this one's answer old before it was computed."""
    strategy = strategies.find(user, strategy_id)
    mine = _newest[user.pk, strategy_id] = object()
    latest = strategy.latest
    market = market_for(latest.document, user.pk)
    plan, history = plan_for(parse(latest.document), market), market.main
    begin, end = _period(strategy, market)
    cash = _cash(strategy)
    key = latest.pk, cash, market.identity, begin, end
    with _lock:
        made = _told.get(key)
        if made is None:
            if is_compiling():
                raise Refused("Strell has been updated and gets ready: in a minute every decision is told.")
            if _newest.get((user.pk, strategy_id)) is not mine:
                raise Conflict("The sheet has been changed since.")
            shared, until = _shared(market, begin, end), time.monotonic() + LONGEST_SECONDS

            def soon(_: int) -> None:
                if time.monotonic() > until:
                    raise Refused("All decisions of these rules take longer than an edit waits for: run a backtest.")

            made = decisions(latest.document, history, strip(plan, shared, cash, soon))
            _remember(_told, key, made, 4 * MOST)
    return {
        "revision": latest.number, "start": history.dates[int(history.session_of[begin])],
        "end": history.dates[int(history.session_of[end - 1])], "cash": cash, "decisions": made,
    }  # fmt: skip


def _period(strategy: Strategy, market: Market) -> tuple[int, int]:
    history, held = market.main, strategy.held_from
    last = history.dates[-1] if held is None else min(history.dates[-1], held - dt.timedelta(days=1))
    begin, end = history.span(history.dates[0], last)
    if begin == end:
        raise Refused("Every session is held back: there is nothing that it could decide on.")
    return begin, end


def _cash(strategy: Strategy) -> Decimal:
    """That of the last finished run."""
    done = strategy.runs.there().filter(status=Run.Status.DONE).order_by("-number").values_list("cash", flat=True)
    return done.first() or CASH


def _shared(market: Market, begin: int, end: int) -> Variants:
    key = market.identity, begin, end
    found = _kept.pop(key, None) or Variants(market, begin, end)
    _remember(_kept, key, found, MOST)
    return found


def _remember(kept: OrderedDict[Any, Any], key: Any, value: Any, most: int) -> None:
    while len(kept) >= most:
        kept.popitem(last=False)
    kept[key] = value

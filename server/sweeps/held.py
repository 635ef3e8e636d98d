"""Sessions held back: chosen before rules are tried, looked at by a run that says so, and every look counted."""

from __future__ import annotations

import datetime as dt

from django.contrib.auth.models import User
from django.db import transaction

from config.errors import Refused
from config.push import notify
from market.timelines import timeline
from strategies import services as strategies
from strategies.models import Strategy
from strell_core.strategy.document import clock_of

LEAST_BEFORE, LEAST_HELD = 20, 5


@transaction.atomic
def hold_back(user: User, strategy_id: int, since: dt.date | None) -> Strategy:
    """Keep sessions from a day on out of backtests and sweeps, or (``None``) no longer. Runs and sweeps that have seen
    them already, deleted ones too, count as looks."""
    strategy = strategies.find(user, strategy_id)
    strategy = Strategy.objects.select_for_update(no_key=True).get(pk=strategy.pk)
    if since is not None:
        dates = timeline(clock_of(strategy.latest.document)).dates
        before = sum(date < since for date in dates)
        if before < LEAST_BEFORE or len(dates) - before < LEAST_HELD:
            message = (
                f"{before} recorded sessions lie before {since:%-d %b %Y} and {len(dates) - before} from it on: at least "
                f"{LEAST_BEFORE} and {LEAST_HELD} are needed."
            )
            raise Refused(message, [{"path": "since", "message": message}])
    if since != strategy.held_from:
        strategy.held_from = since
        seen = [] if since is None else [strategy.runs.filter(end__gte=since), strategy.sweeps.filter(end__gte=since)]
        strategy.looks = sum(found.count() for found in seen)
        strategy.save(update_fields=["held_from", "looks"])
        notify(user.pk, "strategy", strategy.pk)
    return strategy

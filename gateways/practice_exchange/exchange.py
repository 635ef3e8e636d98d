"""The practice exchange: plays the scenario's today on the venue's clock.

It publishes quotes a few times a second, records every snapshot of the grid, and seals the session at
its close. All it knows is in the venue's row: it may be killed at any instant and goes on from the last
instant it published. Market time stands while it is down.
"""

from __future__ import annotations

import datetime as dt
import logging
import time

import numpy as np
from django.db import transaction

from config.errors import Conflict
from config.push import notify_market
from market.ask import refresh_later
from market.models import Venue
from strell_core.market.chains import SessionChain
from strell_core.scenario.practice import PracticeScenario, sizes, traded
from strell_core.scenario.single_practice import SinglePractice, settings_of, today_of, unit_quote
from venue.clock import anchor, market_now, session_of
from venue.live import live, publish, record, seal

log = logging.getLogger("strell.exchange")
AHEAD = dt.timedelta(days=45)
SINGLE_SECONDS = 1.0
"""Wall seconds between quotes of a stock or the fund: their American options cost more to value than the index's."""
FOLLOW_SECONDS = 2.0
"""How long a recorded snapshot waits for the desk before the market goes on without it."""


class Exchange:
    def __init__(self, symbol: str) -> None:
        self.symbol = symbol
        self.plays = True
        """Whether the clock ran, or was to jump, when it was last looked at."""
        self._scenario: PracticeScenario | SinglePractice | None = None
        self._said = 0.0
        """When quotes were last published, by the process's own clock."""
        self._waiting: tuple[int, float] | None = None
        self._last: tuple[dt.date, np.ndarray] | None = None

    def wake(self) -> None:
        """Go on from where the clock stood, which ran a few seconds past the last quotes: time never runs back."""
        with transaction.atomic():
            venue = self._venue()
            anchor(venue, market_now(venue))
            venue.save()

    def _venue(self) -> Venue:
        return (
            Venue.objects.select_for_update(of=["self"], no_key=True).with_terms().get(underlying__symbol=self.symbol)
        )

    def _chain(self, venue: Venue, at: int) -> SessionChain:
        if self._scenario is None or venue.session > self._scenario.dates[-1]:
            self._scenario = today_of(venue.scenario, venue.session + AHEAD)
        return self._scenario.at(venue.session, at)

    def _last_trades(self, chain: SessionChain, at: int) -> np.ndarray:
        """Last trades go on from those that were published, within a session."""
        if self._last is None or self._last[0] != chain.date:
            none = np.full(len(chain.contracts), -1, np.int32)
            try:
                before = live(self.symbol)
                known = before.last if before.chain.contracts == chain.contracts else none
            except Conflict:
                known = none
            self._last = (chain.date, known)
        self._last = (chain.date, traded(chain, at, self._last[1]))
        return self._last[1]

    @transaction.atomic
    def tick(self) -> bool:
        """Bring the market to now; whether there is more to catch up with at once."""
        venue = self._venue()
        self.plays = venue.running or venue.jump_to is not None
        if venue.sealed or not self._followed(venue):
            return False
        session = session_of(venue)
        target = market_now(venue)
        if venue.jump_to is not None:
            target = max(target, venue.jump_to)
        if target <= venue.reached and self._published(venue):
            return False
        step = settings_of(venue.scenario).step
        grid = session.open + ((venue.reached - session.open) // step + 1) * step
        at = min(target, grid)
        due = self._said + (SINGLE_SECONDS if "single" in venue.scenario else 0.0)
        if at < grid and venue.jump_to is None and time.monotonic() < due:
            return False
        self._said = time.monotonic()
        if not venue.quiet:
            chain = self._chain(venue, at)
            unit = unit_quote(chain, at) if isinstance(self._scenario, SinglePractice) else None
            publish(venue.underlying, chain, *sizes(chain.contracts, at), self._last_trades(chain, at), unit)
            if at == grid:
                record(venue.underlying, chain)
                self._waiting = (at, time.monotonic())
        venue.reached = at
        if venue.jump_to is not None and at >= venue.jump_to:
            venue.jump_to = None
            anchor(venue)
        if at >= session.close:
            self._close(venue)
        venue.save()
        return at < target

    def _published(self, venue: Venue) -> bool:
        row = getattr(venue.underlying, "live", None)
        return row is not None and row.session == venue.session and row.at >= venue.reached

    def _followed(self, venue: Venue) -> bool:
        """Whether the desk, if there is one, has worked through the last recorded snapshot."""
        if self._waiting is None:
            return True
        at, since = self._waiting
        alive = venue.followed_at and (dt.datetime.now(dt.UTC) - venue.followed_at).total_seconds() < 10
        if venue.followed >= at or not alive or time.monotonic() - since > FOLLOW_SECONDS:
            self._waiting = None
            return True
        return False

    def _close(self, venue: Venue) -> None:
        venue.running, venue.sealed, venue.jump_to = False, True, None
        seal(venue.underlying, venue.session)
        refresh_later(venue.underlying)
        notify_market(self.symbol, "clock")
        log.info("the session of %s is over", venue.session)

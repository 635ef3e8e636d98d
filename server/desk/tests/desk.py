"""A desk in a test: the practice exchange and the desk run inside the test, one step at a time."""

from __future__ import annotations

import dataclasses
import datetime as dt
import json
from decimal import Decimal
from typing import Any
from unittest.mock import patch

import numpy as np

from config.tests.demo import DemoTestCase
from desk import leader, services
from desk.models import Account, DeskOrder
from desk.process import Desk
from desk.tickets import Ticket
from market.models import Venue
from practice_exchange.exchange import Exchange
from strell_core.market.instruments import ContractKey
from strell_core.scenario.practice import sizes
from venue.clock import session_of, venue_of
from venue.live import live, publish

PLAYED: dict[str, Any] = {}
"""Scenarios by the settings of their venue: they take their time to be made, and tests with the same history play the
same."""


def first_tick(exchange: Exchange) -> None:
    """Open an exchange's session, on a scenario that is there already where one was made of the same settings."""
    settings = f"{exchange.symbol} {json.dumps(venue_of(exchange.symbol).scenario, sort_keys=True)}"
    exchange._scenario = PLAYED.get(settings)
    exchange.tick()
    PLAYED[settings] = exchange._scenario


class DeskTestCase(DemoTestCase):
    """Mara with a paper account; the market stands at the first session's open."""

    symbol = "MK30"

    def setUp(self) -> None:
        super().setUp()
        self.mara.is_staff = True
        self.mara.save()
        self.exchange = Exchange(self.symbol)
        first_tick(self.exchange)
        self.account = services.open_account(self.mara, "Paper A", "paper", self.symbol, Decimal(50_000))
        self.desk = Desk(leader.new_epoch())
        # on a busy machine the desk of a test may be slow to be heard of
        patient = patch("desk.leader.ALIVE_SECONDS", 3600)
        patient.start()
        self.addCleanup(patient.stop)

    def venue(self) -> Venue:
        return venue_of(self.symbol)

    def go(self, to: str, decide: bool = True, every: int = 1) -> None:
        """Play the market up to an exchange-local time, the desk following every so many snapshots."""
        venue = self.venue()
        hour, minute = (int(part) for part in to.split(":"))
        wanted = self.exchange_time(hour, minute)
        Venue.objects.filter(pk=venue.pk).update(jump_to=wanted)
        self.exchange._waiting = None
        count = 0
        while self.exchange.tick():
            self.exchange._waiting = None
            count += 1
            if decide and count % every == 0:
                self.desk.round()
        if decide:
            self.desk.round()

    def exchange_time(self, hour: int, minute: int) -> int:
        from market.calendars import calendar_for

        venue = self.venue()
        return calendar_for(venue.underlying).instant(venue.session, dt.time(hour, minute))

    def close_session(self, every: int = 9) -> None:
        local = session_of(self.venue())
        minutes = (local.close - local.open) // 60
        hour, minute = divmod(9 * 60 + minutes, 60)
        self.go(f"{hour}:{minute:02d}", every=every)

    def pass_seconds(self, seconds: int = 2) -> None:
        """Market time goes on by seconds, and the desk looks."""
        venue = self.venue()
        Venue.objects.filter(pk=venue.pk).update(jump_to=venue.reached + seconds)
        self.exchange._waiting = None
        self.exchange.tick()
        self.desk.round()

    def quote(self, prices: dict[str, tuple[str, str]], size: int | None = None, seconds: int = 2) -> None:
        """Publish these bids and asks (points) a little later, everything else as it was."""
        venue, now = self.venue(), live(self.symbol)
        chain = now.chain
        bid, ask = chain.bid.copy(), chain.ask.copy()
        bids, asks = sizes(chain.contracts, now.at)
        for code, (low, high) in prices.items():
            row = now.row_of(ContractKey.parse(code))
            bid[row, 0], ask[row, 0] = (round(Decimal(text) * 20) for text in (low, high))
            if size is not None:
                bids[row] = asks[row] = size
        at = now.at + seconds
        moved = dataclasses.replace(chain, times=np.array([at]), bid=bid, ask=ask)
        publish(venue.underlying, moved, bids, asks, now.last)
        Venue.objects.filter(pk=venue.pk).update(reached=at)
        self.desk.round()

    def contract(self, right: str, away: int, days: int = 8) -> str:
        """A contract ``away`` points from the money in the expiration nearest to ``days``."""
        now = live(self.symbol)
        date = min(now.chain.expirations, key=lambda day: abs((day - now.session).days - days))
        strikes = [c.strike for c in now.chain.contracts if c.expiration == date and c.right == right]
        wanted = now.spot + away
        return ContractKey(date, right, min(strikes, key=lambda strike: abs(strike - wanted)), self.symbol).code

    def place(
        self, legs: list[tuple[str, int]], lots: Any = 1, limit: Any = None, account: Account | None = None, **more: Any
    ) -> DeskOrder:
        kind = more.pop("type", "market" if limit is None else "limit")
        ticket = Ticket(legs, lots, kind, limit, **more)
        order = services.place(account or self.account, ticket)
        self.desk.round()
        order.refresh_from_db()
        return order

    def state(self, order: DeskOrder) -> str:
        order.refresh_from_db()
        return order.state

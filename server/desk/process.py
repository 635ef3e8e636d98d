"""The desk process: leads, follows the market, decides, matches, protects, settles."""

from __future__ import annotations

import datetime as dt
import logging
import time
from collections.abc import Callable

import psycopg
from django.db import InterfaceError, OperationalError, connection

from config.errors import Conflict
from config.faults import boundary
from config.push import DESK, MARKET, Ear
from desk import deploy, expiry, guards, inbox, leader, paper, reconcile
from desk.models import Account
from market.models import Venue
from venue.live import last_recorded, live

log = logging.getLogger("strell.desk")
IDLE_SECONDS = 6.0
"""A look without having been told anything: orders, reports, quotes and snapshots all come with a word."""
BEAT_SECONDS = 2.0
REST_SECONDS = 10.0
"""An underlying on which something went wrong is left alone for so long."""


class Desk:
    """One round looks at everything that may be waiting; a round after a round changes nothing."""

    def __init__(self, epoch: int) -> None:
        self.epoch = epoch
        self._beat = 0.0
        self._rests: dict[str, float] = {}
        self._compared: dict[int, dt.date] = {}
        """Sessions at whose end positions were compared with their fills, by underlying."""

    def round(self) -> None:
        inbox.apply_all(self.epoch)
        boundary("desk: reports applied")
        with_accounts = Venue.objects.filter(underlying__account__isnull=False).distinct().order_by("pk")
        for venue in with_accounts.with_terms():
            self._follow_if_it_can(venue)
        if time.monotonic() - self._beat > BEAT_SECONDS:
            self.beat()

    def beat(self) -> None:
        """Say that it is there."""
        self._beat = time.monotonic()
        leader.beat(self.epoch)

    def _follow_if_it_can(self, venue: Venue) -> None:
        """What goes wrong on one underlying stops none of the others: it is said, and tried again a little later."""
        symbol = venue.underlying.symbol
        if time.monotonic() < self._rests.get(symbol, 0.0):
            return
        try:
            self._follow(venue)
        except (leader.Deposed, OperationalError, InterfaceError, psycopg.OperationalError):
            raise
        except Exception:
            log.exception("%s is not followed; it is tried again in %d s", symbol, REST_SECONDS)
            self._rests[symbol] = time.monotonic() + REST_SECONDS

    def _follow(self, venue: Venue) -> None:
        try:
            now = live(venue.underlying.symbol)
        except Conflict:
            return
        paper.accept(self.epoch, venue)
        guards.open_session(self.epoch, venue, now)
        paper.match_all(self.epoch, venue, now)
        guards.watch(self.epoch, venue, now)
        boundary("desk: market followed")
        deploy.decide_all(self.epoch, venue)
        boundary("desk: decided")
        paper.accept(self.epoch, venue)
        paper.expire(self.epoch, venue)
        expiry.bring_about(self.epoch, venue, now)
        if venue.sealed and self._compared.get(venue.underlying_id) != venue.session:
            reconcile.check_books(
                self.epoch, Account.objects.filter(underlying=venue.underlying).select_related("underlying")
            )
            self._compared[venue.underlying_id] = venue.session
        last = last_recorded(venue.underlying)
        Venue.objects.filter(pk=venue.pk).update(followed=last, followed_at=dt.datetime.now(dt.UTC))


def lead(stop: Callable[[], bool]) -> None:
    """Be the desk, or wait to become it, until ``stop()``. The database may go and come back."""
    while not stop():
        try:
            _lead_once(stop)
        except leader.Deposed:
            log.warning("another desk has taken over")
            connection.close()
            time.sleep(1)
        except (OperationalError, InterfaceError, psycopg.OperationalError) as error:
            log.warning("nothing is decided: the database is away (%s)", str(error).strip().split("\n")[0])
            connection.close()
            time.sleep(0.5)


def _lead_once(stop: Callable[[], bool]) -> None:
    with Ear(MARKET, DESK) as ear:
        while not ear.take(leader.NAME):
            if stop():
                return
            time.sleep(0.5)
        epoch = leader.new_epoch()
        log.info("leading, epoch %d", epoch)
        desk = Desk(epoch)
        reconcile.check_books(epoch, Account.objects.select_related("underlying"))
        while not stop():
            desk.round()
            looked = time.monotonic()
            while not ear.wait(BEAT_SECONDS) and time.monotonic() - looked < IDLE_SECONDS:
                desk.beat()

"""Killing desk, gateway and broker at every boundary, and counting afterwards.

Orders go on being placed while one process after another is killed (SIGKILL) where its environment
says and started again. Then everything comes to rest and ledger and broker's book are compared,
order by order, execution by execution, contract by contract.
"""

from __future__ import annotations

import contextlib
import itertools
import multiprocessing
import os
import random
import shutil
import signal
import time
from collections import Counter
from decimal import Decimal
from multiprocessing.process import BaseProcess
from pathlib import Path

import numpy as np
import psycopg
from django.conf import settings
from django.contrib.auth.models import User
from django.db import connection

from config.errors import Conflict, Refused
from desk import services
from desk.models import Account, Connection, DeskFill, DeskOrder, Inbox, Outbox
from desk.reconcile import ledger_positions
from desk.tickets import Ticket
from fix_gateway.tests.warm import live as be
from market.models import Venue
from practice_broker import book
from practice_broker.models import BrokerExecution, BrokerName, BrokerOrder
from practice_exchange.exchange import Exchange
from strell_core.market.instruments import ContractKey
from venue.clock import venue_of
from venue.live import live

BOUNDARIES = {
    "gateway": (
        "gateway: before claim", "gateway: claim not committed", "gateway: claimed", "gateway: sent", "gateway: marked sent",
        "gateway: report came", "gateway: report kept",
    ),
    "broker": (
        "broker: received", "broker: order not committed", "broker: committed", "broker: before report", "broker: report sent",
        "broker: matched",
    ),
    "desk": ("desk: report not committed", "desk: reports applied", "desk: market followed", "desk: decided"),
}  # fmt: skip
MOST_ALIVE = 12
ALL = [(process, where) for process, places in BOUNDARIES.items() for where in places]


class Arena:
    """The three processes on this process's database; the practice exchange is played from here."""

    def __init__(self, user: User, folder: Path) -> None:
        self.user = user
        self.folder = folder
        shutil.rmtree(folder, ignore_errors=True)
        self.processes: dict[str, BaseProcess] = {}
        # the server from which sides are forked reads its settings from the environment, once
        os.environ.update(
            STRELL_DB_NAME=str(connection.settings_dict["NAME"]), STRELL_FIX_STATE=str(folder),
            STRELL_CHAIN_CACHE=str(settings.CHAIN_CACHE), STRELL_STALE_SECONDS="30",
        )  # fmt: skip
        self._fork = multiprocessing.get_context("forkserver")
        self._fork.set_forkserver_preload(["fix_gateway.tests.warm"])
        self.random = random.Random(7)
        self.killed: Counter[str] = Counter()
        self.exchange = Exchange("MK30")
        self.exchange.tick()
        # plenty is offered, so that orders come to an end
        import practice_exchange.exchange as played

        played.sizes = lambda contracts, at: (np.full(len(contracts), 40), np.full(len(contracts), 40))
        Venue.objects.update(running=True, rate=5.0)
        self.exchange.wake()
        self.account = services.open_account(user, "Arena", "practice", "MK30", Decimal(900_000_000))
        services.set_limits(user, self.account.pk, dict.fromkeys(self.account.limits))

    # -- processes
    def start(self, name: str, kill_at: str = "") -> None:
        log = str(self.folder.parent / f"arena-{name}.log")
        process = self._fork.Process(target=be, args=(name, kill_at, log), daemon=True)
        process.start()
        self.processes[name] = process

    def stop(self) -> None:
        for process in self.processes.values():
            process.kill()
            process.join()

    def mend(self, but: str = "") -> None:
        """Start again what ended by itself: a side may give up when the other is gone."""
        for name, process in self.processes.items():
            if name != but and process.exitcode is not None:
                self.start(name)

    # -- what a person does meanwhile
    def begin(self) -> None:
        """Start everything and wait until the first order has been filled."""
        for name in ("broker", "gateway", "desk"):
            self.start(name)
        end = time.monotonic() + 90
        while not DeskFill.objects.filter(account=self.account).exists() and time.monotonic() < end:
            self.go_on(0.5)
        assert DeskFill.objects.filter(account=self.account).exists(), "nothing was ever filled"

    def play(self) -> None:
        venue = venue_of("MK30")
        if venue.sealed:
            from venue import clock

            clock.next_session(self.user, "MK30")
            Venue.objects.update(running=True)
            self.exchange.wake()
        self.exchange._waiting = None
        self.exchange.tick()

    def trade(self) -> None:
        """Something at random: an order that fills, one that works, a change, a cancel; no more than the
        machine takes."""
        now, dice = live("MK30"), self.random.random()
        working = list(
            self.account.orders.filter(state__in=DeskOrder.AT_VENUE, cancel_wanted=False, new_limit=None, type="limit")
        )
        try:
            if working and dice < 0.3:
                services.cancel(self.user, self.random.choice(working).pk)
            elif working and dice < 0.45:
                order = self.random.choice(working)
                services.change(self.user, order.pk, str(Decimal(order.limit + 1) * Decimal("0.05")))
            elif self.account.orders.filter(state__in=DeskOrder.ALIVE).count() < MOST_ALIVE:
                date = now.chain.expirations[4]
                strikes = sorted(
                    {c.strike for c in now.chain.contracts if c.expiration == date and abs(c.strike - now.spot) < 90}
                )
                low, high = sorted(self.random.sample(strikes, 2))
                sign = self.random.choice((-1, 1))
                legs = [
                    (ContractKey(date, "call", low, "MK30").code, -sign),
                    (ContractKey(date, "call", high, "MK30").code, sign),
                ]
                legs = legs[: self.random.choice((1, 2))]
                far = self.random.random() < 0.4
                limit = "-180.00" if far else None
                services.place(
                    self.account,
                    Ticket(legs, self.random.choice((1, 2, 3)), "limit" if far else "market", limit),
                )
        except (Refused, Conflict):
            pass

    def go_on(self, seconds: float, every: float = 0.25) -> None:
        end, last = time.monotonic() + seconds, 0.0
        while time.monotonic() < end:
            self.play()
            if time.monotonic() - last > every:
                last = time.monotonic()
                self.trade()
            time.sleep(0.05)

    # -- killing
    def kill_once(self, name: str, where: str, patience: float = 40.0) -> bool:
        """Restart a process so that it dies at a boundary; whether it did."""
        old = self.processes.pop(name)
        old.kill()
        old.join()
        self.start(name, f"{where}#{self.random.choice((1, 1, 2, 3))}")
        end = time.monotonic() + patience
        died = False
        while time.monotonic() < end and not died:
            self.go_on(0.3)
            self.mend(but=name)
            code = self.processes[name].exitcode
            died = code == -signal.SIGKILL
            if code is not None and not died:
                self.start(name, f"{where}#1")
        if not died:
            self.processes[name].kill()
        self.processes[name].join()
        self.killed[where] += died
        self.start(name)
        return died

    def outage(self, seconds: float) -> None:
        """Cut every process but this one from the database, and let nobody back in for a while."""
        name = connection.settings_dict["NAME"]
        with connection.cursor() as cursor:
            cursor.execute("SELECT pg_backend_pid()")
            mine = cursor.fetchone()[0]
        facts = {key.lower(): connection.settings_dict[key] for key in ("HOST", "PORT", "USER", "PASSWORD")}
        with psycopg.connect(dbname="postgres", autocommit=True, **facts) as other:
            other.execute(f'ALTER DATABASE "{name}" ALLOW_CONNECTIONS false')
            try:
                other.execute(
                    "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = %s AND pid <> %s",
                    [name, mine],
                )
                time.sleep(seconds)
            finally:
                other.execute(f'ALTER DATABASE "{name}" ALLOW_CONNECTIONS true')

    # -- counting
    def settle(self, patience: float = 300.0) -> None:
        """Cancel what works and wait until nothing is in flight."""
        end = time.monotonic() + patience
        while time.monotonic() < end:
            self.play()
            self.mend()
            alive = list(self.account.orders.filter(state__in=DeskOrder.ALIVE))
            if (
                not alive
                and not Inbox.objects.filter(applied_at=None).exists()
                and Connection.objects.filter(up=True, reconciled=True).exists()
            ):
                return
            for order in alive:
                if order.state in DeskOrder.AT_VENUE and not order.cancel_wanted:
                    with contextlib.suppress(Refused, Conflict):
                        services.cancel(self.user, order.pk)
            time.sleep(0.3)
        states = Counter(self.account.orders.values_list("state", flat=True))
        raise AssertionError(
            f"nothing came to rest: {states}, {list(Outbox.objects.exclude(state__in=('acknowledged', 'refused')).values())}"
        )

    def faults(self) -> list[str]:
        """Everything in which ledger and broker's book differ."""
        account = Account.objects.get(pk=self.account.pk)
        out = [f"quarantine: {account.quarantine}"] if account.quarantine else []
        names = Counter(name for row in BrokerOrder.objects.filter(account=account.broker_code) for name in row.names)
        out += [f"{name} is {count} orders at the broker" for name, count in names.items() if count > 1]
        theirs = set(
            BrokerExecution.objects.filter(account=account.broker_code, report__exec_type="F").values_list(
                "exec_id", flat=True
            )
        )
        ours = Counter(DeskFill.objects.filter(account=account).values_list("execution", flat=True))
        out += [f"execution {one} was lost" for one in theirs - set(ours)]
        out += [f"execution {one} is not the broker's" for one in set(ours) - theirs]
        out += [f"execution {one} counted {count} times" for one, count in ours.items() if count > 1]
        for order in account.orders.exclude(state="refused"):
            first = order.messages.filter(kind="new").first()
            known = BrokerName.objects.filter(name=first.cl_ord_id).select_related("order").first() if first else None
            lots = known.order.filled if known and known.order else 0
            if lots != order.filled:
                out.append(f"order {order.pk}: {order.filled} lots here, {lots} at the broker")
            if order.state in ("filled", "cancelled") and known is None and order.filled:
                out.append(f"order {order.pk} is unknown to the broker")
        if dict(ledger_positions(account)) != book.positions(account.broker_code, "MK30"):
            out.append(
                f"positions differ: {dict(ledger_positions(account))} and {book.positions(account.broker_code, 'MK30')}"
            )
        return out


def run(arena: Arena, kills: int, tries: int = 4) -> Counter[str]:
    """Kill so many times, one boundary after the other; how often each was hit. A boundary that is not
    reached in time is tried again a few times."""
    arena.begin()
    for name, where in itertools.islice(itertools.cycle(ALL), kills):
        for _ in range(tries):
            began = time.monotonic()
            died = arena.kill_once(name, where)
            said = "killed" if died else "NOT REACHED"
            print(
                f"{sum(arena.killed.values()):4d}  {where:32s} {said} after {time.monotonic() - began:.1f} s",
                flush=True,
            )
            if died:
                break
    arena.settle()
    return arena.killed

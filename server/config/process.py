"""What commands that become a process have in common."""

from __future__ import annotations

import logging
import os
import time
from collections.abc import Callable
from typing import Any

import psycopg
from django.core.management.base import BaseCommand
from django.db import InterfaceError, OperationalError, connection

log = logging.getLogger("strell.process")

CALLED = "strell "
KEPT = ("work", "exchange", "desk", "broker", "gateway")
DECLARATIONS = "declarations"
"""The check of what strategies are written with."""


class ProcessCommand(BaseCommand):
    """Checks what it rests on when it starts, and not the pages it does not serve: those are half of a start."""

    requires_system_checks = (DECLARATIONS,)

    def execute(self, *args: Any, **options: Any) -> Any:
        # what its connections are called tells everybody that it is there
        os.environ["PGAPPNAME"] = CALLED + self.__module__.rsplit(".", 1)[-1]
        return super().execute(*args, **options)


def outlive(work: Callable[[], object], also: type[Exception] | None = None) -> None:
    """Do ``work`` until it ends by itself, and begin it again whenever the database went away, which ``also`` says too;
    starting a whole process again takes longer than most outages."""
    gone: tuple[type[Exception], ...] = (OperationalError, InterfaceError, psycopg.OperationalError)
    if also is not None:
        gone += (also,)
    while True:
        try:
            work()
            return
        except gone as error:
            log.warning("the database is away (%s); trying again", str(error).strip().split("\n")[0])
            connection.close()
            time.sleep(0.5)


def away() -> list[str]:
    """Processes of :data:`KEPT` that hold no connection to the database now."""
    with connection.cursor() as cursor:
        cursor.execute("SELECT DISTINCT application_name FROM pg_stat_activity WHERE datname = current_database()")
        there = {name for (name,) in cursor.fetchall()}
    return [name for name in KEPT if CALLED + name not in there]

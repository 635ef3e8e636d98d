"""The practice exchange as a process."""

from __future__ import annotations

import logging
import time
from typing import Any

import psycopg
from django.core.management.base import CommandParser
from django.db import OperationalError, connection

from config.process import ProcessCommand
from config.push import MARKET, Ear
from practice_exchange.exchange import Exchange

log = logging.getLogger("strell.exchange")
STANDING_SECONDS = 3.0
"""Wall seconds between looks at a clock that stands; when it is set or starts, a word comes."""


class Command(ProcessCommand):
    help = "Play the practice exchange until stopped."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--symbol", default="MK30")
        parser.add_argument("--every", type=float, default=0.2, help="wall seconds between quotes")

    def handle(self, *args: Any, **options: Any) -> None:
        while True:
            try:
                with Ear(MARKET) as ear:
                    self._play(ear, options["symbol"], options["every"])
            except (OperationalError, psycopg.OperationalError) as error:
                log.warning("the database is away (%s); trying again", str(error).strip().split("\n")[0])
                connection.close()
                time.sleep(1)

    def _play(self, ear: Ear, symbol: str, every: float) -> None:
        while not ear.take(f"exchange {symbol}"):
            time.sleep(1)
        exchange = Exchange(symbol)
        exchange.wake()
        while True:
            began = time.monotonic()
            more = exchange.tick()
            if not more and exchange.plays:
                # what is heard now is what was published by this process itself
                time.sleep(max(0.02, every - (time.monotonic() - began)))
                ear.wait(0)
            elif not more:
                ear.wait(STANDING_SECONDS)

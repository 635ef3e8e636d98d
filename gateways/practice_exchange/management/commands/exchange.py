"""The practice exchange as a process."""

from __future__ import annotations

import logging
import time
from typing import Any

import psycopg
from django.core.management.base import CommandParser
from django.db import OperationalError

from config.process import ProcessCommand, outlive
from config.push import MARKET, Ear
from market.models import Venue
from practice_exchange.exchange import Exchange

log = logging.getLogger("strell.exchange")
REST_SECONDS = 10.0
"""A market on which something went wrong is left alone for so long; the others are played."""
STANDING_SECONDS = 3.0
"""Wall seconds between looks at a clock that stands; when it is set or starts, a word comes."""


class Command(ProcessCommand):
    help = "Play the practice exchange until stopped."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--symbol", action="append", help="play only these markets; one process plays at a time")
        parser.add_argument("--every", type=float, default=0.2, help="wall seconds between quotes")

    def handle(self, *args: Any, **options: Any) -> None:
        def play() -> None:
            with Ear(MARKET) as ear:
                self._play(ear, options["symbol"], options["every"])

        outlive(play)

    def _play(self, ear: Ear, symbols: list[str] | None, every: float) -> None:
        while not ear.take("exchange"):
            time.sleep(1)
        floor: dict[str, Exchange] = {}
        rests: dict[str, float] = {}
        while True:
            began = time.monotonic()
            if not any(exchange.plays for exchange in floor.values()):
                self._open_new(floor, symbols)
            more = plays = False
            for symbol, exchange in floor.items():
                if began < rests.get(symbol, 0.0):
                    continue
                try:
                    more |= exchange.tick()
                    plays |= exchange.plays
                except (OperationalError, psycopg.OperationalError):
                    raise
                except Exception:
                    log.exception("%s is not played; it is tried again in %d s", symbol, REST_SECONDS)
                    rests[symbol] = began + REST_SECONDS
            if not more and plays:
                # what is heard now is what was published by this process itself
                time.sleep(max(0.02, every - (time.monotonic() - began)))
                ear.wait(0)
            elif not more:
                ear.wait(STANDING_SECONDS)

    def _open_new(self, floor: dict[str, Exchange], symbols: list[str] | None) -> None:
        """Play the markets that were connected since."""
        for symbol in Venue.objects.order_by("pk").values_list("underlying__symbol", flat=True):
            if symbol not in floor and (symbols is None or symbol in symbols):
                floor[symbol] = Exchange(symbol)
                floor[symbol].wake()

"""The practice broker as a process; it starts again by itself when a fault ends it."""

from __future__ import annotations

import logging
import sys
from typing import Any

from django.core.management.base import BaseCommand, CommandParser

from config.keep import keep_running


class Command(BaseCommand):
    help = "Run the practice broker until stopped."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--once", action="store_true", help="do not start again")

    def handle(self, *args: Any, **options: Any) -> None:
        if options["once"]:
            from practice_broker.acceptor import Broker

            Broker().run()
            return
        keep_running([sys.executable, sys.argv[0], "broker", "--once"], logging.getLogger("strell.broker"))

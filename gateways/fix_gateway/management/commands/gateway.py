"""The FIX gateway as a process; it starts again by itself."""

from __future__ import annotations

import logging
import sys
from typing import Any

from django.core.management.base import BaseCommand, CommandParser

from config.keep import keep_running


class Command(BaseCommand):
    help = "Run the gateway to the practice broker until stopped."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--once", action="store_true", help="do not start again")

    def handle(self, *args: Any, **options: Any) -> None:
        if options["once"]:
            from fix_gateway.gateway import Gateway

            Gateway().run()
            return
        keep_running([sys.executable, sys.argv[0], "gateway", "--once"], logging.getLogger("strell.gateway"))

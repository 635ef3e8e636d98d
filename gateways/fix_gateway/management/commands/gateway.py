"""The FIX gateway as a process."""

from __future__ import annotations

from typing import Any

from config.process import ProcessCommand
from fix_gateway.gateway import Gateway


class Command(ProcessCommand):
    help = "Run the gateway to the practice broker until stopped."

    def handle(self, *args: Any, **options: Any) -> None:
        Gateway().run()

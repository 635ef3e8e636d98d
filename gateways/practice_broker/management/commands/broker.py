"""The practice broker as a process; some faults end it, and whoever keeps it starts it again."""

from __future__ import annotations

from typing import Any

from config.process import ProcessCommand
from practice_broker.acceptor import Broker


class Command(ProcessCommand):
    help = "Run the practice broker until stopped."

    def handle(self, *args: Any, **options: Any) -> None:
        Broker().run()

"""The desk as a process."""

from typing import Any

from config.process import ProcessCommand
from desk.process import lead


class Command(ProcessCommand):
    help = "Be the desk until stopped; a second one waits to take over."

    def handle(self, *args: Any, **options: Any) -> None:
        lead(lambda: False)

"""The desk as a process."""

from typing import Any

from django.core.management.base import BaseCommand

from desk.process import lead


class Command(BaseCommand):
    help = "Be the desk until stopped; a second one waits to take over."

    def handle(self, *args: Any, **options: Any) -> None:
        lead(lambda: False)

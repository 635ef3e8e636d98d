"""A finished run, or several compared, as one HTML file, without the web."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from config.errors import Refused
from runs import reporting
from runs.models import Run


class Command(BaseCommand):
    help = "Write a finished run, or two to eight of one person compared, as one HTML file."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("run", type=int, nargs="+", help="the run's id, as /api/runs tells it")
        parser.add_argument("--out", type=Path, help="the file; else it is printed")

    def handle(self, *args: Any, **options: Any) -> None:
        found = Run.objects.there().select_related("strategy__owner", "revision").in_bulk(options["run"])
        missing = [number for number in options["run"] if number not in found]
        if missing:
            raise CommandError(f"There is no run {missing[0]}.")
        first = found[options["run"][0]]
        try:
            several = len(options["run"]) > 1
            text = reporting.of_comparison(first.strategy.owner, options["run"]) if several else reporting.of_run(first)
            if options["out"] is None:
                self.stdout.write(text)
            else:
                options["out"].write_text(text)
        except Refused as error:
            raise CommandError(error.message) from error
        except OSError as error:
            raise CommandError(f"{options['out']} cannot be written: {error.strerror}") from error

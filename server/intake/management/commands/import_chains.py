"""Load a file of market data from the command line."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

from django.contrib.auth.models import User
from django.core.management.base import BaseCommand, CommandError, CommandParser

from config.errors import Refused
from intake import jobs, services
from intake.files import guessed_mapping, point_to
from intake.preview import preview
from intake.queries import facts
from market.models import ColumnMapping, Intake
from strell_core.formats.intake.mapping import DATE_FORMATS, KINDS


class Command(BaseCommand):
    help = "Load option chains, bars, dividends, splits, events, rates or a series from CSV, Parquet or iCalendar."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("file")
        parser.add_argument("--user", default="demo", help="whose intake it is")
        parser.add_argument("--mapping", help="name of a kept mapping, or a JSON file with one")
        parser.add_argument("--terms", help="JSON of terms for underlyings that are not known yet, or a file with it")
        parser.add_argument("--kind", choices=list(KINDS), help="what the file holds, where it is not recognised")
        parser.add_argument("--underlying", help="symbol of everything in the file (rates: currency, series: name)")
        parser.add_argument(
            "--dates", choices=list(DATE_FORMATS), help="how dates are written, where a file does not tell"
        )
        parser.add_argument("--zone", help="time zone of times without an offset")
        parser.add_argument("--adds", action="store_true", help="add to sessions that are there")
        parser.add_argument("--look", action="store_true", help="only say what would be read")

    def handle(self, *args: Any, **options: Any) -> None:
        user = User.objects.filter(username=options["user"]).first()
        if user is None:
            raise CommandError(f"There is no user {options['user']}.")
        try:
            made = point_to(user, Path(options["file"]))
            guessed = (
                guessed_mapping(Path(options["file"]), options["kind"]).plain() if options["kind"] else made.mapping
            )
            mapping = {**guessed, **self._mapping(user, options["mapping"])}
            for name, option in (("underlying", "underlying"), ("zone", "zone"), ("date_format", "dates")):
                if options[option]:
                    mapping[name] = options[option]
            new = {**made.terms, **_json(options["terms"])}
            if options["look"]:
                found = preview(user, made.pk, mapping, new)
                services.forget(user, made.pk)
                self.stdout.write(json.dumps(found, indent=1, default=str))
                return
            made = services.start(user, made.pk, mapping, new, options["adds"], queue=False)
            jobs.carry_out(made.pk)
        except Refused as error:
            raise CommandError(error.message) from error
        made.refresh_from_db()
        self._say(facts(made))
        if made.status != Intake.Status.DONE:
            sys.exit(1)

    def _mapping(self, user: User, named: str | None) -> dict[str, Any]:
        if not named:
            return {}
        kept = ColumnMapping.objects.of(user).filter(name=named).first()
        return kept.mapping if kept is not None else _json(named)

    def _say(self, told: dict[str, Any]) -> None:
        say = self.stdout.write
        say(f"{told['name']}: {told['status']}{'. ' + told['message'] if told['message'] else ''}")
        say(f"{told['rows']} rows, {told['rejects']} set aside")
        for reject in told["rejected"]:
            say(f"  {reject['count']} × {reject['what']}")
        for mine in told["symbols"]:
            say(
                f"{mine['symbol']}: {mine['new']} new sessions, {mine['changed']} changed, {mine['same']} as they were, {mine['quotes']} quotes"
            )
            for found in mine["findings"]:
                say(f"  {found['count']} × {found['what']}")
            for run in mine["runs"]:
                say(f"  run {run['number']} of {run['name']} used what was there before")


def _json(text: str | None) -> dict[str, Any]:
    if not text:
        return {}
    try:
        raw = json.loads(Path(text).read_text() if Path(text).is_file() else text)
    except (OSError, json.JSONDecodeError) as error:
        raise CommandError(f"'{text}' is neither JSON nor a file of it: {error}") from error
    if not isinstance(raw, dict):
        raise CommandError(f"'{text}' is no JSON object.")
    return raw

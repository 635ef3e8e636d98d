"""Halt from the command line: works without the web and without the desk."""

from __future__ import annotations

from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from desk.deployments import halt
from desk.models import Account


class Command(BaseCommand):
    help = "Cancel all orders, disarm all deployments, lock accounts until the next session."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--user", help="only this person's accounts")
        parser.add_argument("--account", help="only accounts of this name")
        parser.add_argument("--flatten", action="store_true", help="close all positions at the market, too")
        parser.add_argument("--because", default="halted from the command line")

    def handle(self, *args: Any, **options: Any) -> None:
        accounts = Account.objects.select_related("underlying", "owner")
        if options["user"]:
            accounts = accounts.filter(owner__username=options["user"])
        if options["account"]:
            accounts = accounts.filter(name=options["account"])
        found = list(accounts)
        if not found:
            raise CommandError("There is no such account; nothing was halted.")
        done = halt(found, "person", options["because"], options["flatten"])
        names = ", ".join(f"{account.name} ({account.owner.username})" for account in found)
        self.stdout.write(f"Halted {names} until the next session.")
        self.stdout.write(
            f"{done['orders']} orders cancelled or asked to be, {done['deployments']} deployments disarmed, "
            f"{done['closing']} closing orders sent."
        )

"""The worker: takes jobs from the queue until it is stopped; it starts again when it fails, say because
the database was away."""

from __future__ import annotations

import logging
import os
import sys
from typing import Any

from django.core.management.base import BaseCommand, CommandParser
from procrastinate.contrib.django import app

from config.keep import keep_running
from runs import services
from runs.warm import warm_all


class Command(BaseCommand):
    help = "Take jobs from the queue until stopped."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--once", action="store_true", help="do not start again")

    def handle(self, *args: Any, **options: Any) -> None:
        if not options["once"]:
            keep_running([sys.executable, sys.argv[0], "work", "--once"], logging.getLogger("strell.worker"))
        # what is traded now goes before what is computed
        os.nice(10)
        warm_all()
        services.recover()
        worker = app.with_connector(app.connector.get_worker_connector())
        worker.run_worker(queues=["runs"], concurrency=2, wait=True, listen_notify=True, delete_jobs="successful")

"""The worker: takes jobs from the queue until it is stopped."""

from __future__ import annotations

import os
from typing import Any, cast

from procrastinate.contrib.django import app
from procrastinate.contrib.django.django_connector import DjangoConnector
from procrastinate.exceptions import ConnectorException

from config.process import ProcessCommand, outlive
from runs import services
from runs.warm import warm_all


class Command(ProcessCommand):
    help = "Take jobs from the queue until stopped."

    def handle(self, *args: Any, **options: Any) -> None:
        # what is traded now goes before what is computed
        os.nice(10)
        warm_all()
        outlive(self._work, ConnectorException)

    def _work(self) -> None:
        services.recover()
        worker = app.with_connector(cast(DjangoConnector, app.connector).get_worker_connector())
        worker.run_worker(queues=["runs"], concurrency=2, wait=True, listen_notify=True, delete_jobs="successful")

"""Test cases with data: a short scenario loaded once, users, strategies and runs made by the services."""

from __future__ import annotations

import json
from decimal import Decimal
from pathlib import Path
from typing import Any

from django.conf import settings
from django.contrib.auth.models import User
from django.test import Client, TestCase

from demo.load import load_scenario
from market.models import Underlying
from market.timelines import timeline
from runs import services as runs
from runs import work as run_work
from runs.models import Run
from strategies import services as strategies
from strategies.models import Strategy
from strell_core.formats.strategies import from_text
from strell_core.scenario.generator import Settings

SHORT = Settings(sessions=90, intraday=25)
EXAMPLES = Path(settings.PROJECT) / "docs" / "strategies"
BACKEND = "django.contrib.auth.backends.ModelBackend"


def load_short_scenario() -> None:
    """Committed outside any test's transaction, so that every class finds it."""
    if not Underlying.objects.exclude(data_digest="").exists():
        load_scenario(SHORT, lambda what, done, total: None, processes=1)


def document(name: str = "harbour-strangle", **changes: Any) -> dict[str, Any]:
    return {**from_text((EXAMPLES / f"{name}.yaml").read_text()), **changes}


class DemoTestCase(TestCase):
    """Two people, one strategy of the first, and the API as each sees it."""

    @classmethod
    def setUpClass(cls) -> None:
        load_short_scenario()
        super().setUpClass()

    @classmethod
    def setUpTestData(cls) -> None:
        cls.mara = User.objects.create_user("mara", password="quiet-harbour-9")
        cls.odil = User.objects.create_user("odil", password="quiet-harbour-9")
        cls.strategy = strategies.create(cls.mara, document())

    def setUp(self) -> None:
        self.client.force_login(self.mara, backend=BACKEND)
        self.other = Client()
        self.other.force_login(self.odil, backend=BACKEND)

    def history(self) -> Any:
        return timeline("MK30")

    def finished_run(self, strategy: Strategy | None = None, method: str = "blocks") -> Run:
        history = self.history()
        run = runs.ask(
            self.mara, (strategy or self.strategy).pk, history.dates[0], history.dates[-1], Decimal(50_000), method
        )
        run_work.carry_out(run.pk)
        run.refresh_from_db()
        self.assertEqual(run.status, Run.Status.DONE, run.message)
        return run

    def send(self, method: str, path: str, body: Any = None, client: Client | None = None) -> tuple[int, Any]:
        """Status and JSON of an API call."""
        send = getattr(client or self.client, method)
        data = {} if body is None else {"data": json.dumps(body), "content_type": "application/json"}
        answer = send(f"/api{path}", **data)
        text = answer.getvalue().decode(errors="replace")
        return answer.status_code, json.loads(text) if text.startswith(("{", "[")) else text

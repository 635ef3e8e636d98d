"""Server time of what the pages ask for, on the demo data (needs ./strell demo to have run once)."""

from __future__ import annotations

import json

from bench.timing import median_seconds, table


def run() -> None:
    import django

    django.setup()
    from django.conf import settings
    from django.contrib.auth.models import User
    from django.test import Client

    from replay.models import ReplaySession
    from strategies.models import Strategy

    user = User.objects.filter(username="demo").first()
    if user is None:
        print("\n(no demo data: run ./strell demo once to measure the pages)")
        return
    settings.ALLOWED_HOSTS.append("testserver")
    client = Client()
    client.force_login(user, backend="django.contrib.auth.backends.ModelBackend")
    strategy = Strategy.objects.of(user).order_by("pk").first()
    run = strategy.runs.filter(status="done").order_by("number").first()
    session = ReplaySession.objects.of(user).order_by("pk").first()
    there = session.cursor

    def get(path: str) -> None:
        answer = client.get(f"/api{path}")
        assert answer.status_code == 200, (path, answer.status_code)

    def move(to: str) -> None:
        body = json.dumps({"to": to})
        assert client.post(f"/api/replays/{session.pk}/move", body, content_type="application/json").status_code == 200

    def step_and_back() -> None:
        move("step")
        move("step-back")

    asked = {
        "shelf": lambda: get("/strategies"),
        "preview at a date": lambda: get(f"/strategies/{strategy.pk}/preview?at=2026-11-04T15:45"),
        "a run with its trades and decisions": lambda: get(f"/runs/{run.pk}"),
        "one trade in full": lambda: get(f"/runs/{run.pk}/trades/{run.trades.first().number}"),
        "a replay scene": lambda: get(f"/replays/{session.pk}"),
    }
    rows = [(name, f"{1000 * median_seconds(what, 15):.0f}") for name, what in asked.items()]
    rows.append(("one replay step, everything refreshed", f"{1000 * median_seconds(step_and_back, 15) / 2:.0f}"))
    move(str(there))
    table("Server time of the pages", ("request", "median ms"), rows)

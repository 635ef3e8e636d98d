"""The application as a person meets it: its own web and worker processes, and headless Chromium.

The processes run on the test database. They can be killed and started again in the middle of a story.
"""

from __future__ import annotations

import os
import re
import signal
import socket
import subprocess
import sys
import time
import unittest
import urllib.error
import urllib.request
from decimal import Decimal
from pathlib import Path
from typing import Any, ClassVar

from django.conf import settings
from django.contrib.auth.models import User
from django.db import connection
from django.test import tag
from playwright.sync_api import Browser, Page, Playwright, expect, sync_playwright

from config.tests.demo import document, load_short_scenario
from desk.models import Account, Deployment
from market.timelines import timeline
from replay.models import ReplaySession
from runs import services as runs
from runs import work as run_work
from runs.models import Run
from strategies import services as strategies
from strategies.models import Strategy
from sweeps.models import Sweep

PROJECT = Path(settings.PROJECT)
NAME, PASSWORD = "mara", "quiet-harbour-9"
CHROMIUM = ["--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
            "--disable-component-update", "--disable-sync", "--js-flags=--no-opt --no-maglev"]  # fmt: skip
"""What optimizes scripts that run for minutes costs stories of seconds more than it saves."""
LEASE_SECONDS = 4
STALE_SECONDS = 30
"""Beside another suite the exchange is late now and then; how old is too old is tried elsewhere."""

# playwright's event loop makes Django think it is called from async code
os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "1"


def free_port() -> int:
    with socket.socket() as place:
        place.bind(("127.0.0.1", 0))
        return int(place.getsockname()[1])


def _chromium() -> str:
    found = os.environ.get("STRELL_CHROMIUM")
    assert found, "there is no Chromium: ./strell test installs it"
    return found


@tag("long")
class BrowserTestCase(unittest.TestCase):
    """One person with the demo strangle. The web and the worker process go on from class to class, as starting them takes
    longer than most stories; they end with the process that runs the tests. What else a class starts ends with it."""

    databases: ClassVar[set[str]] = {"default"}
    """So that Django's runner makes the test database; without it these would meet a real one."""
    playwright: ClassVar[Playwright]
    browser: ClassVar[Browser]
    processes: ClassVar[dict[str, subprocess.Popen[bytes]]] = {}
    port: ClassVar[int] = 0
    user: ClassVar[User]
    page: Page

    @classmethod
    def setUpClass(cls) -> None:
        assert str(connection.settings_dict["NAME"]).startswith("test_"), "browser tests run on the test database only"
        load_short_scenario()
        cls.user = User.objects.create_user(NAME, password=PASSWORD)
        cls.addClassCleanup(cls._clear)
        BrowserTestCase.port = cls.port or free_port()
        for name, start in (("web", cls.start_web), ("worker", cls.start_worker)):
            if name not in cls.processes or cls.processes[name].poll() is not None:
                start()
        cls.playwright = sync_playwright().start()
        cls.addClassCleanup(cls.playwright.stop)
        cls.browser = cls.playwright.chromium.launch(executable_path=_chromium(), args=CHROMIUM)
        cls.addClassCleanup(cls.browser.close)
        expect.set_options(timeout=90_000)  # processes start anew in stories, and machines are busy

    @classmethod
    def _clear(cls) -> None:
        for name in set(cls.processes) - {"web", "worker"}:
            cls.stop(name, signal.SIGTERM)
        cls.forget()
        cls.user.delete()
        connection.close()

    @classmethod
    def forget(cls) -> None:
        """Everything the person made."""
        Deployment.objects.filter(owner=cls.user).delete()
        Account.objects.filter(owner=cls.user).delete()
        ReplaySession.objects.filter(owner=cls.user).delete()
        Sweep.objects.filter(strategy__owner=cls.user).delete()
        Run.objects.filter(strategy__owner=cls.user).delete()
        Strategy.objects.filter(owner=cls.user).delete()

    # -- processes
    @classmethod
    def _start(cls, name: str, *command: str) -> None:
        environment = {
            **os.environ, "STRELL_DB_NAME": str(connection.settings_dict["NAME"]), "STRELL_RUN_LEASE": str(LEASE_SECONDS),
            "STRELL_STALE_SECONDS": str(STALE_SECONDS),
            "STRELL_CHAIN_CACHE": str(settings.CHAIN_CACHE), "STRELL_INTAKE": str(settings.INTAKE), "STRELL_FIX_STATE": str(settings.FIX_STATE),
        }  # fmt: skip
        cls.processes[name] = subprocess.Popen(
            ["setpriv", "--pdeathsig", "TERM", sys.executable, *command], cwd=PROJECT, env=environment
        )

    @classmethod
    def start_web(cls) -> None:
        cls._start("web", "-m", "config.serve", str(cls.port))
        for _ in range(300):
            try:
                urllib.request.urlopen(f"http://127.0.0.1:{cls.port}/health", timeout=2)
                return
            except (urllib.error.URLError, ConnectionError, TimeoutError):
                time.sleep(0.1)
        raise AssertionError("the web process did not start")

    @classmethod
    def start_worker(cls) -> None:
        cls._start("worker", "server/manage.py", "work")

    @classmethod
    def start_market(cls, *names: str) -> None:
        """Processes of the trading day: exchange, desk, broker, gateway."""
        for name in names:
            cls._start(name, "browser_tests/kept.py", name)

    @classmethod
    def stop(cls, name: str, how: int) -> None:
        process = cls.processes.pop(name)
        process.send_signal(how)
        try:
            process.wait(10)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()

    # -- the person
    def setUp(self) -> None:
        self.strategy = strategies.create(self.user, document())
        self.addCleanup(self.forget)
        self.context = self.browser.new_context(viewport={"width": 1280, "height": 800}, locale="en-GB")
        self.addCleanup(self.context.close)
        self.page = self.context.new_page()
        self.broken: list[str] = []
        self.page.on("pageerror", lambda error: self.broken.append(str(error)))
        self.addCleanup(lambda: self.assertEqual(self.broken, [], "errors in the page"))

    def ran(self, strategy: Strategy, last: int = -1) -> Run:
        """A finished backtest of the whole history, or up to another session, whoever carried it out: the worker may
        have been first."""
        dates = timeline("MK30").dates
        run = runs.ask(self.user, strategy.pk, dates[0], dates[last], Decimal(50_000), "blocks")
        run_work.carry_out(run.pk)
        until = time.monotonic() + 60
        while run.status != Run.Status.DONE and time.monotonic() < until:
            time.sleep(0.1)
            run.refresh_from_db()
        self.assertEqual(run.status, Run.Status.DONE, run.message)
        return run

    def open(self, path: str) -> None:
        self.page.goto(f"http://127.0.0.1:{self.port}{path}")

    def sign_in(self, path: str = "/") -> None:
        self.open(path)
        self.page.get_by_label("Name").fill(NAME)
        self.page.get_by_label("Password").fill(PASSWORD)
        self.page.get_by_role("button", name="Sign in").click()
        expect(self.page.get_by_role("navigation", name="Pages")).to_be_visible()

    def told(self, words: str | re.Pattern[str]) -> None:
        """A notice with these words appears (the screen reader's copy of it does not count)."""
        expect(self.page.locator("[data-notice]").filter(has_text=words).last).to_be_visible()

    def sentence(self, number: int) -> Any:
        """A line of the sheet by its number."""
        return self.page.get_by_label("Sheet").locator("li").nth(number - 1)

    def serious_faults(self) -> list[str]:
        """What axe-core finds serious or critical on the page."""
        self.page.evaluate((PROJECT / "web/node_modules/axe-core/axe.min.js").read_text())
        found = self.page.evaluate("axe.run().then(r => r.violations)")
        return [
            f"{v['id']}: {node['html'][:160]}"
            for v in found if v["impact"] in ("serious", "critical") for node in v["nodes"]
        ]  # fmt: skip

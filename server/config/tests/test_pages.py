"""The page itself, the health check, and addresses that are none."""

from __future__ import annotations

from pathlib import Path
from tempfile import mkdtemp

import psycopg
from django.conf import settings
from django.db import connection
from django.test import TestCase, override_settings

from config.process import CALLED, KEPT, away


class PagesTest(TestCase):
    def test_every_address_of_the_front_end_is_the_same_page(self) -> None:
        for path in ("/", "/strategies/3/rules", "/replays/1", "/nowhere"):
            answer = self.client.get(path)
            self.assertEqual(answer.status_code, 200)
            self.assertIn(b'<div id="root">', answer.content)
            self.assertEqual(answer.headers["Cache-Control"], "no-cache")
            self.assertIn(settings.CSRF_COOKIE_NAME, answer.cookies)
            self.assertIn(f'content="{settings.CSRF_COOKIE_NAME}"'.encode(), answer.content)

    def test_without_a_build_it_says_what_to_do(self) -> None:
        with override_settings(DIST=Path(mkdtemp())):
            answer = self.client.get("/")
        self.assertEqual(answer.status_code, 503)
        self.assertIn(b"./strell demo", answer.content)

    def test_the_api_answers_unknown_addresses_itself(self) -> None:
        self.assertEqual(self.client.get("/api/nothing").status_code, 404)

    def test_health(self) -> None:
        self.assertEqual(self.client.get("/health").json(), {"status": "ready", "away": list(KEPT)})
        settings = connection.settings_dict
        named = {
            key: settings[name]
            for key, name in (("host", "HOST"), ("port", "PORT"), ("dbname", "NAME"), ("user", "USER"))
        }
        with psycopg.connect(**named, password=settings["PASSWORD"], application_name=f"{CALLED}desk"):
            with connection.cursor() as cursor:
                cursor.execute("SELECT pg_stat_clear_snapshot()")  # a transaction sees what it saw first
            self.assertEqual(away(), [name for name in KEPT if name != "desk"])

    def test_nothing_is_fetched_from_elsewhere(self) -> None:
        page = (settings.DIST / "index.html").read_text()
        styles = "".join(path.read_text() for path in settings.DIST.glob("assets/*.css"))
        for text in (page, styles):
            self.assertNotRegex(text, r"(src|href|url)\s*[=(]\s*[\"']?(https?:)?//")

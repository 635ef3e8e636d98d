"""The environment is read in one place, which says everything that is wrong with it."""

from __future__ import annotations

from pathlib import Path

from django.core.exceptions import ImproperlyConfigured
from django.test import SimpleTestCase

from config.environment import PROJECT, read

GOOD = {"STRELL_SECRET_KEY": "a secret of some length", "STRELL_DB_PASSWORD": "x", "STRELL_DB_PORT": "54700"}


class EnvironmentTest(SimpleTestCase):
    def test_defaults_and_what_is_given(self) -> None:
        found = read({**GOOD, "STRELL_STATE": "/somewhere", "STRELL_UNKNOWN": "x"})
        self.assertEqual((found.db_port, found.db_host, found.state), (54700, "127.0.0.1", Path("/somewhere")))
        self.assertEqual((found.fix_state, found.chain_cache, read(GOOD).state), (None, None, PROJECT / ".state"))

    def test_all_that_is_wrong_is_said_at_once(self) -> None:
        wrong = {
            "STRELL_DB_PORT": "soon",
            "STRELL_SECRET_KEY": "short",
            "STRELL_RUN_LEASE": "0",
            "STRELL_LOG_LEVEL": "LOUD",
        }
        with self.assertRaises(ImproperlyConfigured) as caught:
            read(wrong)
        said = str(caught.exception)
        for name in ("STRELL_DB_PORT", "STRELL_SECRET_KEY", "STRELL_RUN_LEASE", "STRELL_LOG_LEVEL"):
            self.assertIn(f"{name}: ", said)
        self.assertIn("STRELL_DB_PASSWORD: is not set", said)
        self.assertIn("'soon'", said)

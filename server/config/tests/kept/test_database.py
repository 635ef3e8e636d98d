"""A database of an earlier version opens, says what it said, and goes on from the middle of its trades."""

from __future__ import annotations

import json
import lzma
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import connection
from django.test import SimpleTestCase

HERE = Path(__file__).parent
NAME = f"kept_{os.getpid()}"


def _as_told(now: Any, then: Any) -> Any:
    """What is said now, without what was not said then."""
    if isinstance(now, dict) and isinstance(then, dict):
        return {key: _as_told(value, then[key]) for key, value in now.items() if key in then}
    if isinstance(now, list) and isinstance(then, list) and len(now) == len(then):
        return [_as_told(a, b) for a, b in zip(now, then, strict=True)]
    return now


class KeptDatabaseTest(SimpleTestCase):
    """In a database and processes of its own: it is restored as it was, then brought up to date."""

    databases = {"default"}
    maxDiff = 2000

    def setUp(self) -> None:
        self.cache = tempfile.mkdtemp()
        self.addCleanup(shutil.rmtree, self.cache, True)
        given = connection.settings_dict
        self.environment = {
            **os.environ, "STRELL_DB_NAME": NAME, "STRELL_CHAIN_CACHE": self.cache, "PGPASSWORD": given["PASSWORD"],
        }  # fmt: skip
        self.server = ["-h", given["HOST"], "-p", str(given["PORT"]), "-U", given["USER"]]
        self._run(["createdb", *self.server, NAME])
        self.addCleanup(self._run, ["dropdb", "--force", *self.server, NAME])

    def _run(self, command: list[str], told: bytes | None = None) -> str:
        done = subprocess.run(command, env=self.environment, input=told, capture_output=True, check=False)
        self.assertEqual(done.returncode, 0, f"{command[0]}: {done.stderr.decode()[-2000:]}")
        return done.stdout.decode()

    def test_it_opens_and_goes_on(self) -> None:
        dump = lzma.decompress((HERE / "database.sql.xz").read_bytes())
        self._run(["psql", *self.server, "-q", "-v", "ON_ERROR_STOP=1", "-d", NAME], dump)
        self._run([sys.executable, str(settings.PROJECT / "server" / "manage.py"), "migrate", "--verbosity", "0"])
        said = self._run([sys.executable, str(HERE / "going_on.py")])
        # contracts did not say whose they are
        found: dict[str, Any] = json.loads(said.replace('"MK30/', '"'))
        wanted = json.loads((HERE / "expected.json").read_text())
        self.assertEqual(set(found["opened"]), set(wanted["opened"]))
        for part in ("opened", "went on"):
            for name, facts in wanted[part].items():
                with self.subTest(name):
                    self.assertEqual(_as_told(found[part][name], facts), facts)

"""What the documents say is there is there."""

from __future__ import annotations

import re
import subprocess
from pathlib import Path

from django.conf import settings
from django.test import SimpleTestCase

LINK = re.compile(r"\]\(([^)#]+)(?:#[^)]*)?\)")
ROOT = Path(settings.PROJECT)


class DocsTest(SimpleTestCase):
    def test_every_link_leads_somewhere(self) -> None:
        followed = 0
        for page in (*sorted(ROOT.glob("*.md")), *sorted((ROOT / "docs").glob("*.md"))):
            for target in LINK.findall(page.read_text()):
                self.assertTrue((page.parent / target).exists(), f"{page.name} links to {target}")
                followed += 1
        self.assertGreater(followed, 10)

    def test_every_command_that_is_named_is_one_of_strells(self) -> None:
        named = {
            command for page in ROOT.glob("*.md") for command in re.findall(r"\./strell ([a-z]+)", page.read_text())
        }
        known = subprocess.run([ROOT / "strell", "help"], capture_output=True, text=True, check=True).stdout
        self.assertLessEqual(named, set(re.findall(r"^\./strell ([a-z]+)", known, re.M)))
        self.assertGreaterEqual(len(named), 8)

    def test_an_unknown_command_fails_and_shows_what_there_is(self) -> None:
        answer = subprocess.run([ROOT / "strell", "fly"], capture_output=True, text=True, check=False)
        self.assertEqual(answer.returncode, 2)
        self.assertIn("./strell demo", answer.stdout)

"""The front end's pure functions, tested beside them in ``web/src`` by vitest."""

from __future__ import annotations

import json
import subprocess
import tempfile
import unittest
from pathlib import Path

WEB = Path(__file__).resolve().parents[1] / "web"


class FrontEndTest(unittest.TestCase):
    def test_its_pure_functions(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            told = Path(folder) / "told.json"
            command = ["npx", "--no-install", "vitest", "run", "--reporter=json", f"--outputFile={told}"]
            ran = subprocess.run(command, check=False, cwd=WEB, capture_output=True, text=True, timeout=120)
            self.assertTrue(told.exists(), ran.stderr)
            files = json.loads(told.read_text())["testResults"]
        self.assertEqual(
            {Path(file["name"]).name for file in files}, {path.name for path in WEB.glob("src/**/*.test.ts")}
        )
        for file in files:
            for case in file["assertionResults"]:
                with self.subTest(f"{Path(file['name']).name}: {case['title']}"):
                    self.assertEqual(case["status"], "passed", "\n".join(case["failureMessages"]))

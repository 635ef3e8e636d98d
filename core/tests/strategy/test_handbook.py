"""docs/language.md is what the declarations say."""

from __future__ import annotations

import unittest
from pathlib import Path

from strell_core.strategy.handbook import handbook

PAGE = Path(__file__).resolve().parents[3] / "docs" / "language.md"


class HandbookTest(unittest.TestCase):
    def test_the_page_is_current(self) -> None:
        self.assertEqual(PAGE.read_text(), handbook(), "write it again with ./strell types")

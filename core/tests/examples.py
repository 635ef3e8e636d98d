"""Strategy files that ship with the documentation."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from strell_core.formats.strategies import from_text

EXAMPLES = Path(__file__).resolve().parents[2] / "docs" / "strategies"


def example(name: str) -> dict[str, Any]:
    """One of them as a document."""
    return from_text((EXAMPLES / f"{name}.yaml").read_text())

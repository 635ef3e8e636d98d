"""Identity of the code that decides: two runs of the same inputs by the same code are the same run."""

from __future__ import annotations

import hashlib
from functools import lru_cache
from pathlib import Path

ROOMS = ("market", "pricing", "margin", "measures", "strategy", "selection", "engine")
"""Of the core: everything from a recorded chain to a closed trade."""


@lru_cache(maxsize=1)
def deciding_code() -> str:
    """SHA-256 over the source of all deciding rooms, file by file in the order of their names."""
    root = Path(__file__).resolve().parents[1]
    whole = hashlib.sha256()
    for room in ROOMS:
        for path in sorted((root / room).rglob("*.py")):
            whole.update(path.relative_to(root).as_posix().encode() + b"\0" + path.read_bytes() + b"\0")
    return whole.hexdigest()

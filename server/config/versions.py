"""A short name for what something held, by which a change tells what it was made to."""

from __future__ import annotations

import hashlib
import json
from typing import Any


def version_of(value: Any) -> str:
    """Twelve hexadecimal digits of a value that JSON can hold; equal values have equal ones."""
    return hashlib.sha256(json.dumps(value, sort_keys=True).encode()).hexdigest()[:12]

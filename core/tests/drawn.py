"""Which part of a large set a whole run of the tests tries: drawn anew each time, by the seed that the run prints. Tests that are
named try all of it, as does a whole run with ``STRELL_WHOLE=1``."""

from __future__ import annotations

import os
import random
from collections.abc import Iterable
from typing import TypeVar

T = TypeVar("T")
SEED = os.environ.get("STRELL_DRAWN", "")
WHOLE = not SEED or os.environ.get("STRELL_WHOLE") == "1"


def drawn(items: Iterable[T], share: float) -> list[T]:
    """A share of the items in their order, at least one; all where the whole is tried."""
    every = list(items)
    if WHOLE:
        return every
    taken = random.Random(f"{SEED} {len(every)}").sample(range(len(every)), max(1, round(share * len(every))))
    return [every[place] for place in sorted(taken)]


def at_least(count: int, share: float) -> int:
    """What a share of a set has to show where all of it shows ``count`` and more: half of its share of that."""
    return count if WHOLE else int(count * share / 2)

"""Measuring: medians of repeated runs, printed as a Markdown table."""

from __future__ import annotations

import platform
import statistics
import time
from collections.abc import Callable, Sequence
from typing import Any


def median_seconds(what: Callable[[], Any], times: int = 5) -> float:
    """Median wall time of ``times`` calls after one that warms up."""
    what()
    taken = []
    for _ in range(times):
        began = time.perf_counter()
        what()
        taken.append(time.perf_counter() - began)
    return statistics.median(taken)


def table(title: str, heads: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
    print(f"\n### {title}\n")
    print("| " + " | ".join(heads) + " |")
    print("|" + "---|" * len(heads))
    for row in rows:
        print("| " + " | ".join(row) + " |")


def machine() -> str:
    with open("/proc/cpuinfo") as file:
        names = [line.split(":")[1].strip() for line in file if line.startswith("model name")]
    return f"{len(names)} × {names[0] if names else platform.machine()}, Python {platform.python_version()}"

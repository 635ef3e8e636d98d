"""Every benchmark, or those named: implied american smile intake engine storage pages desk sheet large research; and
by name only, workers, for it makes network namespaces, and agreement, which compares and takes ten minutes."""

from __future__ import annotations

import importlib
import sys
from pathlib import Path

PROJECT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(PROJECT), str(PROJECT / "core"), str(PROJECT / "server"), str(PROJECT / "gateways")]

from bench.timing import machine  # noqa: E402

ALL = ("implied", "american", "smile", "intake", "engine", "storage", "pages", "desk", "sheet", "large", "research")
BY_NAME = ("workers", "agreement")

if __name__ == "__main__":
    unknown = set(sys.argv[1:]) - {*ALL, *BY_NAME}
    if unknown:
        sys.exit(f"There is no benchmark called {', '.join(sorted(unknown))}; there is {', '.join((*ALL, *BY_NAME))}.")
    print(machine())
    for name in sys.argv[1:] or ALL:
        importlib.import_module(f"bench.{name}").run()

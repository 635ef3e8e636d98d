"""Keeping a process alive from outside: one that fails ends itself, and is started anew.

``python -m config.keep COMMAND …`` runs one of Django's commands so; what keeps it loads nothing of the application.
"""

from __future__ import annotations

import ctypes
import logging
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import NoReturn

_SET_PARENT_DEATH_SIGNAL = 1
GRACE_SECONDS = 3.0


def _die_with_parent() -> None:
    """Linux: be killed when the parent is gone, however it went."""
    ctypes.CDLL(None).prctl(_SET_PARENT_DEATH_SIGNAL, signal.SIGKILL)


def keep_running(command: list[str], log: logging.Logger) -> NoReturn:
    """Start a process again whenever it ends, until this one is stopped."""
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    while True:
        process = subprocess.Popen(command, preexec_fn=_die_with_parent)  # noqa: PLW1509
        try:
            code = process.wait()
        finally:
            _end(process)
        log.warning("%s ended with %s and starts again", command[-1], code)
        time.sleep(0.5)


def _end(process: subprocess.Popen[bytes]) -> None:
    """Ask a process to end, and end it when it does not."""
    process.terminate()
    try:
        process.wait(GRACE_SECONDS)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()


if __name__ == "__main__":
    logging.basicConfig(format="%(message)s")
    keep_running(
        [sys.executable, str(Path(__file__).parents[1] / "manage.py"), *sys.argv[1:]], logging.getLogger("strell.keep")
    )

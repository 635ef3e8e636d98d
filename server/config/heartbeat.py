"""Saying at short intervals that long work is still being done, whatever the work itself is busy with."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from django.db import DatabaseError, connection

log = logging.getLogger("strell.heartbeat")


@contextmanager
def beating(beat: Callable[[], object], seconds: float) -> Iterator[None]:
    """Call ``beat`` every so many seconds, in a thread with a connection of its own, until the block ends. A process
    that is killed beats no more; one that compiles or waits goes on."""
    done = threading.Event()

    def run() -> None:
        try:
            while not done.wait(seconds):
                try:
                    beat()
                except DatabaseError as error:
                    # the work itself meets the same and says so
                    log.warning("not said to be going on: %s", str(error).strip().split("\n")[0])
                    connection.close()
        finally:
            connection.close()

    thread = threading.Thread(target=run, daemon=True, name="heartbeat")
    thread.start()
    try:
        yield
    finally:
        done.set()
        thread.join()

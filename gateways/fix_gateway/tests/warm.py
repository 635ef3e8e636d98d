"""What the forked sides of the kill test have in common: imported once, so that a start costs no second."""

from __future__ import annotations

import logging
import os
import sys

os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")

import django

django.setup()

from config import faults  # noqa: E402
from desk.process import lead  # noqa: E402
from fix_gateway.gateway import Gateway  # noqa: E402
from practice_broker.acceptor import Broker  # noqa: E402


def live(name: str, kill_at: str, log: str) -> None:
    """Be the desk, the gateway or the broker until killed."""
    with open(log, "ab") as place:
        os.dup2(place.fileno(), sys.stdout.fileno())
        os.dup2(place.fileno(), sys.stderr.fileno())
    logging.getLogger("strell").setLevel("ERROR")
    faults.kill_at(kill_at)
    if name == "desk":
        lead(lambda: False)
    else:
        (Gateway if name == "gateway" else Broker)().run()

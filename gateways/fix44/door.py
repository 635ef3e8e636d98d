"""The door of the practice broker: loopback only, and nobody comes in who does not know the installation's secret.

The engine listens on every address and takes whoever knows two names. So it is given a socket in the state folder to
listen on instead, and this stands before it: whoever connects is read up to the end of their first message, which has
to be a Logon whose Password (554) is the keyed hash (RFC 2104) of its SendingTime (52). Only then are bytes handed on.
The port is chosen at every start, the one of the last start if it is free, and written into the state folder: two
installations on one machine never meet.
"""

from __future__ import annotations

import contextlib
import datetime as dt
import logging
import os
import socket
import threading
import time
from pathlib import Path

from django.conf import settings
from django.utils.crypto import constant_time_compare, salted_hmac

log = logging.getLogger("strell.fix")
FRESH_SECONDS = 60
FIRST_SECONDS = 5
"""Within which somebody's first message has to be there."""
FIRST_BYTES = 2_000
"""More than any Logon has."""
MOST_WAITING = 8
"""So many may be at the door at once; more are turned away."""


def proof(sent: str) -> str:
    """What only who can read the installation's secret says of a SendingTime (52)."""
    return salted_hmac("strell fix logon", sent, algorithm="sha256").hexdigest()


def proven(first: bytes) -> bool:
    """Whether a message is a Logon that proves the secret and was sent just now: an old one, overheard, opens nothing."""
    fields = dict(part.partition("=")[::2] for part in first.decode("latin-1").split("\x01"))
    try:
        at = dt.datetime.strptime(fields.get("52", "")[:17], "%Y%m%d-%H:%M:%S").replace(tzinfo=dt.UTC)
    except ValueError:
        return False
    fresh = abs((dt.datetime.now(dt.UTC) - at).total_seconds()) <= FRESH_SECONDS
    said = constant_time_compare(fields.get("554", ""), proof(fields["52"]))
    return fresh and said and fields.get("35") == "A"


def _port_file() -> Path:
    return Path(settings.FIX_STATE) / "port"


def told_port() -> int | None:
    """Where the broker listens, as it said itself."""
    try:
        return int(_port_file().read_text())
    except (OSError, ValueError):
        return None


def loopback() -> socket.socket:
    """A socket that listens on loopback alone: at the port of the last start, or at another if that is taken."""
    place = socket.socket()
    place.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    try:
        place.bind(("127.0.0.1", told_port() or 0))
        place.listen(MOST_WAITING)
    except OSError:
        place.close()
        place = socket.create_server(("127.0.0.1", 0))
    new = _port_file().with_suffix(".new")
    new.write_text(f"{place.getsockname()[1]}\n")
    new.replace(_port_file())
    return place


class Door:
    """Stands before an engine that listens on ``engine_port``, which is closed."""

    def __init__(self, engine_port: int) -> None:
        self._inside = socket.socket(socket.AF_UNIX)
        # the path of a Unix socket has 107 characters at most, a state folder may be longer
        folder = os.open(settings.FIX_STATE, os.O_RDONLY)
        self._behind = f"/proc/{os.getpid()}/fd/{folder}/broker.socket"
        with contextlib.suppress(FileNotFoundError):
            os.unlink(self._behind)
        self._inside.bind(self._behind)
        os.chmod(self._behind, 0o600)
        self._inside.listen(MOST_WAITING)
        _in_place_of(engine_port, self._inside)
        self.place = loopback()
        self._waiting = threading.BoundedSemaphore(MOST_WAITING)
        threading.Thread(target=self._watch, daemon=True, name="door").start()

    def _watch(self) -> None:
        while True:
            try:
                caller, _ = self.place.accept()
            except OSError:
                return
            if self._waiting.acquire(blocking=False):
                threading.Thread(target=self._ask, args=(caller,), daemon=True, name="caller").start()
            else:
                caller.close()

    def _ask(self, caller: socket.socket) -> None:
        try:
            first = _first_message(caller)
        finally:
            self._waiting.release()
        if first is None or not proven(first):
            log.warning("somebody who does not know the secret was turned away")
            caller.close()
            return
        try:
            behind = socket.socket(socket.AF_UNIX)
            behind.connect(self._behind)
            behind.sendall(first)
        except OSError:
            caller.close()
            return
        for one, other in ((caller, behind), (behind, caller)):
            threading.Thread(target=_hand_on, args=(one, other), daemon=True, name="line").start()

    def close(self) -> None:
        self.place.close()


def _first_message(caller: socket.socket) -> bytes | None:
    """Everything up to the end of the CheckSum (10), nothing of it if that does not come in time."""
    end, first = time.monotonic() + FIRST_SECONDS, b""
    try:
        while len(first) < FIRST_BYTES and (left := end - time.monotonic()) > 0:
            caller.settimeout(left)
            data = caller.recv(FIRST_BYTES - len(first))
            if not data:
                return None
            first += data
            at = first.find(b"\x0110=")
            if at >= 0 and first.endswith(b"\x01") and first.count(b"\x01", at + 1) == 1:
                caller.settimeout(None)
                return first
    except OSError:
        pass
    return None


def _hand_on(one: socket.socket, other: socket.socket) -> None:
    try:
        while data := one.recv(65_536):
            other.sendall(data)
    except OSError:
        pass
    for end in (one, other):
        with contextlib.suppress(OSError):
            end.shutdown(socket.SHUT_RDWR)
        end.close()


def _in_place_of(engine_port: int, place: socket.socket) -> None:
    """Give the engine our socket under the number of its own, which is closed by that."""
    for name in os.listdir("/proc/self/fd"):
        try:
            with socket.socket(fileno=os.dup(int(name))) as found:
                its = (
                    found.family == socket.AF_INET
                    and found.getsockopt(socket.SOL_SOCKET, socket.SO_ACCEPTCONN)
                    and found.getsockname()[1] == engine_port
                )
        except OSError:
            continue
        if its:
            os.dup2(place.fileno(), int(name))
            return
    raise RuntimeError("the engine listens nowhere")

"""The broker's door: loopback only, nobody without the secret, nothing overheard twice."""

from __future__ import annotations

import datetime as dt
import shutil
import socket
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from unittest.mock import patch

import quickfix as fix
from django.test import SimpleTestCase, override_settings

from fix44 import door, session
from fix44.door import proof, told_port
from fix44.session import Line, Side

LISTENING = "0A"


def listening() -> set[str]:
    """Addresses (as the kernel writes them) on which something listens."""
    lines = Path("/proc/self/net/tcp").read_text().splitlines()[1:]
    return {fields[1] for line in lines if (fields := line.split())[3] == LISTENING}


def message(kind: str, sequence: int, *fields: tuple[int, str], sent: str = "") -> bytes:
    """A FIX message made by hand."""
    sent = sent or dt.datetime.now(dt.UTC).strftime("%Y%m%d-%H:%M:%S")
    pairs = [(35, kind), (49, session.US), (56, session.THEM), (34, str(sequence)), (52, sent), *fields]
    body = "".join(f"{tag}={value}\x01" for tag, value in pairs)
    whole = f"8=FIX.4.4\x019={len(body)}\x01{body}".encode()
    return whole + f"10={sum(whole) % 256:03d}\x01".encode()


LOGON = ((98, "0"), (108, "5"), (141, "Y"))


class LineTest(SimpleTestCase):
    def setUp(self) -> None:
        place = Path(tempfile.mkdtemp(prefix="strell-fix-"))
        self.addCleanup(shutil.rmtree, place, True)
        override = override_settings(FIX_STATE=place)
        override.enable()
        self.addCleanup(override.disable)
        hasty = patch("fix44.door.FIRST_SECONDS", 0.7)
        hasty.start()
        self.addCleanup(hasty.stop)
        self.heard: list[fix.Message] = []
        self.broker = Line("broker", Side(self.heard.append, lambda up: None))
        self.addCleanup(self.broker.door.close)
        self.addCleanup(self.broker.engine.stop, True)
        self.port = told_port()

    def until(self, true: Callable[[], bool], seconds: float = 20) -> bool:
        end = time.monotonic() + seconds
        while not true() and time.monotonic() < end:
            time.sleep(0.05)
        return true()

    def said(self, *messages: bytes) -> bytes:
        """What the broker answers to a stranger before it hangs up."""
        with socket.create_connection(("127.0.0.1", self.port), 10) as line:
            line.settimeout(10)
            answer = b""
            try:
                for one in messages:
                    line.sendall(one)
                while data := line.recv(4096):
                    answer += data
            except (ConnectionError, TimeoutError):
                pass
        return answer

    def order(self) -> bytes:
        return message(
            "D",
            2,
            (11, "stolen-1"),
            (1, "PB-1"),
            (55, "MK30"),
            (54, "1"),
            (38, "1"),
            (40, "1"),
            (60, "20261119-10:00:00"),
        )

    def test_it_listens_on_loopback_and_nowhere_else(self) -> None:
        own, every = f"0100007F:{self.port:04X}", f"00000000:{self.broker.port:04X}"
        self.assertIn(own, listening())
        self.assertTrue(self.until(lambda: every not in listening()), "the engine's own port is closed")
        self.assertFalse({address for address in listening() if address.endswith(f":{self.port:04X}")} - {own})

    def test_a_stranger_is_refused_and_nothing_of_theirs_is_heard(self) -> None:
        old = (dt.datetime.now(dt.UTC) - dt.timedelta(minutes=5)).strftime("%Y%m%d-%H:%M:%S")
        for name, logon in {
            "no password": message("A", 1, *LOGON),
            "a wrong one": message("A", 1, *LOGON, (553, session.US), (554, "guess")),
            "an overheard one": message("A", 1, *LOGON, (553, session.US), (554, proof(old)), sent=old),
            "another's": message("A", 1, *LOGON, (553, session.US), (554, proof(old))),
        }.items():
            with self.subTest(name):
                self.assertNotIn(b"\x0135=A\x01", self.said(logon, self.order()))
        self.said(self.order())
        self.said(b"GET / HTTP/1.1\r\n\r\n" + b"8=FIX.4.4\x019=99999999999\x01" + bytes(range(256)))
        self.assertEqual(self.heard, [])
        self.assertFalse(self.broker.application.up)

    def test_who_knows_the_secret_signs_on(self) -> None:
        us = Side(lambda message: None, lambda up: None)
        line = Line("gateway", us)
        self.addCleanup(line.engine.stop, True)
        self.assertTrue(self.until(lambda: us.up and self.broker.application.up))
        self.assertFalse(line.moved())

    @override_settings(SECRET_KEY="another installation's, long enough to be one")
    def test_another_installation_proves_nothing(self) -> None:
        theirs = proof("20261129-10:00:00")
        with override_settings(SECRET_KEY="this one's, which is long enough as well"):
            self.assertNotEqual(theirs, proof("20261129-10:00:00"))

    def test_a_port_that_is_taken_is_left_to_whoever_has_it(self) -> None:
        again = door.loopback()
        self.addCleanup(again.close)
        self.assertNotEqual(again.getsockname()[1], self.port)
        self.assertEqual(told_port(), again.getsockname()[1], "and the gateway is told where to go")

"""One FIX 4.4 session between the gateway (STRELL) and the practice broker (PRACTICE), on loopback.

Who signs on proves that they can read the installation's secret: see :mod:`fix44.door`.

Each side runs in a process of its own with its own store in the state folder. The side that sends
orders keeps no messages: after a reconnect it fills gaps and never repeats an order by itself. Any
exception in a callback ends the process; what was committed before is all that counts.
"""

from __future__ import annotations

import logging
import os
import socket
import time
import traceback
from collections.abc import Callable
from pathlib import Path

import quickfix as fix
from django.conf import settings
from django.db import connections

from fix44 import door

log = logging.getLogger("strell.fix")
US, THEM = "STRELL", "PRACTICE"
DICTIONARY = Path(settings.VENV_SHARE) / "quickfix" / "FIX44.xml"

_TEMPLATE = """[DEFAULT]
BeginString=FIX.4.4
HeartBtInt=5
StartTime=00:00:00
EndTime=23:59:59
StartDay=sunday
EndDay=saturday
UseDataDictionary=Y
DataDictionary={dictionary}
FileStorePath={store}
FileLogPath={store}/log
SocketNodelay=Y
CheckLatency=N
ValidateUserDefinedFields=Y
{more}
[SESSION]
SenderCompID={sender}
TargetCompID={target}
"""


def _settings(side: str, sender: str, target: str, more: str) -> fix.SessionSettings:
    store = settings.FIX_STATE / side
    (store / "log").mkdir(parents=True, exist_ok=True)
    place = store / "session.cfg"
    place.write_text(_TEMPLATE.format(dictionary=DICTIONARY, store=store, sender=sender, target=target, more=more))
    return fix.SessionSettings(str(place))


class Side(fix.Application):
    """What both sides share. ``on_message`` commits before it returns."""

    def __init__(self, on_message: Callable[[fix.Message], None], on_line: Callable[[bool], None]) -> None:
        super().__init__()
        self._on_message, self._on_line = on_message, on_line
        self.session: fix.SessionID | None = None
        self.up = False

    def _guard(self, work: Callable[[], None]) -> None:
        try:
            work()
            # the engine's threads are new to Django at every call: give the connection back
            connections.close_all()
        except BaseException:
            log.critical("a FIX callback failed; the process ends\n%s", traceback.format_exc())
            os._exit(70)

    def onCreate(self, session: fix.SessionID) -> None:  # noqa: N802
        self.session = session

    def onLogon(self, session: fix.SessionID) -> None:  # noqa: N802
        self.up = True
        self._guard(lambda: self._on_line(True))

    def onLogout(self, session: fix.SessionID) -> None:  # noqa: N802
        self.up = False
        self._guard(lambda: self._on_line(False))

    def toAdmin(self, message: fix.Message, session: fix.SessionID) -> None:  # noqa: N802
        header = message.getHeader()
        if header.getField(35) == fix.MsgType_Logon:
            message.setField(fix.Username(US))
            message.setField(fix.Password(door.proof(header.getField(52))))

    def fromAdmin(self, message: fix.Message, session: fix.SessionID) -> None:  # noqa: N802
        pass

    def toApp(self, message: fix.Message, session: fix.SessionID) -> None:  # noqa: N802
        pass

    def fromApp(self, message: fix.Message, session: fix.SessionID) -> None:  # noqa: N802
        self._guard(lambda: self._on_message(message))

    def send(self, message: fix.Message) -> None:
        """Hand a message to the session; it keeps its sequence number even when the line is down."""
        if not fix.Session.sendToTarget(message, self.session):
            log.info("a message waits for the line")


class Line:
    """A running side. Everything the engine needs is referenced from here for as long as it runs."""

    def __init__(self, side: str, application: Side) -> None:
        self.application = application
        accepting = side == "broker"
        Path(settings.FIX_STATE).mkdir(parents=True, exist_ok=True, mode=0o700)
        if accepting:
            with socket.create_server(("127.0.0.1", 0)) as free:
                self.port = int(free.getsockname()[1])
            more = f"ConnectionType=acceptor\nSocketAcceptPort={self.port}\nSocketReuseAddress=Y\nPersistMessages=Y"
        else:
            while (told := door.told_port()) is None:
                time.sleep(0.2)
            self.port = told
            more = (
                f"ConnectionType=initiator\nSocketConnectHost=127.0.0.1\nSocketConnectPort={self.port}\n"
                "ReconnectInterval=1\nPersistMessages=N"
            )
        names = (THEM, US) if accepting else (US, THEM)
        self.settings = _settings(side, *names, more)
        self.store = fix.FileStoreFactory(self.settings)
        self.log = fix.FileLogFactory(self.settings)
        make = fix.SocketAcceptor if accepting else fix.SocketInitiator
        self.engine = make(application, self.store, self.settings, self.log)
        self.engine.start()
        if accepting:
            self.door = door.Door(self.port)

    def moved(self) -> bool:
        """Whether the broker has begun to listen elsewhere since."""
        return door.told_port() not in (None, self.port)

"""A stranger at every door of a running demo: what listens is found with ``ss``, every door is tried with every kind of
knock, and nothing may be accepted. ``.venv/bin/python bench/stranger.py`` beside ``./strell demo``.
"""

from __future__ import annotations

import datetime as dt
import json
import os
import re
import socket
import stat
import subprocess
import sys
from collections.abc import Callable
from functools import cache
from pathlib import Path

import psycopg

PROJECT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(PROJECT), str(PROJECT / "server"), str(PROJECT / "core")]

from config.tests.awkward import filled  # noqa: E402
from people.doors import DOORS, OPEN  # noqa: E402

PATIENCE = 6
GUESSES = ("", "postgres", "strell", "demo", "password", "harbour-lantern")


def listening() -> tuple[list[tuple[str, int, str]], list[str]]:
    """Addresses, ports and programs of this checkout's processes, and the paths of their Unix sockets."""
    ports, places = [], []
    for line in subprocess.run(["ss", "-tlnpH"], capture_output=True, text=True, check=True).stdout.splitlines():
        host, port = line.split()[3].rsplit(":", 1)
        found = re.search(r'"([^"]+)",pid=(\d+)', line)
        if found and ours(found[2]):
            ports.append((host, int(port), found[1]))
    for line in subprocess.run(["ss", "-xlpH"], capture_output=True, text=True, check=True).stdout.splitlines():
        found = re.search(r'"([^"]+)",pid=(\d+)', line)
        if found and ours(found[2]):
            places.append(line.split()[4])
    return sorted(set(ports)), sorted(set(places))


def ours(pid: str) -> bool:
    """Whether a process works in this checkout, or on a database that it started."""
    try:
        environment = Path(f"/proc/{pid}/environ").read_bytes().split(b"\0")
        return f"STRELL_STATE={os.environ['STRELL_STATE']}".encode() in environment or (
            os.environ["PG_HOME"] in Path(f"/proc/{pid}/cmdline").read_text()
        )
    except OSError:
        return False


def said(port: int, *messages: bytes) -> bytes:
    """Everything that is answered to bytes, up to the end of the line or of patience."""
    answer = b""
    try:
        with socket.create_connection(("127.0.0.1", port), PATIENCE) as line:
            line.settimeout(PATIENCE)
            for message in messages:
                line.sendall(message)
            while data := line.recv(65_536):
                answer += data
    except OSError:
        pass
    return answer


def by_web(port: int) -> list[str]:
    """Operations that answer somebody without a session, or with a made-up one."""
    schema = json.loads((PROJECT / "web" / "openapi.json").read_text())
    ids = {"symbol": "MK30", "date": "2026-10-05", "name": "mine", "kind": "csv", "currency": "EUR"}
    accepted = []
    for path, methods in schema["paths"].items():
        for method, operation in methods.items():
            name = operation["operationId"]
            if DOORS[name] == OPEN:
                continue
            for proof in (
                "",
                "Authorization: Bearer strell_" + "0" * 40 + "\r\n",
                f"Cookie: {session_name(port)}=" + "a" * 32 + "\r\n",
            ):
                body = b"{}"
                head = (
                    f"{method.upper()} {filled(path, {**dict.fromkeys(IDS, 1), **ids})} HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\n{proof}"
                    f"Content-Type: application/json\r\nContent-Length: {len(body)}\r\nConnection: close\r\n\r\n"
                )
                answer = said(port, head.encode() + body)
                if not answer.startswith(b"HTTP/1.1"):
                    return accepted
                status = answer.split(None, 2)[1].decode()
                if status not in ("401", "403", "404", "422"):
                    accepted.append(f"{name}: {status}")
    return accepted


@cache
def session_name(port: int) -> str:
    """What the session's cookie is called, as anybody can guess from the page."""
    named = re.search(
        rb"strell_csrf_(\w+)", said(port, b"GET / HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\n\r\n")
    )
    return f"strell_session_{named[1].decode()}" if named else "sessionid"


IDS = (
    "strategy_id", "account_id", "run_id", "session_id", "number", "sentence_id", "order_id", "holding_id", "deployment_id",
    "token_id", "intake_id", "removal_id", "start", "end",
)  # fmt: skip


def by_socket(port: int) -> list[str]:
    """What a web socket pushes to somebody without a session, by origin."""
    accepted = []
    for origin in (f"http://127.0.0.1:{port}", "http://127.0.0.1:1", "http://elsewhere.example", "null"):
        head = (
            f"GET /ws HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\nUpgrade: websocket\r\nConnection: Upgrade\r\nOrigin: {origin}\r\n"
            "Sec-WebSocket-Key: c3RyZWxsc3RyZWxsc3RyZQ==\r\nSec-WebSocket-Version: 13\r\n\r\n"
        )
        if said(port, head.encode()).startswith(b"HTTP/1.1 101"):
            accepted.append(f"a socket from {origin}")
    return accepted


def by_database(port: int) -> list[str]:
    """Roles that let somebody in who guesses."""
    accepted = []
    for role in ("postgres", "root", "strell", "strell_owner", "strell_admin"):
        for guess in GUESSES:
            try:
                where = {"host": "127.0.0.1", "port": port, "user": role, "connect_timeout": PATIENCE}
                psycopg.connect(dbname="postgres", password=guess or None, **where).close()
                accepted.append(f"database role {role} with '{guess}'")
            except psycopg.Error:
                pass
    return accepted


def by_fix(port: int) -> list[str]:
    """Logons without proof, each with an order behind it."""
    accepted = []
    for names in (("STRELL", "PRACTICE"), ("DESK", "PRACTICE")):
        for password in ("", "practice", "0" * 64):
            now = dt.datetime.now(dt.UTC).strftime("%Y%m%d-%H:%M:%S")
            bodies = (
                f"35=A\x0149={names[0]}\x0156={names[1]}\x0134=1\x0152={now}\x0198=0\x01108=5\x01141=Y\x01"
                + (f"554={password}\x01" if password else ""),
                f"35=D\x0149={names[0]}\x0156={names[1]}\x0134=2\x0152={now}\x0111=x\x011=A\x0155=MK30\x0154=1\x0138=1\x0140=1\x01",
            )
            if answer := said(port, *(framed(body) for body in bodies)):
                accepted.append(f"{names} with '{password}': {answer[:60]!r}")
    return accepted


def framed(body: str) -> bytes:
    whole = f"8=FIX.4.4\x019={len(body)}\x01{body}".encode()
    return whole + f"10={sum(whole) % 256:03d}\x01".encode()


def by_noise(port: int) -> list[str]:
    """Bytes of no protocol: what hangs up or says no is well."""
    noise = (
        b"\x00" * 64,
        b"\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03" + b"\x00" * 500,
        b"HELP\r\n\r\n",
        b"\xff" * 70_000,
    )
    answers = [said(port, one) for one in noise]
    refusals = (b"", b"HTTP/1.1 400", b"E\x00\x00", b"S", b"N")
    return [f"noise: {answer[:60]!r}" for answer in answers if not answer.startswith(refusals[1:]) and answer]


KNOCKS: tuple[Callable[[int], list[str]], ...] = (by_web, by_socket, by_database, by_fix, by_noise)


def main() -> int:
    ports, places = listening()
    if not ports:
        print("Nothing of this checkout listens. Start ./strell demo first.")
        return 2
    accepted: list[str] = []
    for host, port, program in ports:
        if host != "127.0.0.1":
            accepted.append(f"{program} listens on {host}:{port}, beyond this machine")
        found: list[str] = []
        for knock in KNOCKS:
            # what speaks the web answers every knock in its own way: that is a refusal, not an acceptance
            found += [word for word in knock(port) if not (knock is by_fix and "HTTP/1.1 4" in word)]
        print(f"{host}:{port} ({program}): {'; '.join(found) or 'nothing accepted'}")
        accepted += found
    for place in places:
        folders = [place, *map(str, Path(place).parents)] if place.startswith("/") else []
        # connecting to a socket needs the right to write to it and to pass every folder above it
        closed = any(Path(one).exists() and not stat.S_IMODE(Path(one).stat().st_mode) & 0o077 for one in folders)
        print(f"{place}: {'closed to others' if closed else 'OPEN to others'}")
        if not closed:
            accepted.append(f"{place} can be opened by other people of this machine")
    print(f"{len(ports)} ports and {len(places)} sockets; accepted: {len(accepted)}")
    return 1 if accepted else 0


if __name__ == "__main__":
    sys.exit(main())

"""Kills every process of a running Strell once (SIGKILL), the keeper and the database among them, while a position has a
stop and a backtest runs: how long until it is back, whether everything else went on.

``.venv/bin/python bench/keeper.py`` beside ``./strell demo``. Linux only: it finds the processes in /proc.
"""

from __future__ import annotations

import http.cookiejar
import json
import os
import signal
import sys
import time
import urllib.error
import urllib.request
from pathlib import Path
from typing import Any

PROJECT = Path(__file__).resolve().parents[1]
LIMIT = 10.0
NAMES = {
    "web": "config.serve", "work": "manage.py work", "exchange": "manage.py exchange", "desk": "manage.py desk",
    "broker": "manage.py broker", "gateway": "manage.py gateway", "database's keeper": "ops/database.sh",
    "database": "bin/postgres -D", "keeper": "supervisord",
}  # fmt: skip


class Person:
    """Somebody signed in at the running demo."""

    def __init__(self, base: str, name: str, password: str) -> None:
        self.base = base
        self.cookies = http.cookiejar.CookieJar()
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.cookies))
        self.ask("GET", "/api/me")
        self.ask("POST", "/api/sign-in", {"name": name, "password": password})

    def ask(self, method: str, path: str, body: Any = None, patience: float = 30) -> Any:
        """The answer, tried again while nobody answers."""
        end = time.monotonic() + patience
        while True:
            headers = {"Content-Type": "application/json"}
            headers["X-CSRFToken"] = next((c.value or "" for c in self.cookies if c.name == "csrftoken"), "")
            data = None if body is None else json.dumps(body).encode()
            request = urllib.request.Request(self.base + path, data, headers, method=method)
            try:
                with self.opener.open(request, timeout=10) as answer:
                    text = answer.read()
                    return json.loads(text) if text else None
            except urllib.error.HTTPError as error:
                if error.code < 500 or time.monotonic() > end:
                    raise RuntimeError(f"{method} {path}: {error.code} {error.read().decode()[:300]}") from error
            except OSError:
                if time.monotonic() > end:
                    raise
            time.sleep(0.1)


def ours(words: str) -> list[int]:
    """Ids of processes of this checkout (or its database) whose command holds these words."""
    home = (PROJECT / ".state" / "postgres.home").read_text().strip()
    found = []
    for place in Path("/proc").glob("[0-9]*"):
        try:
            command = (place / "cmdline").read_bytes().replace(b"\0", b" ").decode(errors="replace")
            here = Path(os.readlink(place / "cwd")) == PROJECT or home in command
        except OSError:
            continue
        if words in command and here:
            found.append(int(place.name))
    return sorted(found)


def health(base: str) -> list[str] | None:
    """Which processes are away; ``None``: nobody answers."""
    try:
        with urllib.request.urlopen(base + "/health", timeout=2) as answer:
            return json.load(answer)["away"]
    except (OSError, ValueError):
        return None


def prepared(person: Person) -> tuple[int, int]:
    """A paper account with a position that has a stop, and a running clock; its account and its position."""
    account = next((a for a in person.ask("GET", "/api/accounts") if a["name"] == "Keeper"), None)
    if account is None:
        body = {"name": "Keeper", "kind": "paper", "symbol": "MK30", "cash": "1000000"}
        account = person.ask("POST", "/api/accounts", body)
    clock = person.ask("GET", "/api/market/MK30/clock")
    if clock["sealed"]:
        person.ask("POST", "/api/market/MK30/clock/next-session")
    person.ask("POST", "/api/market/MK30/clock/run", {"rate": 1})
    time.sleep(3)
    chain = person.ask("GET", f"/api/market/MK30/live?account={account['id']}")
    middle = min(chain["rows"], key=lambda row: abs(row["strike"] - chain["spot"]))
    legs = [{"contract": middle["put"]["contract"], "ratio": -1}]
    ticket = {
        "legs": legs, "lots": 1, "type": "market", "protection": {"stop": {"value": 900, "unit": "percent"}},
    }  # fmt: skip
    order = person.ask("POST", f"/api/accounts/{account['id']}/orders", ticket)
    end = time.monotonic() + 60
    while order["state"] != "filled" and time.monotonic() < end:
        time.sleep(0.5)
        order = person.ask("GET", f"/api/orders/{order['id']}")
    return account["id"], order["holding"]


def follows(person: Person) -> int:
    """Market second that the desk has worked through, as the page shows it."""
    return int(person.ask("GET", "/api/market/MK30/clock")["sequence"])


def main() -> int:
    base = sys.argv[1] if len(sys.argv) > 1 else "http://127.0.0.1:8470"
    person = Person(base, "demo", "harbour-lantern")
    account, holding = prepared(person)
    strategy = person.ask("GET", "/api/strategies")[0]["id"]
    worst, failed = 0.0, 0
    print(f"{'killed':20s}  back after  everything after  quotes go on")
    for name, words in NAMES.items():
        body = {"start": "2025-01-02", "end": "2026-11-18", "method": "blocks"}
        run = person.ask("POST", f"/api/strategies/{strategy}/runs", body)["id"]
        time.sleep(1)
        before, quotes = ours(words), follows(person)
        if not before:
            print(f"{name:20s}  is not there")
            failed += 1
            continue
        began = time.monotonic()
        os.kill(before[0], signal.SIGKILL)
        back = whole = None
        while time.monotonic() - began < 60 and whole is None:
            now = ours(words)
            if back is None and len(now) >= len(before) and before[0] not in now:
                back = time.monotonic() - began
            if back is not None and health(base) == []:
                whole = time.monotonic() - began
            time.sleep(0.05)
        time.sleep(2)
        on = follows(person) > quotes
        held = any(h["id"] == holding for h in person.ask("GET", f"/api/accounts/{account}/desk")["holdings"])
        end = time.monotonic() + 120
        while (state := person.ask("GET", f"/api/runs/{run}")["status"]) in (
            "queued",
            "running",
        ) and time.monotonic() < end:
            time.sleep(0.5)
        worst = max(worst, whole or 60)
        good = on and held and state == "done" and whole is not None and whole <= LIMIT
        failed += not good
        shown = [f"{value:8.1f} s" if value is not None else "   never  " for value in (back, whole)]
        print(
            f"{name:20s}  {shown[0]}  {shown[1]:>14s}    {'yes' if on else 'NO'}, run {state}, position {'there' if held else 'GONE'}",
            flush=True,
        )
        person.ask("DELETE", f"/api/runs/{run}")
    person.ask("POST", "/api/market/MK30/clock/pause")
    person.ask("POST", f"/api/positions/{holding}/close", {"type": "market"})
    print(f"everything was back after {worst:.1f} s at the latest; {failed} of {len(NAMES)} not within {LIMIT:.0f} s")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())

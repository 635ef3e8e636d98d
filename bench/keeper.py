"""Kills every process of a running Strell once (SIGKILL), the keeper and the database among them, while a position has a
stop and a backtest runs: how long until it is back, whether everything else went on.

``.venv/bin/python bench/keeper.py`` beside ``./strell demo``. Linux only: it finds the processes in /proc.
"""

from __future__ import annotations

import os
import signal
import sys
import time
from pathlib import Path

PROJECT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(PROJECT))

from bench.person import BASE, Person, health  # noqa: E402

LIMIT = 10.0
NAMES = {
    "web": "config.serve", "work": "manage.py work", "exchange": "manage.py exchange", "desk": "manage.py desk",
    "broker": "manage.py broker", "gateway": "manage.py gateway", "database's keeper": "ops/database.sh",
    "database": "bin/postgres -D", "keeper": "supervisord",
}  # fmt: skip


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


def published(person: Person) -> int:
    """How often quotes were published so far."""
    return int(person.ask("GET", "/api/market/MK30/clock")["sequence"])


def main() -> int:
    base = sys.argv[1] if len(sys.argv) > 1 else BASE
    person = Person(base, "demo", "harbour-lantern")
    account, holding = prepared(person)
    strategy = person.ask("GET", "/api/strategies")[0]["id"]
    worst, failed = 0.0, 0
    print(f"{'killed':20s}  back after  everything after  quotes go on")
    for name, words in NAMES.items():
        body = {"start": "2025-01-02", "end": "2026-11-18", "method": "blocks"}
        run = person.ask("POST", f"/api/strategies/{strategy}/runs", body)["id"]
        time.sleep(1)
        before, quotes = ours(words), published(person)
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
        on = published(person) > quotes
        held = any(h["id"] == holding for h in person.ask("GET", f"/api/accounts/{account}/desk")["holdings"])
        end = time.monotonic() + 120
        state = "queued"
        while state in ("queued", "running") and time.monotonic() < end:
            time.sleep(0.5)
            state = person.ask("GET", f"/api/runs/{run}")["status"]
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

"""Awkward requests of the tests, one of so many, at a running demo: nothing answers with 5xx, nothing takes over a second, health
answers throughout. ``.venv/bin/python bench/awkward.py [ADDRESS [SHARE]]`` beside ``./strell demo``; what hashes
on purpose is left out. What it makes (strategies, accounts) is thrown away with ``./strell reset``.
"""

from __future__ import annotations

import http.client
import json
import sys
import threading
import time
from collections import Counter
from pathlib import Path
from urllib.parse import urlsplit

PROJECT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(PROJECT), str(PROJECT / "server"), str(PROJECT / "core")]

from bench.person import BASE, Person, health  # noqa: E402
from config.tests.awkward import Request, requests  # noqa: E402

LIMIT = 1.0
LEFT_OUT = {"sign_in", "sign_out", "confirm_password", "next_session", "jump_clock", "halt", "copy_data", "upload"}
"""What hashes, ends the session, stores whole histories, or moves the market under everybody's feet."""


def main() -> int:
    base = sys.argv[1] if len(sys.argv) > 1 else BASE
    person = Person(base, "demo", "harbour-lantern")
    account = person.ask("GET", "/api/accounts")[0]["id"]
    strategy = person.ask("GET", "/api/strategies")[0]["id"]
    run = (person.ask("GET", f"/api/strategies/{strategy}/runs") or [{"id": 1}])[0]["id"]
    ids = {
        "strategy_id": strategy, "account_id": account, "run_id": run, "session_id": 1, "number": 1, "sentence_id": "s3",
        "order_id": 1, "holding_id": 1, "deployment_id": 1, "token_id": 1, "intake_id": 1, "removal_id": 1, "symbol": "MK30",
        "date": "2026-10-05", "name": "mine", "currency": "EUR", "start": "2026-09-01", "end": "2026-09-02", "kind": "csv",
        "account": account, "based_on": 1, "session": "2026-11-19",
    }  # fmt: skip
    silent = 0
    done = threading.Event()

    def watch() -> None:
        nonlocal silent
        while not done.wait(0.25):
            silent += health(base) is None

    threading.Thread(target=watch, daemon=True).start()
    place = urlsplit(base)
    line = http.client.HTTPConnection(place.hostname or "", place.port, timeout=60)
    answers: Counter[int] = Counter()
    slow: list[tuple[float, Request]] = []
    broken: list[tuple[int, Request]] = []
    share = int(sys.argv[2]) if len(sys.argv) > 2 else 6
    schema = json.loads((PROJECT / "web" / "openapi.json").read_text())
    for number, request in enumerate(requests(schema, ids, {})):
        if number % share or request.operation in LEFT_OUT or not request.path.isascii() or " " in request.path:
            continue
        headers = {"Cookie": person.cookie, "X-CSRFToken": person.csrf, "Content-Type": "application/json"}
        began = time.monotonic()
        try:
            line.request(
                request.method.upper(), request.path, request.raw if request.body is not None else None, headers
            )
            answer = line.getresponse()
            answer.read()
            status = answer.status
        except (http.client.HTTPException, OSError):
            status = 0
            line.close()
        took = time.monotonic() - began
        answers[status] += 1
        if took > LIMIT:
            slow.append((took, request))
        if status >= 500:
            broken.append((status, request))
    done.set()
    print(f"{sum(answers.values())} requests: " + ", ".join(f"{n} × {status}" for status, n in sorted(answers.items())))
    print(f"health did not answer {silent} times; {len(slow)} took over {LIMIT:.0f} s; {len(broken)} ended in 5xx")
    for value, request in [*sorted(slow, key=lambda item: -item[0])[:10], *broken[:10]]:
        print(f"  {value:6.2f}  {request}")
    return 1 if broken or slow or silent else 0


if __name__ == "__main__":
    sys.exit(main())

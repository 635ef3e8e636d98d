"""schemathesis over every operation of a running demo, as a person and with a token of each scope: no 5xx.

``./strell probe [ADDRESS] [EXAMPLES]`` beside ``./strell demo``. Not part of ``./strell test``: it takes minutes, and what
it makes fills the demo.
"""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

PROJECT = Path(__file__).resolve().parents[1]
sys.path[:0] = [str(PROJECT), str(PROJECT / "server")]

from bench.person import BASE, Person  # noqa: E402
from people.doors import SCOPES  # noqa: E402

TOOL = Path(os.environ["STRELL_STATE"]) / "probe" / "venv" / "bin" / "st"
LEFT_OUT = ("sign_out", "revoke_token", "upload", "next_session", "copy_data", "export_quotes")
"""What ends the session or the token, and what stores or writes whole histories however little was asked."""


def main() -> int:
    base = sys.argv[1] if len(sys.argv) > 1 else BASE
    examples = sys.argv[2] if len(sys.argv) > 2 else "15"
    person = Person(base, "demo", "harbour-lantern")
    who = {"a person": [f"Cookie: {person.cookie}", f"X-CSRFToken: {person.csrf}"]}
    for scope in SCOPES:
        made = person.ask("POST", "/api/tokens", {"name": f"probe {scope}", "scope": scope, "days": 1})
        who[f"a token of the scope {scope}"] = [f"Authorization: Bearer {made['text']}"]
    failed = 0
    for name, headers in who.items():
        print(f"\nas {name}", flush=True)
        command = [
            str(TOOL), "run", str(PROJECT / "web" / "openapi.json"), "--url", base, "--checks", "not_a_server_error",
            "--max-examples", examples, "--phases", "examples,coverage,fuzzing", "--request-timeout", "10", "--workers", "2",
            "--suppress-health-check", "all", "--seed", "7", "--generation-database", "none",
        ]  # fmt: skip
        for operation in LEFT_OUT:
            command += ["--exclude-operation-id", operation]
        for header in headers:
            command += ["-H", header]
        failed += subprocess.run(command, check=False, cwd=TOOL.parents[2]).returncode != 0
    for token in person.ask("GET", "/api/tokens"):
        if token["name"].startswith("probe "):
            person.ask("DELETE", f"/api/tokens/{token['id']}")
    print(f"\n{len(who) - failed} of {len(who)} without a 5xx")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())

"""Whether the core's tests would notice: small changes are made to its code one at a time, and the tests run on each.

`./strell mutate PATH … [--count N --from K --seed S --minutes M --every --copies C --patience T --long --out FILE]` draws N of all
changes that cosmic-ray knows in these files and tells which of them nobody noticed. For each change the tests that run its line are
asked, fastest class first, until their seconds exceed the patience (who comes later is not asked: a change told as
survived may be noticed by a slow test); where none does (a declaration, what is computed once and kept), the tests of its room and the
engine's. Tests tagged `long` are asked with `--long` only, about what survived all others: whoever they notice is told as
*late*. Not part of `./strell test`: an hour is soon gone.
"""

from __future__ import annotations

import argparse
import ast
import difflib
import hashlib
import json
import os
import random
import resource
import shutil
import sqlite3
import subprocess
import sys
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

PROJECT = Path(__file__).resolve().parents[1]
PLACE = Path(os.environ["STRELL_STATE"]) / "mutate"
TOOLS = PLACE / "venv" / "bin"
ROOM = {
    "engine": (), "selection": ("tests.selection",), "strategy": ("tests.strategy", "tests.selection", "tests.orders"),
    "margin": ("tests.margin",), "results": ("tests.results",), "pricing": ("tests.pricing",),
}  # fmt: skip
"""Tests asked beside the engine's where no test runs the changed line itself, by the room of the change."""
KINDS = ("noticed", "endless", "late", "survived")
LEFT_ALONE = ("core/NumberReplacer",)
"""Kinds of change that say little: any other number in a text, a bound or a default."""
LONG = ("tests.kept", "tests.engine", "tests.pricing")
"""Rooms with tests tagged `long`, the most telling first."""
LONG_SECONDS = 600
ROPE = 5
"""A change that makes its tests need so many times their processor time makes them not end."""


@dataclass(frozen=True, order=True)
class Change:
    file: str
    operator: str
    occurrence: int
    line: int

    def words(self, lines: str) -> str:
        return f"{self.file.removeprefix('core/strell_core/')}:{lines}  ({self.operator.split('/')[-1]})"


def copied(number: int) -> Path:
    """A copy of what the core's tests read."""
    place = PLACE / f"copy{number}"
    shutil.rmtree(place, ignore_errors=True)
    for name in ("core", "ops", "docs", "server", "gateways", "pyproject.toml"):
        source = PROJECT / name
        if source.is_dir():
            shutil.copytree(source, place / name, ignore=shutil.ignore_patterns("__pycache__", "screenshots"))
        else:
            shutil.copy(source, place / name)
    return place


def known(paths: list[str], every: bool) -> list[Change]:
    """Every change there is."""
    out = []
    for path in paths:
        config, session = PLACE / "session.toml", PLACE / "session.sqlite"
        session.unlink(missing_ok=True)
        config.write_text(
            f'[cosmic-ray]\nmodule-path = "{PROJECT / path}"\ntimeout = 60.0\nexcluded-modules = []\n'
            'test-command = "true"\n[cosmic-ray.distributor]\nname = "local"\n'
        )
        subprocess.run([TOOLS / "cosmic-ray", "init", config, session], check=True, capture_output=True)
        with sqlite3.connect(session) as base:
            rows = base.execute(
                "SELECT module_path, operator_name, occurrence, start_pos_row FROM mutation_specs"
            ).fetchall()
        out += [Change(str(Path(file).relative_to(PROJECT)), *row) for file, *row in rows]
    return sorted(found for found in out if every or not found.operator.startswith(LEFT_ALONE))


class Tests:
    """Which tests run which lines of the unchanged code, and how long they take."""

    def __init__(self, place: Path) -> None:
        sources = sorted((place / "core").rglob("*.py"))
        digest = hashlib.sha256(b"".join(file.read_bytes() for file in sources)).hexdigest()[:12]
        trace = PLACE / f"trace-{digest}.json"
        site = next((PLACE / "venv" / "lib").glob("python*/site-packages"))
        if not trace.exists():
            done = run(place, ["ops/traced.py", str(site), str(trace)], 3600)
            if done.returncode:
                sys.exit(f"the tests fail on the code as it is:\n{done.stdout[-4000:]}\n{done.stderr[-4000:]}")
        told = json.loads(trace.read_text())
        self.lines: dict[str, dict[str, list[str]]] = told["lines"]
        self.seconds: dict[str, float] = told["seconds"]

    def of(self, change: Change, patience: float) -> list[str]:
        """The tests that run the changed line, else those of its room and the engine's; whole classes behind one another,
        the fastest first; no more of them than fit into so many seconds, but one class at least."""
        names = self.lines.get(change.file, {}).get(str(change.line), [])
        if not names:
            rooms = (*ROOM.get(change.file.split("/")[2], ()), "tests.engine")
            names = [name for name in self.seconds if name.startswith(rooms)]
        classes: dict[str, list[str]] = {}
        for name in names:
            known_test = name in self.seconds
            classes.setdefault(name.rpartition(".")[0] if known_test else name, []).append(name)
        # what a class ran in its set-up, all of its tests rest on
        asked = {name: [name] if name in tests else sorted(tests, key=self.took) for name, tests in classes.items()}
        out: list[str] = []
        for group in sorted(asked.values(), key=lambda them: sum(map(self.took, them))):
            patience -= sum(map(self.took, group))
            if out and patience < 0:
                break
            out += group
        return out

    def took(self, name: str) -> float:
        return self.seconds.get(name) or sum(s for test, s in self.seconds.items() if test.startswith(f"{name}."))


def run(place: Path, command: list[str], seconds: float) -> subprocess.CompletedProcess[str]:
    """A Python command in a copy, killed once it used so much processor time. Histories are shared between
    copies, compiled kernels are not."""
    kept = subprocess.run(
        ["bash", "-c", '. ops/setup.sh; echo "$NUMBA_CACHE_DIR"'], cwd=place, env={**os.environ, "STRELL_STATE": str(place)},
        capture_output=True, check=True, text=True,
    ).stdout.strip()  # fmt: skip
    environment = {
        **os.environ, "PYTHONPATH": f"{place}/core:{place}/server:{place}/gateways", "CI": "1",
        "STRELL_STATE": str(PLACE / "state"), "NUMBA_CACHE_DIR": kept,
    }  # fmt: skip
    limit = int(seconds) + 1

    def bound() -> None:
        resource.setrlimit(resource.RLIMIT_CPU, (limit, limit))

    return subprocess.run(
        [str(PROJECT / ".venv/bin/python"), *command], cwd=place, env=environment, capture_output=True, check=False,
        preexec_fn=bound, text=True,
    )  # fmt: skip


def asked(place: Path, labels: Sequence[str], seconds: float, which: str = "--exclude-tag") -> str:
    """*passed*, *noticed*, or *endless* where the tests used ROPE times their time."""
    done = run(place, ["ops/test.py", *labels, which, "long", "--failfast"], 40 + ROPE * seconds)
    return "passed" if done.returncode == 0 else "endless" if done.returncode < 0 else "noticed"


class Said(ast.NodeTransformer):
    """Leaves out what is for readers and type checkers only."""

    def visit_AnnAssign(self, node: ast.AnnAssign) -> ast.AST:
        node.annotation = ast.Constant(None)
        return self.generic_visit(node)

    def visit_arg(self, node: ast.arg) -> ast.AST:
        node.annotation = None
        return node

    def visit_FunctionDef(self, node: ast.FunctionDef) -> ast.AST:
        node.returns = None
        return self.generic_visit(node)


def meaning(code: str) -> str:
    """A file's code without annotations, which nobody reads at run time."""
    try:
        return ast.dump(Said().visit(ast.parse(code)))
    except SyntaxError:
        return code


def tried(place: Path, change: Change, tests: Tests, patience: float, long: bool) -> tuple[str, str]:
    """What came of a change, and the change itself as lines; *same*: it changed an annotation."""
    file = place / change.file
    before = file.read_text()
    try:
        subprocess.run(
            [TOOLS / "cosmic-ray", "apply", str(file), change.operator, str(change.occurrence)],
            capture_output=True, check=False,
        )  # fmt: skip
        after = file.read_text()
        if meaning(after) == meaning(before):
            return "same", ""
        changed = [
            line[1:].strip() for line in difflib.unified_diff(before.splitlines(), after.splitlines(), n=0, lineterm="")
            if line[:1] in "+-" and line[:3] not in ("+++", "---")
        ]  # fmt: skip
        words = f"{change.line}: {'  =>  '.join(changed)}"
        labels = tests.of(change, patience)
        outcome = asked(place, labels, sum(map(tests.took, labels)))
        if outcome == "passed" and long and asked(place, LONG, LONG_SECONDS, "--tag") != "passed":
            outcome = "late"
        return ("survived" if outcome == "passed" else outcome), words
    finally:
        file.write_text(before)


def main() -> int:
    parser = argparse.ArgumentParser(prog="./strell mutate", description="Would the core's tests notice?")
    parser.add_argument("paths", nargs="+", help="files of the core, like core/strell_core/engine/fills.py")
    parser.add_argument("--count", type=int, default=40)
    parser.add_argument("--from", type=int, default=0, dest="first", help="go on with the changes drawn after so many")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--minutes", type=float, default=30, help="stop drawing after so long")
    parser.add_argument("--every", action="store_true", help="also replace single numbers")
    parser.add_argument("--copies", type=int, default=2, help="so many changes at once")
    parser.add_argument("--patience", type=float, default=300, help="seconds of tests to ask about one change")
    parser.add_argument("--long", action="store_true", help="ask the long tests about what survived all others")
    parser.add_argument("--out", type=Path, help="a file to which every change is added, and what came of it")
    given = parser.parse_args()
    PLACE.mkdir(parents=True, exist_ok=True)
    changes = known(given.paths, given.every)
    random.Random(given.seed).shuffle(changes)
    print(f"{len(changes)} changes are known in {len(given.paths)} files; {given.count} are drawn, seed {given.seed}")
    places = [copied(number) for number in range(given.copies)]
    began = time.monotonic()
    tests = Tests(places[0])
    print(f"unchanged code, traced: {time.monotonic() - began:.0f} s", flush=True)
    for place in places[1:]:
        asked(place, ["core"], 1200)  # compiles its kernels before anybody's time is taken
    end = time.monotonic() + 60 * given.minutes
    outcomes: dict[Change, tuple[str, str]] = {}

    passed = 0
    queue = iter(changes[given.first :])

    def work(number: int) -> None:
        nonlocal passed
        while len(outcomes) < given.count and time.monotonic() < end and (change := next(queue, None)) is not None:
            outcome, words = tried(places[number], change, tests, given.patience, given.long)
            passed += 1
            if outcome != "same":
                outcomes[change] = outcome, words
                said = f"{outcome:9s} {change.words(words)}"
                print(said, flush=True)
                if given.out:
                    with given.out.open("a") as file:
                        file.write(f"{said}\n")

    with ThreadPoolExecutor(given.copies) as pool:
        list(pool.map(work, range(given.copies)))
    counts = {kind: sum(kind == found for found, _ in outcomes.values()) for kind in KINDS}
    print(f"{given.first + passed} were drawn, annotations among them; --from goes on there")
    print(f"of {sum(counts.values())}: " + ", ".join(f"{number} {kind}" for kind, number in counts.items()))
    return 0


if __name__ == "__main__":
    sys.exit(main())

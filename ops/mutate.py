"""Whether the core's tests would notice: small changes are made to its code one at a time, and the tests run on each.

`./strell mutate PATH … [--count N --seed S --minutes M --every]` draws N of all changes that cosmic-ray knows in these
files, works on two copies of the core at once, and tells which changes nobody noticed. Not part of `./strell test`: an
hour is soon gone.
"""

from __future__ import annotations

import argparse
import os
import random
import shutil
import sqlite3
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

PROJECT = Path(__file__).resolve().parents[1]
PLACE = Path(os.environ["STRELL_STATE"]) / "mutate"
TOOLS = PLACE / "venv" / "bin"
COPIES = 2
NEAR: dict[str, tuple[str, ...]] = {
    "engine": ("tests.engine", "tests.results"), "selection": ("tests.selection", "tests.engine.test_worked_examples"),
    "strategy": ("tests.strategy", "tests.selection", "tests.engine.test_worked_examples"), "orders": ("tests.orders",),
    "margin": ("tests.margin", "tests.engine.test_worked_examples"), "results": ("tests.results",),
    "pricing": ("tests.pricing.test_payoff", "tests.pricing.test_black"),
}  # fmt: skip
"""Tests asked first, by the room of the change; what they do not notice all of the core's fast ones are asked about."""
LEFT_ALONE = ("core/NumberReplacer",)
"""Kinds of change that say little: any other number in a text, a bound or a default."""


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


def known(paths: list[str], every: bool) -> list[tuple[str, str, int]]:
    """Every change there is: file, operator, which of its occurrences."""
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
            rows = base.execute("SELECT module_path, operator_name, occurrence FROM mutation_specs").fetchall()
        out += [(str(Path(file).relative_to(PROJECT)), operator, n) for file, operator, n in rows]
    return sorted(found for found in out if every or not found[1].startswith(LEFT_ALONE))


def tried(place: Path, change: tuple[str, str, int], seconds: float) -> tuple[str, str]:
    """Whether the tests noticed a change, and the change itself as lines."""
    path, operator, occurrence = change
    file = place / path
    before = file.read_text()
    try:
        applied = subprocess.run(
            [TOOLS / "cosmic-ray", "apply", str(file), operator, str(occurrence)], capture_output=True, text=True, check=False
        )  # fmt: skip
        after = file.read_text()
        if applied.returncode or after == before:
            return "none", ""
        lines = [
            f"{number}: {old.strip()}  =>  {new.strip()}"
            for number, (old, new) in enumerate(zip(before.splitlines(), after.splitlines(), strict=False), 1)
            if old != new
        ]
        words = lines[0] if lines else "a line went"
        room = path.split("/")[2]
        try:
            noticed = not passes(place, NEAR.get(room, ("core",)), seconds) or not passes(place, ("core",), 4 * seconds)
        except subprocess.TimeoutExpired:
            noticed = True
        return ("noticed" if noticed else "survived"), words
    finally:
        file.write_text(before)


def passes(place: Path, labels: tuple[str, ...], seconds: float) -> bool:
    """Whether tests pass in a copy; raises ``subprocess.TimeoutExpired``. Histories are shared, kernels are not."""
    environment = {
        **os.environ, "PYTHONPATH": f"{place}/core:{place}/server:{place}/gateways", "CI": "1",
        "STRELL_STATE": str(PLACE / "state"), "NUMBA_CACHE_DIR": str(place / "numba"),
    }  # fmt: skip
    command = [str(PROJECT / ".venv/bin/python"), "ops/test.py", *labels, "--exclude-tag", "long", "--failfast"]
    done = subprocess.run(command, cwd=place, env=environment, capture_output=True, timeout=seconds, check=False)
    return done.returncode == 0


def main() -> int:
    parser = argparse.ArgumentParser(prog="./strell mutate", description="Would the core's tests notice?")
    parser.add_argument("paths", nargs="+", help="files of the core, like core/strell_core/engine/fills.py")
    parser.add_argument("--count", type=int, default=40)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--minutes", type=float, default=30, help="stop drawing after so long")
    parser.add_argument("--every", action="store_true", help="also replace single numbers")
    given = parser.parse_args()
    PLACE.mkdir(parents=True, exist_ok=True)
    changes = known(given.paths, given.every)
    random.Random(given.seed).shuffle(changes)
    drawn = changes[: given.count]
    print(
        f"{len(changes)} changes are known in {len(given.paths)} files, {len(drawn)} are drawn with seed {given.seed}"
    )
    places = [copied(number) for number in range(COPIES)]
    for place in places:
        # what tests share, and the kernels, are made once before; and unchanged code must pass
        began = time.monotonic()
        if not passes(place, ("core",), 1200):
            print("the tests fail on the code as it is")
            return 1
        print(f"{place.name}: unchanged code passes in {time.monotonic() - began:.0f} s", flush=True)
    end = time.monotonic() + 60 * given.minutes
    survivors: list[str] = []
    counts = {"noticed": 0, "survived": 0, "none": 0}

    def work(number: int) -> None:
        for change in drawn[number::COPIES]:
            if time.monotonic() > end:
                return
            outcome, words = tried(places[number], change, 90)
            counts[outcome] += 1
            if outcome == "survived":
                survivors.append(f"{change[0].removeprefix('core/strell_core/')}:{words}  ({change[1].split('/')[-1]})")
                print(survivors[-1], flush=True)

    with ThreadPoolExecutor(COPIES) as pool:
        list(pool.map(work, range(COPIES)))
    all_ = counts["noticed"] + counts["survived"]
    print(f"{counts['noticed']} of {all_} noticed, {counts['survived']} survived")
    return 0


if __name__ == "__main__":
    sys.exit(main())

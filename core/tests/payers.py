"""Two years of the demo's dividend payers for tests, once a session: generated once and kept beside the demo's history."""

from __future__ import annotations

import dataclasses
import datetime as dt
from dataclasses import dataclass
from functools import cache

from strell_core.formats import cubes
from strell_core.market.calendars import marrowick
from strell_core.market.chains import SessionChain, decode, encode
from strell_core.market.timeline import Timeline
from strell_core.scenario.generator import Scenario, Settings
from strell_core.scenario.single import NAMES, SingleName, SingleScenario
from tests.demo import kept_at

SESSIONS = 504
PAYERS = tuple(name for name in NAMES if name.dividend)


class Near(SingleScenario):
    """Only the expirations that the sheets of the tests may take: the others take their time to be priced."""

    def expirations(self, date: dt.date) -> list[dt.date]:
        return [expiration for expiration in super().expirations(date) if (expiration - date).days <= 60]


@dataclass(frozen=True)
class Payer:
    scenario: Near
    chains: list[SessionChain]
    timeline: Timeline


@cache
def payer(name: SingleName) -> Payer:
    scenario = Near(name, Scenario(Settings(sessions=SESSIONS + 20, intraday=1)), SESSIONS)
    folder = kept_at(f"{name}{SESSIONS}")
    files = [folder / f"{index:05d}" for index in range(SESSIONS)]
    done = folder / "complete"
    if not done.exists():
        folder.mkdir(parents=True, exist_ok=True)
        for index, file in enumerate(files):
            file.write_bytes(encode(scenario.chain(index)))
        done.touch()
    chains = [decode(file.read_bytes()) for file in files]
    underlying = dataclasses.replace(name.underlying, dividends=tuple(sorted(scenario.dividends.items())))
    place = folder / "cubes"
    if not (place / "index.json").exists():
        cubes.build(place, lambda: chains, underlying, marrowick(), name.symbol)
    return Payer(scenario, chains, cubes.open_timeline(place, underlying, marrowick()))

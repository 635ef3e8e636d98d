"""A scenario's sessions as stored chains, made by several processes."""

from __future__ import annotations

import multiprocessing
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

from strell_core.market.chains import encode
from strell_core.market.instruments import ContractKey
from strell_core.scenario.generator import Scenario, Settings


@dataclass(frozen=True)
class Made:
    """One generated session, ready to be stored."""

    index: int
    payload: bytes
    snapshots: int
    contracts: tuple[ContractKey, ...]
    crossed: int


_scenario: Scenario | None = None


def _prepare(settings: Settings) -> None:
    global _scenario
    _scenario = Scenario(settings)
    _ = _scenario.path


def _make(index: int) -> Made:
    assert _scenario is not None
    chain = _scenario.chain(index)
    crossed = int(((chain.bid > chain.ask) & (chain.ask > 0)).sum())
    return Made(index, encode(chain), len(chain.times), chain.contracts, crossed)


def generate(settings: Settings, count: int, processes: int) -> Iterator[Made]:
    """Session chains of a scenario in order, made by several processes."""
    if processes == 1:
        _prepare(settings)
        yield from map(_make, range(count))
        return
    context = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(processes, context, _prepare, (settings,)) as pool:
        yield from pool.map(_make, range(count), chunksize=4)

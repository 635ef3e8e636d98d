"""A scenario's sessions as stored chains, made by several processes."""

from __future__ import annotations

import multiprocessing
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from strell_core.market.chains import encode
from strell_core.market.extras import encode_extras
from strell_core.market.instruments import ContractKey
from strell_core.pricing.variance_index import variance_index
from strell_core.scenario.generator import Scenario, Settings
from strell_core.scenario.single import NAMES, SingleScenario


@dataclass(frozen=True)
class Made:
    """One generated session, ready to be stored."""

    index: int
    payload: bytes
    snapshots: int
    contracts: tuple[ContractKey, ...]
    crossed: int
    volatility: npt.NDArray[np.float64]
    """The volatility index at each snapshot, percent; NaN where it cannot be said."""


_scenario: Scenario | None = None


def _prepare(settings: Settings) -> None:
    global _scenario
    _scenario = Scenario(settings)
    _ = _scenario.path


def _make(index: int) -> Made:
    assert _scenario is not None
    chain = _scenario.chain(index)
    crossed = int(((chain.bid > chain.ask) & (chain.ask > 0)).sum())
    settlements = [_scenario.calendar.session(expiration).close for expiration in chain.expirations]
    quantum, rate = float(_scenario.underlying.quantum), _scenario.underlying.rate
    volatility = variance_index(chain, settlements, quantum, rate)
    return Made(index, encode(chain), len(chain.times), chain.contracts, crossed, volatility)


def generate(settings: Settings, count: int, processes: int) -> Iterator[Made]:
    """Session chains of a scenario in order, made by several processes."""
    if processes == 1:
        _prepare(settings)
        yield from map(_make, range(count))
        return
    context = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(processes, context, _prepare, (settings,)) as pool:
        yield from pool.map(_make, range(count), chunksize=4)


@dataclass(frozen=True)
class MadeSingle:
    """One generated session of a stock or fund."""

    symbol: str
    index: int
    payload: bytes
    snapshots: int
    extras: bytes
    contracts: tuple[ContractKey, ...]


_singles: dict[str, SingleScenario] = {}


def singles(settings: Settings, sessions: int, intraday: int) -> dict[str, SingleScenario]:
    """The stocks and the fund beside a market, by symbol; the stocks recorded while they traded in the last sessions."""
    market = Scenario(settings)
    return {
        name.symbol: SingleScenario(name, market, sessions, intraday if name.kind == "stock" else 0) for name in NAMES
    }


def _prepare_singles(settings: Settings, sessions: int, intraday: int) -> None:
    _singles.update(singles(settings, sessions, intraday))


def _make_single(task: tuple[str, int]) -> MadeSingle:
    chain = _singles[task[0]].chain(task[1])
    beside = encode_extras(_singles[task[0]].beside(chain))
    return MadeSingle(task[0], task[1], encode(chain), len(chain.times), beside, chain.contracts)


def generate_singles(settings: Settings, sessions: int, intraday: int, processes: int) -> Iterator[MadeSingle]:
    """Chains of the stocks and the fund, name by name in order."""
    tasks = [(name.symbol, index) for name in NAMES for index in range(sessions)]
    context = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(processes, context, _prepare_singles, (settings, sessions, intraday)) as pool:
        yield from pool.map(_make_single, tasks, chunksize=5)

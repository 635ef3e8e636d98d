"""What stands beside the quotes of a session: last prices, sizes, volume, volatilities and Greeks as delivered."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from typing import Any

import numpy as np

from market.models import SessionChainRow
from strell_core.formats.intake.rows import PRICE_SCALE
from strell_core.market.chains import decode
from strell_core.market.extras import REAL, Extras, decode_extras
from strell_core.market.instruments import ContractKey
from venue.live import live

NAMES = ("last", "bid_size", "ask_size", "volume", *REAL)


@dataclass(frozen=True)
class Beside:
    """What was told beside a session's quotes; arrays in the order of its chain."""

    rows: dict[ContractKey, int] = field(default_factory=dict)
    columns: dict[int, int] = field(default_factory=dict)
    """Places of instants, epoch seconds."""
    extras: Extras = field(default_factory=dict)
    volume: Any = None
    """Of the whole session, ``(contracts,)``."""

    @cached_property
    def names(self) -> list[str]:
        """What is known of any contract."""
        some_volume = self.volume is not None and bool((self.volume > 0).any())
        return [name for name in NAMES if name in self.extras or (name == "volume" and some_volume)]

    def of(self, contract: ContractKey, at: int) -> dict[str, float | None]:
        """Everything of :attr:`names` about one contract at an instant; ``None`` where nothing was told."""
        row, column = self.rows.get(contract), self.columns.get(at)
        out: dict[str, float | None] = {}
        for name in self.names:
            value: float | None = None
            if row is not None and name in self.extras:
                value = None if column is None else _value(name, self.extras[name][row, column])
            elif row is not None:
                value = int(self.volume[row]) or None
            out[name] = value
        return out


def _value(name: str, stored: Any) -> float | None:
    if name in REAL:
        return None if np.isnan(stored) else float(f"{stored:.6g}")
    if stored < 0:
        return None
    return round(int(stored) / PRICE_SCALE, 4) if name == "last" else int(stored)


def beside(symbol: str, date: dt.date) -> Beside:
    """Of a recorded session."""
    found = SessionChainRow.objects.filter(underlying__symbol=symbol, date=date, current=True)
    key = found.values_list("pk", flat=True).first()
    return Beside() if key is None else _of_row(key)


@lru_cache(maxsize=8)
def _of_row(key: int) -> Beside:
    payload, extras = SessionChainRow.objects.values_list("payload", "extras").get(pk=key)  # a version never changes
    chain = decode(bytes(payload))
    return Beside(
        {contract: row for row, contract in enumerate(chain.contracts)},
        {int(at): column for column, at in enumerate(chain.times)}, decode_extras(bytes(extras)), chain.volume,
    )  # fmt: skip


def beside_now(symbol: str) -> Beside:
    """Of the market as last published."""
    now = live(symbol)
    quantum = float(now.row.quantum) * PRICE_SCALE
    last = np.where(now.last < 0, -1, np.rint(now.last * quantum)).astype(np.int32)
    extras = {"last": last[:, None], "bid_size": now.bid_size[:, None], "ask_size": now.ask_size[:, None]}
    return Beside(
        {contract: row for row, contract in enumerate(now.chain.contracts)},
        {int(now.chain.times[0]): 0},
        extras,
        now.chain.volume,
    )

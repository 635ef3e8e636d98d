"""Quotes for one browser: only of the contracts it shows, only what changed since it was last told."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from django.db import Error, close_old_connections

from config.errors import Refused
from strell_core.market.instruments import ContractKey
from strell_core.market.view import NO_DELTA
from venue.live import Live, live

MAX_CONTRACTS = 800


def read_live(symbol: str) -> Live | None:
    """The market now, ``None`` while there is none or the database is away."""
    try:
        close_old_connections()
        found = live(symbol)
        _ = found.delta
        return found
    except (Refused, Error):
        return None


@dataclass
class Watch:
    symbol: str
    contracts: tuple[ContractKey, ...]
    _told: np.ndarray | None = field(default=None, repr=False)
    _sequence: int = -1

    @classmethod
    def parse(cls, raw: dict[str, Any]) -> Watch | None:
        """What a browser asks for; ``None`` when it makes no sense."""
        symbol, codes = raw.get("symbol"), raw.get("contracts")
        if not isinstance(symbol, str) or len(symbol) > 16 or not isinstance(codes, list) or len(codes) > MAX_CONTRACTS:
            return None
        try:
            return cls(symbol, tuple(ContractKey.parse(code, symbol) for code in codes if isinstance(code, str)))
        except ValueError:
            return None

    def difference(self, now: Live) -> dict[str, Any] | None:
        """Quotes that are new to this browser: ``{contract: [bid, ask, bid size, ask size, IV, delta]}``."""
        if now.sequence == self._sequence:
            return None
        self._sequence = now.sequence
        rows = np.array([-1 if (row := now.row_of(c)) is None else row for c in self.contracts], np.int64)
        chain = now.chain
        fields = (chain.bid[:, 0], chain.ask[:, 0], now.bid_size, now.ask_size, chain.iv[:, 0], now.delta)
        values = np.stack([array[rows] for array in fields], axis=1).astype(np.int64)
        values[rows < 0] = -1
        if now.unit is not None:
            units = [contract.is_unit and contract.divisor == 1 for contract in self.contracts]
            values[units] = (now.unit.bid, now.unit.ask, now.unit.bid_size, now.unit.ask_size, 0, 10_000)
        told = self._told
        fresh = np.ones(len(rows), np.bool_) if told is None else (values != told).any(axis=1)
        self._told = values
        quantum = float(now.row.quantum)
        changed = {self.contracts[i].code: _shown(values[i].tolist(), quantum) for i in np.flatnonzero(fresh).tolist()}
        return {
            "topic": "quotes", "symbol": self.symbol, "sequence": now.sequence, "at": now.at, "spot": now.spot,
            "session": now.session.isoformat(), "quotes": changed, "published": now.published.timestamp(),
        }  # fmt: skip


def _shown(values: list[int], quantum: float) -> list[float | None]:
    bid, ask, bid_size, ask_size, iv, delta = values
    valid = 0 <= bid <= ask and ask > 0
    return [
        round(bid * quantum, 2) if valid else None, round(ask * quantum, 2) if valid else None, bid_size, ask_size,
        round(iv / 100, 2) if iv > 0 else None, None if delta in (-1, NO_DELTA) else round(delta / 10_000, 3),
    ]  # fmt: skip

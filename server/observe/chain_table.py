"""A chain at an instant as the rows people read and click."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from typing import Any

import numpy as np

from config.errors import Refused
from strell_core.market.instruments import ContractKey, strike_of, thousandths
from strell_core.market.timeline import Timeline
from strell_core.market.view import NO_DELTA


def chain_table(
    history: Timeline, index: int, held: Mapping[ContractKey, int], wanted: str | None, each_side: int = 9
) -> dict[str, Any]:
    """``each_side`` strikes around the money of one expiration, with those that are held."""
    view = history.view(index)
    listed = view.expirations
    today = history.dates[int(history.session_of[index])]
    if not listed:
        return {"expiration": None, "expirations": [], "rows": [], "forward": None}
    chosen = _chosen(listed, held, wanted)
    calls, puts = view.slice(chosen, "call"), view.slice(chosen, "put")
    quantum, spot = float(history.underlying.quantum), view.spot / 100
    quoted = np.flatnonzero((calls.ask > 0) | (puts.ask > 0))
    centre = int(np.searchsorted(calls.strikes[quoted], spot))
    marked = {(c.right, c.strike): contracts for c, contracts in held.items() if c.expiration == chosen}
    near = set(quoted[max(0, centre - each_side) : centre + each_side].tolist())
    near |= {i for i in quoted.tolist() if any(calls.strikes[i] == strike for _, strike in marked)}
    rows = []
    for i in sorted(near):
        strike = strike_of(thousandths(calls.strikes[i]))
        row: dict[str, Any] = {"strike": strike}
        for name, side in (("call", calls), ("put", puts)):
            ok = bool(side.valid[i])
            row[name] = {
                "contract": ContractKey(chosen, name, strike, history.underlying.symbol).code, "held": marked.get((name, strike), 0),
                "bid": round(int(side.bid[i]) * quantum, 2) if ok else None,
                "ask": round(int(side.ask[i]) * quantum, 2) if ok else None,
                "delta": None if side.delta[i] == NO_DELTA else round(int(side.delta[i]) / 10_000, 3),
                "iv": round(int(side.iv[i]) / 100, 2) or None, "open_interest": int(side.open_interest[i]),
            }  # fmt: skip
        rows.append(row)
    return {
        "expiration": chosen.isoformat(), "days": (chosen - today).days, "rows": rows,
        "forward": round(calls.forward, 2) if np.isfinite(calls.forward) else None,
        "expirations": [{"date": d.isoformat(), "days": (d - today).days} for d in listed],
    }  # fmt: skip


def _chosen(listed: list[dt.date], held: Mapping[ContractKey, int], wanted: str | None) -> dt.date:
    if wanted:
        try:
            date = dt.date.fromisoformat(wanted)
        except ValueError as error:
            raise Refused(f"'{wanted}' is not a date.") from error
        if date in listed:
            return date
    of_position = [contract.expiration for contract in held if contract.expiration in listed]
    return min(of_position) if of_position else listed[min(3, len(listed) - 1)]

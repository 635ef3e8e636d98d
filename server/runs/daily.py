"""Greeks of a run's positions at the end of every session."""

from __future__ import annotations

from typing import Any

from market.own import market_for
from observe.payoffs import greeks
from runs.models import Carried, Run
from strell_core.engine.stored import closed_trade
from strell_core.market.prices import PARTS
from strell_core.pricing.black import GREEKS
from strell_core.pricing.held import Holding
from strell_core.results.equity import all_legs

COLUMNS = ("date", "trade", "contract", "contracts", "mid", "iv", *GREEKS)


def daily_greeks(run: Run) -> list[dict[str, Any]]:
    """A row for every leg that is held at the last snapshot of a session, from the data as it is now. Greeks are of the
    position in money, with the conventions of :mod:`pricing.black`; empty where the quote has no volatility."""
    market = market_for(run.document, run.strategy.owner_id)
    history, symbol = market.main, market.main.underlying.symbol
    closed = [closed_trade(raw, symbol) for raw in run.trades.values_list("trade", flat=True)]
    begin, end = history.span(run.start, run.end)
    carried = Carried.of(run, symbol)
    rows = []
    for number, held in all_legs(history, closed, carried.state.trades if carried else ()):
        contract, there = held.leg.contract, market.on_clock(held.leg.contract.underlying)
        quantum, scale = float(there.underlying.quantum), held.leg.contracts * there.multiplier(held.opened_on)
        first = int(history.session_of[max(held.begin, begin)])
        for session in range(first, len(history.dates)):
            last = int(history.first[session + 1]) - 1
            if last >= min(held.end, end):
                break
            bid, ask = there.quote_at(contract, last)
            found = greeks(there, last, Holding(contract, held.leg.contracts, 0.0))
            rows.append({
                "date": history.dates[session].isoformat(), "trade": number, "contract": contract.code, "contracts": held.leg.contracts,
                "mid": round((bid + ask) / 2 / PARTS * quantum, 4) if 0 <= bid <= ask and ask > 0 else None, "iv": found["iv"],
                **{name: None if (value := found[name]) is None else round(value * scale, 4) for name in GREEKS},
            })  # fmt: skip
    return sorted(rows, key=lambda row: (row["date"], row["trade"], row["contract"]))

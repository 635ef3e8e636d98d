"""Small histories by hand, and everything that has to agree on them: steps, blocks, cut anywhere and restored."""

from __future__ import annotations

import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from decimal import Decimal
from typing import Any

from strell_core.engine.plain import to_plain
from strell_core.engine.plan import make_plan
from strell_core.engine.run import History, run_blocks, run_steps
from strell_core.engine.state import EngineState
from strell_core.engine.stored import dump, load
from strell_core.market.calendars import marrowick
from strell_core.market.market import Market
from strell_core.market.prices import PARTS
from strell_core.market.timeline import Timeline
from strell_core.measures.registry import Registry
from strell_core.strategy.document import normalise, parse

CASH = Decimal(500_000)
POINT = 20 * PARTS
CALL, FAR, PUT = "2026-10-16/call/3150", "2026-10-16/call/3200", "2026-10-16/put/3050"
TICKS = ("15:40", "15:45", "15:50", "15:55")


@contextmanager
def known(registry: Registry[Any], item: Any) -> Iterator[None]:
    """A declaration that is known for a while."""
    registry.register(item)
    try:
        yield
    finally:
        registry.remove(item.declaration.id)


def price_is(leg: str, comparison: str, right: float) -> dict[str, Any]:
    """A condition on the price of a leg."""
    return {"left": {"measure": "leg_price", "leg": leg}, "is": comparison, "right": right}


def leg(key: str, right: str, strike: int, first: bool = False, **more: Any) -> dict[str, Any]:
    pick = {"pick": "percent_from_spot", "percent": round(abs(strike - 3100) / 31, 1)}
    expiry = {"pick": "nearest_days"} if first else {"pick": "same_expiration"}
    return {"id": key, "rule": "leg", "side": "sell", "right": right, "strike": pick, "expiry": expiry, **more}


def entry(key: str, legs: list[dict[str, Any]], time: str = "15:45", limit: int = 1, **more: Any) -> dict[str, Any]:
    return {
        "id": key, "when": [{"id": f"{key}-when", "rule": "decision_times", "weekdays": ["mon", "tue", "wed"], "time": time}],
        "conditions": [{"rule": "open_limit", "limit": limit}], "legs": legs, "size": [{"rule": "fixed_lots", "lots": 2}],
        **more,
    }  # fmt: skip


def strategy(*entries: dict[str, Any], underlyings: tuple[str, ...] = ("MK30",), **more: Any) -> dict[str, Any]:
    return normalise({"strell": 2, "name": "coming", "underlyings": [*underlyings], "entries": [*entries], **more})


def snapshots(quotes: dict[str, dict[str, str]], spots: dict[str, float] | None = None) -> list[dict[str, Any]]:
    """Three sessions; what is not said at an instant stays as it was."""
    now: dict[str, str] = {}
    spot = 3100.0
    out = []
    for day in ("2026-10-05", "2026-10-06", "2026-10-07"):
        for time in TICKS:
            at = f"{day} {time}"
            now |= quotes.get(at, {})
            spot = (spots or {}).get(at, spot)
            out.append({"at": at, "spot": spot, **now})
    return out


class ByHandCase(unittest.TestCase):
    def run_all(self, document: dict[str, Any], market: Market | Timeline) -> History:
        """In steps; blocks, and both restored at every snapshot, must say the same."""
        main = market.main if isinstance(market, Market) else market
        plan, end = make_plan(parse(document), market), len(main.times)
        whole = run_steps(plan, market, 0, end, CASH)
        for method in (run_blocks, run_steps):
            for cuts in ([0, end], range(end + 1)):
                state, said = EngineState(CASH), History(EngineState(CASH))
                for begin, stop in zip(cuts, list(cuts)[1:], strict=False):
                    part = method(plan, market, begin, stop, CASH, None, load(dump(state), "MK30"))
                    state = part.state
                    for name in ("reasons", "entries", "closed", "intents"):
                        getattr(said, name).extend(getattr(part, name))
                for name in ("reasons", "entries", "closed", "intents"):
                    self.assertEqual(
                        to_plain(getattr(said, name)), to_plain(getattr(whole, name)), (method.__name__, name)
                    )
                self.assertEqual(dump(state), dump(whole.state))
        self.assertTrue(whole.closed or whole.state.trades, "nothing was tried")
        return whole

    def told(self, history: History, *wanted: str) -> list[tuple[str, str, str]]:
        local = marrowick().local
        return [
            (local(r.at).strftime("%d %H:%M"), r.kind, r.rule)
            for r in history.reasons
            if not wanted or r.kind in wanted
        ]

    STRANGLE = (leg("c", "call", 3150, first=True), leg("p", "put", 3050))

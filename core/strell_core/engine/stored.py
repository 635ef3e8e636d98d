"""Engine values as JSON text and back, whichever version wrote them.

Every state carries the version that wrote it. A version is never changed: what reads it is a step from it to the
next, kept here, and samples of every version are kept with the tests.
"""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Callable, Mapping, Sequence
from decimal import Decimal
from typing import Any

from strell_core.engine.plain import to_plain
from strell_core.engine.record import Record, Rest, outcome_of, record_of
from strell_core.engine.run import History
from strell_core.engine.state import (
    ClosedTrade,
    Due,
    EngineState,
    Entered,
    Fill,
    LedgerEntry,
    LegClose,
    LegState,
    LegStop,
    Need,
    Order,
    OrderLeg,
    Piece,
    Reason,
    TradeState,
)
from strell_core.market.instruments import ContractKey
from strell_core.measures.memory import ConditionMemory, ConditionState
from strell_core.strategy.actions import consequence

VERSION = 5
ENTRY = "entry"
"""What the only entry of a strategy was called when there was one."""


class StoredStateError(ValueError):
    """A stored engine state that no version of ours wrote."""


def dump(state: EngineState) -> str:
    """A state as JSON text."""
    return json.dumps({"version": VERSION, **to_plain(state)}, separators=(",", ":"))


def load(text: str, underlying: str) -> EngineState:
    """The state that :func:`dump` wrote, now or earlier; raises :class:`StoredStateError`. ``underlying``: whose
    contracts are meant where a version does not say it."""
    try:
        raw = upgraded(json.loads(text))
        return EngineState(
            Decimal(raw["cash"]), raw["next_trade"], tuple(_trade(item, underlying) for item in raw["trades"]),
            tuple(order_of(item, underlying) for item in raw["orders"]), tuple(_due(item, underlying) for item in raw["due"]),
            tuple(Entered(i["entry"], dt.date.fromisoformat(i["on"]), i["times"]) for i in raw["entered"]),
            tuple(outcome_of(item) for item in raw["outcomes"]), record_of(raw["record"]),
            tuple(Rest(item["rule"], dt.date.fromisoformat(item["since"])) for item in raw["rests"]),
            tuple((name, _memory(items)) for name, items in raw.get("memory", ())),
            dt.date.fromisoformat(raw["interest_to"]) if raw.get("interest_to") else None,
        )  # fmt: skip
    except (KeyError, TypeError, ValueError, ArithmeticError) as error:
        raise StoredStateError(f"a stored state cannot be read: {error}") from error


def dump_history(history: History) -> str:
    """A run so far as JSON text, to go on from."""
    parts = {name: to_plain(getattr(history, name)) for name in HISTORY}
    told = {"version": VERSION, "state": dump(history.state), "ruined_at": history.ruined_at, **parts}
    return json.dumps(told, separators=(",", ":"))


def load_history(text: str, underlying: str) -> History:
    """The run that :func:`dump_history` wrote in the present version; raises :class:`StoredStateError` for another: it is
    run anew."""
    try:
        raw = json.loads(text)
        if raw["version"] != VERSION:
            raise StoredStateError(f"a stored run has version {raw['version']}, known is {VERSION}")
        return History(
            load(raw["state"], underlying), [Reason(**item) for item in raw["reasons"]],
            [_entry(item, underlying) for item in raw["entries"]], [closed_trade(item, underlying) for item in raw["closed"]],
            [order_of(item, underlying) for item in raw["intents"]], [Need(**item) for item in raw["needs"]], raw["ruined_at"],
        )  # fmt: skip
    except (KeyError, TypeError, ValueError, ArithmeticError) as error:
        raise StoredStateError(f"a stored run cannot be read: {error}") from error


HISTORY = ("reasons", "entries", "closed", "intents", "needs")


def _entry(raw: dict[str, Any], underlying: str) -> LedgerEntry:
    contract = None if raw["contract"] is None else ContractKey.parse(raw["contract"], underlying, only=False)
    return LedgerEntry(**{**raw, "contract": contract, "amount": Decimal(raw["amount"])})


def upgraded(raw: Mapping[str, Any]) -> dict[str, Any]:
    """A state as plain data in the present version."""
    out = dict(raw)
    version = out.pop("version", 1)
    if version not in range(1, VERSION + 1):
        raise StoredStateError(f"a stored state has version {version}, known is {VERSION}")
    for step in _STEPS[version - 1 :]:
        out = step(out)
    return out


def _to_2(raw: dict[str, Any]) -> dict[str, Any]:
    """Trades know their entry; orders their purpose, type and urgency."""
    trades = [{**trade, "entry": ENTRY} for trade in raw["trades"]]
    return {**raw, "trades": trades, "orders": [_order_to_2(order) for order in raw["orders"]], "due": []}


def _to_3(raw: dict[str, Any]) -> dict[str, Any]:
    """Entries are counted by session; what an earlier version entered is not known to have been today."""
    return {**raw, "entered": []}


def _order_to_2(raw: dict[str, Any]) -> dict[str, Any]:
    """A closing order of version 1 does not say whether it may wait for its price: it does not."""
    order = {key: value for key, value in raw.items() if key != "kind"}
    closes = raw["kind"] == "close"
    return {
        **order, "purpose": raw["kind"], "entry": ENTRY, "type": "market" if closes else "limit",
        "urgency": "now" if closes else "patient", "whole": closes,
    }  # fmt: skip


def _to_4(raw: dict[str, Any]) -> dict[str, Any]:
    """How trades ended and what equity was is remembered from now on."""
    return {**raw, "outcomes": [], "record": to_plain(Record()), "rests": []}


def _to_5(raw: dict[str, Any]) -> dict[str, Any]:
    """Trades count their adjustments: those that closed something are known by when they did."""
    trades = [
        {**trade, "adjustments": len({leg["closed_at"] for leg in trade["closed_legs"] if leg["how"] == "adjustment"})}
        for trade in raw["trades"]
    ]
    return {**raw, "trades": trades}


_STEPS: tuple[Callable[[dict[str, Any]], dict[str, Any]], ...] = (_to_2, _to_3, _to_4, _to_5)


def _due(raw: dict[str, Any], underlying: str) -> Due:
    contracts = tuple(
        (name, ContractKey.parse(code, underlying, only=False)) for name, code in raw.get("contracts", ())
    )
    return Due(**{**raw, "contracts": contracts})


def _trade(raw: dict[str, Any], underlying: str) -> TradeState:
    adjusted = raw.get("adjusted_on")
    return TradeState(
        **{
            **raw, "opened_on": dt.date.fromisoformat(raw["opened_on"]), "cash": Decimal(raw["cash"]),
            "costs": Decimal(raw["costs"]), "legs": tuple(_held(item, underlying) for item in raw["legs"]),
            "closed_legs": tuple(LegClose(**_leg(item, underlying)) for item in raw["closed_legs"]),
            "stops": tuple(LegStop(**item) for item in raw.get("stops", ())), "acted": tuple(raw.get("acted", ())),
            "adjusted_on": dt.date.fromisoformat(adjusted) if adjusted else None,
            "memory": _memory(raw.get("memory", ())),
        }
    )  # fmt: skip


def _memory(raw: Sequence[dict[str, Any]]) -> tuple[ConditionMemory, ...]:
    return tuple(
        ConditionMemory(**{**item, "now": ConditionState(**item["now"]), "before": ConditionState(**item["before"])})
        for item in raw
    )


def _held(raw: dict[str, Any], underlying: str) -> LegState:
    pieces = tuple(Piece(**piece) for piece in raw.get("pieces", ()))
    return LegState(**{**_leg(raw, underlying), "pieces": pieces})


def order_of(raw: dict[str, Any], underlying: str) -> Order:
    """The order that :func:`to_plain` wrote, now or earlier."""
    now = _order_to_2(raw) if "kind" in raw else raw
    legs = tuple(OrderLeg(**_leg(item, underlying)) for item in now["legs"])
    session = dt.date.fromisoformat(now["session"])
    then = tuple(consequence(item) for item in now.get("then", ()))
    return Order(**{**now, "legs": legs, "session": session, "also": tuple(now["also"]), "then": then})


def _leg(raw: dict[str, Any], underlying: str) -> dict[str, Any]:
    """Version 1 wrote contracts without their underlying."""
    return {**raw, "contract": ContractKey.parse(raw["contract"], underlying, only=False)}


def closed_trade(raw: dict[str, Any], underlying: str) -> ClosedTrade:
    """The closed trade that :func:`to_plain` wrote, now or earlier."""
    legs = tuple(LegClose(**_leg(item, underlying)) for item in raw["legs"])
    money = {key: Decimal(raw[key]) for key in ("pnl", "costs")}
    return ClosedTrade(**{"entry": ENTRY, **raw, **money, "legs": legs, "also": tuple(raw["also"])})


def fill_of(raw: dict[str, Any]) -> Fill:
    """The fill that :func:`to_plain` wrote."""
    dealt = tuple((name, contracts) for name, contracts in raw.get("dealt", ()))
    return Fill(**{**raw, "prices": tuple(raw["prices"]), "commission": Decimal(raw["commission"]), "dealt": dealt})

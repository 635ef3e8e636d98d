"""What a strategy decides over a history, in a form that outlives changes of the engine's own shapes.

``strategies.json`` holds documents of format 1 as they were written, ``decisions.json`` a digest of each part of what
is decided from them over the demo's whole history. Both were made when format 1 was the only one; :func:`decided` must
go on giving the same bytes until a rule or the demo is meant to change. Since then they changed five times: what nobody bids for is
given away and the settlement of one leg loses no decision for the others (semantics rules 3 and 8, fifteen strategies); a
stop pays the other side (ten of those that fill at a part of the spread); and times of day act in half days, one
contract is not bought and sold by two legs of an entry (six strategies); and the demo lists Fridays out to nine weeks
instead of five (thirteen; before the listing changed the engine of that day gave the bytes that were kept); and a time to
leave that comes with a session's last snapshot is decided on the one before (two butterflies that leave at 17:30).

Capital was not limited then: they decide as if their sheets said so, and calls, which came with it, are not looked at.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterable, Mapping
from decimal import Decimal
from pathlib import Path
from typing import Any

from strell_core.engine.plan import make_plan
from strell_core.engine.run import History, run_blocks
from strell_core.engine.state import LegClose, Order
from strell_core.market.instruments import ContractKey
from strell_core.market.timeline import Timeline
from strell_core.results.equity import equity_curve
from strell_core.strategy.document import parse

HERE = Path(__file__).parent
CASH = Decimal(50_000)
NOT_LIMITED = {"rule": "capital", "entries": "allow", "below": "report"}
PARTS = ("intents", "reasons", "fills", "trades", "equity")


def strategies() -> dict[str, dict[str, Any]]:
    """Documents of format 1 by name."""
    found: dict[str, dict[str, Any]] = json.loads((HERE / "strategies.json").read_text())
    return found


def kept() -> dict[str, dict[str, Any]]:
    """By name of the strategy: trades closed, cash at the end, and the digest of every part."""
    found: dict[str, dict[str, Any]] = json.loads((HERE / "decisions.json").read_text())
    return found


def code(contract: ContractKey) -> str:
    """A contract as it was written when the decisions were kept."""
    return f"{contract.expiration.isoformat()}/{contract.right}/{contract.strike}"


def _values(values: Mapping[str, Any]) -> Any:
    def plain(value: Any) -> Any:
        if isinstance(value, str) and value.count("/") >= 2:
            return "/".join(value.split("/")[-3:])
        return [plain(item) for item in value] if isinstance(value, list | tuple) else value

    return {key: plain(value) for key, value in values.items()}


def _order(order: Order) -> list[Any]:
    return [
        order.id, order.purpose, order.trade, order.lots, order.decided_at, order.session.isoformat(), order.rule,
        list(order.also), _values(order.values),
        [[leg.leg_id, code(leg.contract), leg.contracts] for leg in order.legs],
    ]  # fmt: skip


def _leg(leg: LegClose) -> list[Any]:
    return [
        leg.leg_id, code(leg.contract), leg.contracts, leg.opened_parts, leg.closed_parts, leg.closed_at, leg.how,
        leg.opened_at,
    ]  # fmt: skip


def said(intents: Iterable[Order], history: History, timeline: Timeline, begin: int, end: int) -> dict[str, list[Any]]:
    """Everything that was decided and came of it, as plain lists."""
    curve = equity_curve(timeline, history, begin, end, CASH)
    return {
        "intents": [_order(order) for order in intents],
        "reasons": [
            [r.at, r.kind, r.trade, r.rule, r.truth, _values(r.values)] for r in history.reasons if r.kind != "call"
        ],
        "fills": [
            [e.at, e.trade, e.kind, code(e.contract) if e.contract else "", e.contracts, e.price_parts, str(e.amount)]
            for e in history.entries
        ],
        "trades": [
            [
                t.number, t.lots, t.decided_at, t.opened_at, t.closed_at, [_leg(leg) for leg in t.legs], t.opening,
                t.gross, t.best, str(t.pnl), str(t.costs), t.rule, t.left_at, _values(t.values), list(t.also),
            ]
            for t in history.closed
        ],
        "equity": [repr(value) for value in curve.equity.tolist()],
    }  # fmt: skip


def digests(parts: Mapping[str, list[Any]]) -> dict[str, str]:
    return {name: hashlib.sha256(json.dumps(parts[name]).encode()).hexdigest()[:32] for name in PARTS}


def decided(
    document: dict[str, Any], timeline: Timeline, run: Callable[..., History] = run_blocks
) -> tuple[dict[str, Any], dict[str, list[Any]]]:
    """What is kept of a strategy over a whole timeline, and the parts themselves."""
    plan = make_plan(parse({**document, "limits": [NOT_LIMITED]}), timeline)
    end = len(timeline.times)
    history = run(plan, timeline, 0, end, CASH)
    parts = said(history.intents, history, timeline, 0, end)
    return {"closed": len(history.closed), "cash": str(history.state.cash), "digests": digests(parts)}, parts

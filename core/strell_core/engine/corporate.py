"""Trades over a split of their underlying (semantics rule 11)."""

from __future__ import annotations

from fractions import Fraction

from strell_core.engine.changed import changed
from strell_core.engine.pieces import closed_pieces
from strell_core.engine.state import Due, LegState, TradeState
from strell_core.market.instruments import ContractKey
from strell_core.market.splits import Split, after
from strell_core.market.timeline import Timeline


def over_split(timeline: Timeline, trade: TradeState, split: Split, instant: int) -> TradeState | None:
    """The trade with its legs, stops and paths as they are called and counted after a split; ``None`` where that is no
    whole number or one of the legs is not listed."""
    count = split.whole
    if count is None:
        return None
    legs, gone, rounded = [], [], 0
    for leg in trade.legs:
        contract = after(leg.contract, count)
        cube = timeline.cubes.get(contract.expiration)
        if not contract.is_unit and (cube is None or cube.row(contract.right, contract.strike) is None):
            return None
        opened = round(Fraction(leg.opened_parts, count))
        rounded += leg.contracts * (count * opened - leg.opened_parts)
        legs.append(LegState(leg.leg_id, contract, leg.contracts * count, opened, instant, leg.best))
        gone += [
            closed for piece in leg.came for closed in closed_pieces(leg, [piece], piece.opened_parts, instant, "split")
        ]
    stops = tuple(changed(stop, parts=round(Fraction(stop.parts, count))) for stop in trade.stops)
    # what prices lose when they are rounded is none of the trade's P/L
    return changed(
        trade, legs=tuple(legs), closed_legs=(*trade.closed_legs, *gone), stops=stops, realised=trade.realised + rounded
    )


def before_splits(trade: TradeState, leg: LegState) -> tuple[ContractKey, int]:
    """What a held leg was called when it was opened, and when that was, splits since then undone; 0: with its trade."""
    contract, opened_at = leg.contract, leg.opened_at
    while True:
        gone = (closed for closed in trade.closed_legs if closed.how == "split" and closed.leg_id == leg.leg_id)
        was = next((closed for closed in gone if closed.closed_at == opened_at), None)
        if was is None:
            return contract, opened_at
        contract, opened_at = was.contract, was.opened_at


def due_after(due: Due, symbol: str, count: int) -> Due:
    """A re-entry in the contracts that were closed, as they are called after a split of their underlying."""
    renamed = ((name, after(key, count) if key.underlying == symbol else key) for name, key in due.contracts)
    return changed(due, contracts=tuple(renamed))

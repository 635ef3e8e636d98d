"""Trades over a split of their underlying (semantics rule 11)."""

from __future__ import annotations

from fractions import Fraction

from strell_core.engine.changed import changed
from strell_core.engine.pieces import closed_pieces
from strell_core.engine.state import LegState, TradeState
from strell_core.market.splits import Split, after
from strell_core.market.timeline import Timeline


def over_split(timeline: Timeline, trade: TradeState, split: Split, instant: int) -> TradeState | None:
    """The trade with its legs as they are called and counted after a split; ``None`` where that is no whole number
    or one of them is not listed."""
    count = split.whole
    if count is None:
        return None
    legs, gone = [], []
    for leg in trade.legs:
        contract = after(leg.contract, count)
        cube = timeline.cubes.get(contract.expiration)
        if not contract.is_unit and (cube is None or cube.row(contract.right, contract.strike) is None):
            return None
        opened = round(Fraction(leg.opened_parts, count))
        legs.append(LegState(leg.leg_id, contract, leg.contracts * count, opened, instant))
        gone += [
            closed for piece in leg.came for closed in closed_pieces(leg, [piece], piece.opened_parts, instant, "split")
        ]
    return changed(trade, legs=tuple(legs), closed_legs=(*trade.closed_legs, *gone))

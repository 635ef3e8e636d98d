"""What a leg came together from: contracts added to it later count from then on, at their own price."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction
from typing import Any

from strell_core.engine.changed import changed
from strell_core.engine.state import LegClose, LegState, Piece


def averaged(leg: LegState, contracts: int, parts: int) -> LegState:
    """A leg with a further part of its entry; opened at the average, to the part."""
    total = leg.contracts + contracts
    worth = leg.contracts * leg.opened_parts + contracts * parts
    return changed(leg, contracts=total, opened_parts=round(Fraction(worth, total)))


def added(leg: LegState, contracts: int, parts: int, instant: int) -> LegState:
    """A leg with more of the same by an adjustment: rules see the average, its record what came when."""
    return changed(averaged(leg, contracts, parts), pieces=(*leg.came, Piece(contracts, parts, instant)))


def parted(leg: LegState, contracts: int) -> tuple[Sequence[Piece], LegState]:
    """So many contracts of a leg, signed as held, the oldest first, and what is left of it. Both go on at the average where
    something is left: that is what its P/L was told by."""
    if contracts == leg.contracts:
        return leg.came, changed(leg, contracts=0, pieces=())
    gone, left, wanted = list[Piece](), list[Piece](), contracts
    for piece in leg.came:
        taken = piece.contracts if abs(piece.contracts) <= abs(wanted) else wanted
        wanted -= taken
        for to, count in ((gone, taken), (left, piece.contracts - taken)):
            if count:
                to.append(Piece(count, leg.opened_parts, piece.opened_at))
    one = len(left) == 1 and left[0].opened_at == leg.opened_at
    return gone, changed(leg, contracts=leg.contracts - contracts, pieces=() if one else tuple(left))


def closed_pieces(leg: LegState, pieces: Sequence[Piece], parts: int, instant: int, how: Any) -> list[LegClose]:
    """Pieces of a leg as they are recorded when they are gone for so many parts."""
    return [
        LegClose(
            leg.leg_id, leg.contract, piece.contracts, piece.opened_parts, parts, instant, how, piece.opened_at
        )
        for piece in pieces
    ]  # fmt: skip

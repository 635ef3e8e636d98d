"""What an expired contract is worth (semantics rule 10)."""

from __future__ import annotations

from decimal import Decimal

from strell_core.market.instruments import STRIKE_SCALE, ContractKey, Right, thousandths
from strell_core.market.prices import SPOT_SCALE, points_to_parts
from strell_core.market.timeline import Timeline


def settlement_parts(timeline: Timeline, contract: ContractKey, instant: int) -> int | None:
    """Intrinsic value at the official settlement in parts of a quantum, once the contract has settled
    by epoch second ``instant`` and the value is recorded; else ``None``: it goes on, or waits for its value."""
    if not expired(timeline, contract, instant):
        return None
    official = timeline.official(contract.expiration)
    return None if official is None else intrinsic_parts(contract, official, timeline.underlying.quantum)


def expired(timeline: Timeline, contract: ContractKey, instant: int) -> bool:
    """Whether a contract has come to its settlement by epoch second ``instant``, its value known or not: it is not
    traded any more."""
    return instant >= timeline.settles_at(contract)


def intrinsic_parts(contract: ContractKey, official: int, quantum: Decimal) -> int:
    """Worth of a contract in parts of a quantum at an official value of 0.01 points."""
    above = Decimal(official) / SPOT_SCALE - Decimal(thousandths(contract.strike)) / STRIKE_SCALE
    return max(0, Right(contract.right).sign * points_to_parts(above, quantum))

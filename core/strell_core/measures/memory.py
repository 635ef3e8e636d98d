"""What is kept, from snapshot to snapshot, of conditions on values that have no recorded history: those of a position, of its
legs, of an account. It is what *for several snapshots in a row*, crossings and *from then on until* need of the past."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class ConditionState:
    """Of a condition, as of a snapshot."""

    true_for: int = 0
    """Snapshots in a row, up to that one, at which it was true; as many as are asked for at most."""
    since_false: int | None = None
    """Snapshots since it was last false; ``None``: it was not among those that are asked for."""
    side: int | None = None
    """Whether the left value was last above the right one (1), at it (0) or below it (-1); ``None``: neither is known."""
    holds: bool = False
    """It has begun to hold, and what ends it has not come."""


NO_PAST = ConditionState()


@dataclass(frozen=True)
class ConditionMemory:
    """What is kept of one condition as of a snapshot, and as of the one before: a snapshot may be looked at again."""

    condition: str
    at: int
    """The snapshot, epoch seconds."""
    now: ConditionState
    before: ConditionState

    def as_before(self, instant: int) -> ConditionState:
        """As of the snapshot before an instant's."""
        return self.before if self.at >= instant else self.now

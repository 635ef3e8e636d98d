"""Decisions to leave that waited: what stood in the way was a leg without a valid quote (semantics rule 8)."""

from __future__ import annotations

from dataclasses import dataclass

from strell_core.engine.run import History
from strell_core.market.timeline import Timeline


@dataclass(frozen=True)
class Delayed:
    """A decision to leave a trade, and when it was done, epoch seconds; ``None``: it never was."""

    trade: int
    rule: str
    decided_at: int
    done_at: int | None


def delayed(history: History, timeline: Timeline, last: int) -> list[Delayed]:
    """Decisions of a run that were not carried out by the end of the session after theirs. ``last``: index of the
    session the run ended in; what is still at work then has had until its end."""
    out: list[Delayed] = []
    waiting: dict[tuple[int, str], int] = {}

    def session(at: int) -> int:
        return int(timeline.session_of[timeline.at_or_before(at)])

    for reason in history.reasons:
        if reason.trade is None:
            continue
        key = (reason.trade, reason.rule)
        if reason.kind == "left":
            waiting.setdefault(key, reason.at)
        elif reason.kind == "filled" and reason.values.get("kind") == "close" and key in waiting:
            decided = waiting.pop(key)
            if session(reason.at) - session(decided) > 1:
                out.append(Delayed(*key, decided, reason.at))
    held = {trade.number for trade in history.state.trades}
    for (trade, rule), decided in waiting.items():
        if trade not in held or last - session(decided) > 1:
            out.append(Delayed(trade, rule, decided, None))
    return out

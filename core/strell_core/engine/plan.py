"""A strategy made ready to run: exits in their order of precedence, decision times in minutes."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from decimal import Decimal
from functools import cached_property

import numpy as np
import numpy.typing as npt

from strell_core.market.instruments import Underlying
from strell_core.market.timeline import Timeline
from strell_core.measures.declaration import WEEKDAYS
from strell_core.strategy import catalogue, kinds
from strell_core.strategy.document import Rule, Strategy
from strell_core.strategy.kinds import Exit
from strell_core.strategy.leave.before_expiration import minutes

DUE, MISSED, POLICY_SKIP = "due", "missed", "policy"


@dataclass(frozen=True)
class Plan:
    strategy: Strategy
    underlying: Underlying

    @property
    def quantum(self) -> Decimal:
        return self.underlying.quantum

    def multiplier(self, opened_on: dt.date) -> int:
        """That of a trade opened on a day: its contracts keep the terms they were listed with."""
        return self.underlying.on(opened_on).multiplier

    @cached_property
    def exits(self) -> tuple[tuple[Rule, Exit], ...]:
        """Loss exits before others, then the sheet's order (semantics rule 7)."""
        catalogue.load()
        found = [(rule, kinds.exits[rule.kind]) for rule in self.strategy.leave]
        return tuple(sorted(found, key=lambda pair: pair[1].kind != "loss"))

    @cached_property
    def decision_minute(self) -> int:
        return minutes(self.strategy.decision_times.params["time"])

    @cached_property
    def weekdays(self) -> frozenset[int]:
        return frozenset(WEEKDAYS.index(day) for day in self.strategy.decision_times.params["weekdays"])

    @cached_property
    def decides_single(self) -> bool:
        return bool(self.strategy.orders["single_snapshots"]["policy"] == "decide")

    def decision(self, timeline: Timeline, index: int) -> str | None:
        """Whether snapshot ``index`` is a decision time: due, missed, skipped by policy, or not one."""
        session = int(timeline.session_of[index])
        if timeline.dates[session].weekday() not in self.weekdays:
            return None
        if timeline.is_single[index]:
            return DUE if self.decides_single else POLICY_SKIP
        first, now = int(timeline.first[session]), int(timeline.minute[index])
        before = int(timeline.minute[index - 1]) if index > first else -1
        if before >= self.decision_minute:
            return None
        if now < self.decision_minute:
            return MISSED if timeline.is_last[index] else None
        return DUE if now - self.decision_minute <= timeline.step_minutes(session) else MISSED

    def decision_indices(self, timeline: Timeline, begin: int, end: int) -> npt.NDArray[np.int64]:
        """All snapshots in ``[begin, end)`` for which :meth:`decision` has something to say."""
        out = []
        low, high = int(timeline.session_of[begin]), int(timeline.session_of[end - 1])
        for session in range(low, high + 1):
            if timeline.dates[session].weekday() in self.weekdays:
                a, b = int(timeline.first[session]), int(timeline.first[session + 1])
                at = a + int(np.searchsorted(timeline.minute[a:b], self.decision_minute))
                out.append(min(at, b - 1))
        indices = np.array(out, np.int64)
        return indices[(indices >= begin) & (indices < end)]


def make_plan(strategy: Strategy, timeline: Timeline) -> Plan:
    return Plan(strategy, timeline.underlying)

"""What each stage of the track has to show for a strategy. A stage's room says it for itself."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from strategies.models import Strategy

Stage = Callable[[Strategy], dict[str, Any]]
stages: list[Stage] = []
"""Filled by the apps of the stages when the process starts."""


def stage(says: Stage) -> Stage:
    """Have a stage's facts on every strategy's track; their names are those of ``strategies.schemas.TrackOut``."""
    if says not in stages:
        stages.append(says)
    return says


def track(strategy: Strategy) -> dict[str, Any]:
    """The facts of all stages together."""
    out: dict[str, Any] = {}
    for says in stages:
        out |= says(strategy)
    return out

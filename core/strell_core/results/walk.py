"""Walking forward: variants chosen on what was known, judged on what came after."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from strell_core.results import metrics
from strell_core.results.metrics import Floats

LEAST_STEPS = 2


class WalkStep(NamedTuple):
    """One choice: sessions ``[train_from, test_from)`` it rests on, ``[test_from, test_to)`` it is judged on."""

    train_from: int
    test_from: int
    test_to: int
    chosen: int | None
    """Which variant; ``None``: none moved in training, and nothing is held."""
    before: float | None
    """Sharpe ratio a year of the chosen one where it was chosen."""
    after: float | None
    """The same where it is judged; ``None`` where it does not move."""


class Walk(NamedTuple):
    steps: tuple[WalkStep, ...]
    daily: Floats
    """Returns of what was chosen, from the first judged session on."""
    sharpe: float | None
    """Of these."""
    before: float | None
    """Mean of the ratios at which they were chosen."""
    middle: float | None
    """Median of all variants' ratios over the judged sessions."""
    best: float | None
    """The best of them, known with hindsight only."""
    beaten: float | None
    """Share of variants whose ratio is lower than the walk's."""


def walk(daily: npt.NDArray[np.float64], train: int, test: int, anchored: bool = False) -> Walk | None:
    """The variant with the best Sharpe ratio over ``train`` sessions is held for the ``test`` sessions that follow, and
    so on to the end (R. Pardo, *Design, Testing, and Optimization of Trading Systems*, 1992, from memory). ``daily``:
    returns ``(variants, sessions)``. ``anchored``: every choice rests on all sessions before it. The last stretch may be
    shorter; ``None`` with fewer than two.

    A session's return is that of a variant as it ran by itself all along: positions are neither closed nor opened where
    the choice changes."""
    sessions = daily.shape[1]
    steps: list[WalkStep] = []
    held: list[Floats] = []
    for at in range(train, sessions, test):
        begin, end = 0 if anchored else at - train, min(at + test, sessions)
        ratios = [metrics.sharpe(own) for own in daily[:, begin:at]]
        known = [place for place, ratio in enumerate(ratios) if ratio is not None]
        chosen = max(known, key=lambda place: (ratios[place], -place)) if known else None
        own = np.zeros(end - at) if chosen is None else daily[chosen, at:end]
        held.append(own)
        steps.append(WalkStep(begin, at, end, chosen, None if chosen is None else ratios[chosen], metrics.sharpe(own)))
    if len(steps) < LEAST_STEPS:
        return None
    joined = np.concatenate(held)
    made = metrics.sharpe(joined)
    others = [ratio for own in daily[:, train:] if (ratio := metrics.sharpe(own)) is not None]
    chosen_at = [step.before for step in steps if step.before is not None]
    return Walk(
        tuple(steps), joined, made, float(np.mean(chosen_at)) if chosen_at else None,
        float(np.median(others)) if others else None, max(others, default=None),
        None if made is None or not others else float(np.mean([ratio < made for ratio in others])),
    )  # fmt: skip

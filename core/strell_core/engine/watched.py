"""Accounts that tell what of them is asked: what variants share does not rest on an account, or on what of it is known."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from strell_core.engine.known import COUNTS
from strell_core.engine.lives import Beyond
from strell_core.market.tape import NONE
from strell_core.measures.frames import Past

Ints = npt.NDArray[np.int64]
OF_ALL = {"of_underlying": "open_trades", "underlying_entered_today": "all_entered_today"}
"""What of an account is counted by underlying, of which variants have one."""


class Nobody:
    """An account that may not be asked: it answers with an error."""

    memory = ()

    def __init__(self, error: type[Exception]) -> None:
        self._error = error

    def __getattr__(self, name: str) -> int:
        raise self._error(name)


class Watched:
    """An account that notes which counts it is asked for; what a decision asked is all that it rests on."""

    def __init__(self, counts: Ints, funds: Callable[[], tuple[float, float]]) -> None:
        self._counts, self._funds = counts, funds
        self.asked = [NONE] * len(COUNTS)
        self.of_funds = False
        self.memory = ()

    def __getattr__(self, name: str) -> int:
        name = OF_ALL.get(name, name)
        if name not in COUNTS:
            raise AttributeError(name)
        place = COUNTS.index(name)
        self.asked[place] = int(self._counts[place])
        return self.asked[place]

    def funds(self) -> tuple[float, float]:
        self.of_funds = True
        return self._funds()

    def past(self) -> Past:
        raise Beyond

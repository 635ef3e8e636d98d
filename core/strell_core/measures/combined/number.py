"""A plain number."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

import numpy as np

from strell_core.market.market import Market
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Frame
from strell_core.measures.measure import Measure, Params, Series, measures


@dataclass(frozen=True)
class Number(Measure):
    def over(self, frame: Frame, params: Params) -> Series:
        return np.full(frame.end - frame.begin, float(params["value"]))

    def by_session(self, market: Market, symbol: str, params: Params, units_of: dt.date | None = None) -> Series:
        return np.full(len(market.timeline(symbol).dates), float(params["value"]))


measures.register(
    Number(
        Declaration(
            id="number", section="measure", title="A number", sentence="{value}",
            params=(Param("value", "amount", "Number", 0.0, -1e9, 1e9, 0.0001),),
            explains="A number, in the unit of what it is compared with.", example="30",
            words=("level", "constant"), scope="combined", clock="constant",
        )
    )
)  # fmt: skip

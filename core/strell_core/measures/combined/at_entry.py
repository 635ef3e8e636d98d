"""A market's value as it was when the position was opened."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from strell_core.measures import values
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Frame
from strell_core.measures.measure import Measure, Params, Series, measures

DECLARATION = Declaration(
    id="at_entry", usual=("below", {"measure": "price"}), section="measure", title="As it was at entry", sentence="{of}, as it was at entry",
    params=(Param("of", "value", "Of", {"measure": "price"}, scopes=("market", "clock", "event", "series")),),
    explains="A value of the market at the last snapshot not after the position's first fill; in points those of today, where the "
    "underlying was split since. Without a position it does not exist.",
    example="the underlying's price, as it was at entry", words=("frozen", "opening", "since entry"), scope="position", clock="constant",
)  # fmt: skip


@dataclass(frozen=True)
class AtEntry(Measure):
    def over(self, frame: Frame, params: Params) -> Series | None:
        if frame.position is None:
            return None
        place = frame.position.opened_place
        if place is None:
            return np.full(frame.end - frame.begin, np.nan)
        out = np.full(frame.end - frame.begin, np.nan)
        for here, day in frame.by_units():
            entry = Frame(frame.market, place, place + 1, frame.symbol, units_of=day)
            found = values.over(params["of"], entry)
            if found is None:
                return None
            out[here] = found[0]
        return out


measures.register(AtEntry(DECLARATION))

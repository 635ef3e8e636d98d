"""What every strike has to be before a pick may take it."""

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from strell_core.market.view import ChainView, ExpirationSlice
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import TRUE, Params, PickedLeg, Verdict
from strell_core.strategy.kinds import EntryFrame, StructureCondition, structure_conditions

DECLARATION = Declaration(
    id="strike_filter", section="legs", title="Strikes that may be picked",
    sentence="Pick only strikes with a bid, a bid–ask width of at most {width} of mid and open interest of at least {interest}.",
    params=(Param("width", "integer", "Width at most", 30, 1, 200, 1, "%"), Param("interest", "integer", "Open interest at least", 0, 0, 1_000_000)),
    explains="Every pick passes over strikes that nobody bids for, whose ask less bid is wider than so much of mid, or of which fewer "
    "contracts are open as last published; histories that tell no open interest pass at least 0.",
    begins={"interest": 100}, example="Pick only strikes with a bid, a bid–ask width of at most 30 % of mid and open interest of at least 100.",
    words=("liquidity", "filter", "open interest", "spread", "minimum bid"), scope="structure", once=True,
    when_true="the strikes picked are so", when_false="no strike is so",
)  # fmt: skip


def judge(frame: EntryFrame, legs: Sequence[PickedLeg], view: ChainView, params: Params) -> Verdict:
    return Verdict(TRUE, {})


def allows(chain: ExpirationSlice, params: Params) -> npt.NDArray[np.bool_]:
    bid, ask = chain.bid.astype(np.int64), chain.ask.astype(np.int64)
    narrow = 200 * (ask - bid) <= params["width"] * (ask + bid)
    enough = np.maximum(chain.open_interest, 0) >= params["interest"]
    found: npt.NDArray[np.bool_] = (bid > 0) & narrow & enough
    return found


structure_conditions.register(StructureCondition(DECLARATION, judge, allows=allows))

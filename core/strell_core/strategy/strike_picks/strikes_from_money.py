"""At the money by the forward, plus or minus a number of listed strikes."""

import numpy as np

from strell_core.market.view import ChainView, ExpirationSlice
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Ints, Params
from strell_core.strategy.kinds import Picking, StrikePick, strike_picks

DECLARATION = Declaration(
    id="strikes_from_money", section="strike pick", title="strikes from the money",
    sentence="{strikes} (± {within})",
    params=(
        Param("strikes", "integer", "Strikes", 0, -30, 30, by_sign=("{n|strike|strikes} out of the money", "at the money", "{n|strike|strikes} in the money")),
        Param("within", "integer", "At most away", 3, 0, 30),
    ),
    explains="Starts at the listed strike nearest to the forward and counts listed strikes outward (calls up, "
    "puts down); 0 is at the money, negative values lie in the money. None when there is no forward. "
    "Where that strike has no valid quote the nearest one is taken, so many listed strikes away at most.",
    example="Buy 1 call at the money (± 3)", words=("at the money", "ATM", "offset"),
)  # fmt: skip


def distance(chain: ExpirationSlice, picking: Picking, params: Params) -> Ints:
    listed = np.flatnonzero(chain.ask > 0)
    if not chain.forward > 0 or len(listed) == 0:
        return np.full(len(chain.strikes), -1, np.int64)
    centre = int(np.argmin(np.abs(chain.strikes[listed] - chain.forward)))
    at = centre + (1 if chain.right == "call" else -1) * params["strikes"]
    out = np.full(len(chain.strikes), -1, np.int64)
    if 0 <= at < len(listed):
        rank = np.abs(np.arange(len(listed)) - at)
        out[listed] = np.where(chain.valid[listed], rank, -1)
    return out


def tolerance(view: ChainView, params: Params) -> int:
    return int(params["within"])


strike_picks.register(StrikePick(DECLARATION, distance, tolerance))

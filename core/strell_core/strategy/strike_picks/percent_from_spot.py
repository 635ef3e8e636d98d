"""A strike a share of the underlying's price out of the money."""

from decimal import Decimal

import numpy as np

from strell_core.market.instruments import STRIKE_SCALE
from strell_core.market.view import ChainView, ExpirationSlice
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Ints, Params
from strell_core.strategy import compiled
from strell_core.strategy.compiled import Numbers
from strell_core.strategy.kinds import Picking, StrikePick, strike_picks

DECLARATION = Declaration(
    id="percent_from_spot", section="strike pick", title="away from spot",
    sentence="{percent} (± {within})",
    params=(
        Param("percent", "number", "Away from spot", 3.0, -20, 40, 0.1, "%", by_sign=("{n} out of the money", "at the money", "{n} in the money")),
        Param("within", "number", "At most away", 5.0, 0.1, 40, 0.1, "%"),
    ),
    explains="The listed strike nearest to spot plus (calls) or minus (puts) the share of spot. Negative values "
    "lie in the money. A strike farther away than allowed, in percent of spot, is not taken.",
    example="Sell 1 put 3.0 % out of the money (± 5.0 %)", words=("moneyness", "percent", "points away"), unit="%",
)  # fmt: skip


def distance(chain: ExpirationSlice, picking: Picking, params: Params) -> Ints:
    sign = 1 if chain.right == "call" else -1
    strikes = np.rint(chain.strikes * STRIKE_SCALE).astype(np.int64)
    away = compiled.from_share.py_func(strikes, picking.view.spot, sign, round(params["percent"] * 10))
    return np.where(chain.valid, away, -1)


def tolerance(view: ChainView, params: Params) -> int:
    return view.spot * int(round(params["within"] * 10))


def numbers(params: Params, quantum: Decimal) -> Numbers:
    within = int(round(params["within"] * 10))
    return Numbers(compiled.PERCENT, round(params["percent"] * 10), within=within)


strike_picks.register(StrikePick(DECLARATION, distance, tolerance, numbers))

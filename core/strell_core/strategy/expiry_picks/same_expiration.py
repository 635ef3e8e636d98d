"""The expiration another leg has."""

import datetime as dt
from collections.abc import Sequence

from strell_core.measures.declaration import Declaration
from strell_core.measures.frames import Params
from strell_core.strategy.kinds import ExpiryPick, Picking, expiry_picks

DECLARATION = Declaration(
    id="same_expiration", section="expiry pick", title="same as the first leg",
    sentence="the same expiration", params=(),
    explains="The expiration of the strategy's first leg.",
    example="in the same expiration", words=("same",),
)  # fmt: skip


def choose(picking: Picking, listed: Sequence[dt.date], params: Params) -> list[dt.date]:
    first = picking.first
    return [first] if first is not None and first in listed else []


expiry_picks.register(ExpiryPick(DECLARATION, choose, stands_alone=False))

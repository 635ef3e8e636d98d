"""The nearest expiration with which the whole structure passes its checks."""

import datetime as dt
from collections.abc import Sequence

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Params
from strell_core.strategy.kinds import ExpiryPick, Picking, expiry_picks

DECLARATION = Declaration(
    id="walk_out", section="expiry pick", title="walk out until the checks pass",
    sentence="the nearest expiration, {from} to {to|day|days} away, with which the whole structure passes its checks",
    params=(
        Param("from", "integer", "Not nearer than", 5, 0, 400),
        Param("to", "integer", "Not further than", 45, 0, 400),
    ),
    explains="Looks at listed expirations in calendar days from today, the nearest first. The first with which every leg can be picked and "
    "every check on the structure holds is taken; where there is none, what stands in the way of the nearest is said. Several "
    "legs that walk out take their steps together.",
    example="in the nearest expiration, 5 to 45 days away, with which the whole structure passes its checks",
    words=("first", "next", "until", "checks", "walk"),
)  # fmt: skip


def choose(picking: Picking, listed: Sequence[dt.date], params: Params) -> list[dt.date]:
    today = picking.view.date
    return sorted(date for date in listed if params["from"] <= (date - today).days <= params["to"])


expiry_picks.register(ExpiryPick(DECLARATION, choose, walks=True))

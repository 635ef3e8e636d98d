"""The expiration nearest to a number of days away."""

import datetime as dt
from collections.abc import Sequence

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Params
from strell_core.strategy.kinds import ExpiryPick, Picking, expiry_picks

DECLARATION = Declaration(
    id="nearest_days", section="expiry pick", title="nearest days",
    sentence="the expiration nearest {days|day|days} ({from}–{to})",
    params=(
        Param("days", "integer", "Days to expiration", 10, 0, 400),
        Param("from", "integer", "Not nearer than", 5, 0, 400),
        Param("to", "integer", "Not further than", 18, 0, 400),
    ),
    explains="Calendar days from today to the expiration. Of two equally near, the earlier. None when no "
    "listed expiration lies in the range.",
    example="in the expiration nearest 10 days (7–14)", words=("DTE", "days to expiration"),
)  # fmt: skip


def choose(picking: Picking, listed: Sequence[dt.date], params: Params) -> list[dt.date]:
    today = picking.view.date
    allowed = [date for date in listed if params["from"] <= (date - today).days <= params["to"]]
    return sorted(allowed, key=lambda date: (abs((date - today).days - params["days"]), date))


expiry_picks.register(ExpiryPick(DECLARATION, choose))

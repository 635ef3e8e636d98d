"""The expiration nearest to a number of days away."""

import datetime as dt
from collections.abc import Callable, Sequence

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Params
from strell_core.strategy import compiled
from strell_core.strategy.compiled import Numbers
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

days_off: Callable[[int, int, int, int], int] = compiled.days_off.py_func


def choose(picking: Picking, listed: Sequence[dt.date], params: Params) -> list[dt.date]:
    today = picking.view.date
    off = [(days_off((date - today).days, params["days"], params["from"], params["to"]), date) for date in listed]
    return [date for away, date in sorted(off) if away >= 0]


def numbers(params: Params) -> Numbers:
    return Numbers(compiled.NEAREST_DAYS, params["days"], params["from"], params["to"])


expiry_picks.register(ExpiryPick(DECLARATION, choose, numbers=numbers))

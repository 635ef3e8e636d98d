"""An expiration a number of days after the first leg's: calendars and diagonals."""

import datetime as dt
from collections.abc import Sequence

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Params
from strell_core.strategy.kinds import ExpiryPick, Picking, expiry_picks

DECLARATION = Declaration(
    id="days_after", section="expiry pick", title="after the first leg",
    sentence="the expiration nearest {days|day|days} after the first leg's",
    params=(Param("days", "integer", "Days later", 14, 1, 300),),
    explains="Calendar days after the first leg's expiration; later than it. Of two equally near, the earlier.",
    example="in the expiration nearest 14 days after the first leg's", words=("calendar", "diagonal"),
)  # fmt: skip


def choose(picking: Picking, listed: Sequence[dt.date], params: Params) -> list[dt.date]:
    other = picking.first
    if other is None:
        return []
    later = [date for date in listed if date > other]
    return sorted(later, key=lambda date: (abs((date - other).days - params["days"]), date))


expiry_picks.register(ExpiryPick(DECLARATION, choose, stands_alone=False))

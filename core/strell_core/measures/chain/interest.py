"""Open interest of the chain: puts against calls, and the strike at which holders would be paid least."""

import datetime as dt
import math

import numpy as np

from strell_core.market.prices import SPOT_SCALE
from strell_core.market.view import ChainView
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.measure import ChainMeasure, Params, measures
from strell_core.measures.smiles import nearest

RATIO = Declaration(
    id="put_call_interest", usual=("above", 1), section="measure", title="Puts against calls", sentence="open interest of puts against calls out to {days} days",
    params=(Param("days", "integer", "Days", 60, 1, 730),),
    explains="Open interest of all puts that expire within so many days, divided by that of the calls, as last published. Unvalued "
    "without calls.",
    example="open interest of puts against calls out to 60 days", words=("put/call ratio", "sentiment", "open interest"), clock="snapshot",
    grid=0.001, needs=("open interest",),
)  # fmt: skip
PAIN = Declaration(
    id="max_pain", section="measure", title="Max pain", sentence="max pain of the expiration nearest {days} days",
    params=(Param("days", "integer", "Days", 10, 0, 730),),
    explains="The strike at which all open options of that expiration together would pay their holders least if it settled there "
    "(common practice), in points; of two the lower. From the open interest as last published; unvalued without any.",
    example="max pain of the expiration nearest 10 days", words=("pin", "open interest", "settlement"), clock="snapshot", unit="points", grid=0.001,
    needs=("open interest",),
)  # fmt: skip


def ratio(view: ChainView, params: Params) -> float:
    sums = {"call": 0, "put": 0}
    for expiration in view.expirations:
        if (expiration - view.date).days <= params["days"]:
            for right in sums:
                sums[right] += int(np.maximum(view.slice(expiration, right).open_interest, 0).sum())
    return sums["put"] / sums["call"] if sums["call"] else math.nan


def max_pain(view: ChainView, params: Params) -> float:
    expiration = nearest(view, params["days"])
    return math.nan if expiration is None else pain_of(view, expiration)


def pain_of(view: ChainView, expiration: dt.date) -> float:
    """The strike of an expiration at which its holders are paid least, points; NaN without open interest."""
    calls, puts = view.slice(expiration, "call"), view.slice(expiration, "put")
    strikes = calls.strikes
    held = {"call": np.maximum(calls.open_interest, 0), "put": np.maximum(puts.open_interest, 0)}
    if not held["call"].any() and not held["put"].any():
        return math.nan
    ends = strikes[:, None]
    paid = (np.maximum(ends - strikes, 0) * held["call"] + np.maximum(strikes - ends, 0) * held["put"]).sum(axis=1)
    return float(strikes[int(np.argmin(paid))])


def distance(view: ChainView, params: Params) -> float:
    return 100 * (view.spot / SPOT_SCALE / max_pain(view, params) - 1)


AWAY = Declaration(
    id="max_pain_distance", usual=("above", 1), section="measure", title="Distance from max pain",
    sentence="the price's distance from max pain of the expiration nearest {days} days",
    params=(Param("days", "integer", "Days", 10, 0, 730),),
    explains="The underlying's price against max pain, in percent of it: above 0 it stands higher.",
    example="the price's distance from max pain of the expiration nearest 10 days", words=("pin", "open interest"), clock="snapshot", unit="%", grid=0.01,
    needs=("open interest",),
)  # fmt: skip

for _declaration, _value in ((RATIO, ratio), (PAIN, max_pain), (AWAY, distance)):
    measures.register(ChainMeasure(_declaration, _value))

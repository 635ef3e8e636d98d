"""What completed sessions moved: closes, gaps, returns, distances, and the table of what followed a move."""

import math
from typing import NamedTuple

import numpy as np

from strell_core.market.daily import DailyHistory
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.measure import MarketMeasure, Params, Series, measures

CLOSE = Declaration(
    id="close_before", section="measure", title="Last close", sentence="the last close", params=(),
    explains="The settlement price of the last completed session, in points, in the units of now.", example="the last close",
    words=("close", "previous close", "yesterday"), unit="points", grid=0.01, needs=("daily closes",),
)  # fmt: skip
RETURN = Declaration(
    id="session_return", usual=("below", -2), section="measure", title="Return over sessions", sentence="the return over {sessions|session|sessions}",
    params=(Param("sessions", "integer", "Sessions", 5, 1, 252),),
    explains="The last close against the one so many sessions before it, in percent.", example="the return over 5 sessions",
    words=("momentum", "change", "performance"), unit="%", grid=0.01,
    warm_up="unvalued until one more session than its length is known", needs=("daily closes",),
)  # fmt: skip
GAP = Declaration(
    id="last_gap", usual=("below", -1), section="measure", title="Gap of the last session", sentence="the gap at which the last session opened",
    params=(),
    explains="The first price of the last completed session against the close before it, in percent. Unvalued after "
    "a session with a single snapshot.",
    example="the gap at which the last session opened", words=("gap", "open"), unit="%", grid=0.01, needs=("daily ranges",),
)  # fmt: skip
EXTREME = Declaration(
    id="from_extreme", usual=("below", -5), section="measure", title="Distance from the highest or lowest close",
    sentence="the last close's distance from the {which} close over {sessions} sessions",
    params=(
        Param("which", "choice", "Which", "highest", choices={"highest": "highest", "lowest": "lowest"}),
        Param("sessions", "integer", "Sessions", 252, 2, 756),
    ),
    explains="In percent of that close: 0 at it, negative below the highest, positive above the lowest.",
    example="the last close's distance from the highest close over 252 sessions", words=("drawdown", "high", "low", "breakout"),
    unit="%", grid=0.01, warm_up="unvalued until its length is known", needs=("daily closes",),
)  # fmt: skip
PERCENTILE = Declaration(
    id="iv_percentile", usual=("above", 50), section="measure", title="IV percentile", sentence="IV percentile over {sessions|session|sessions}",
    params=(Param("sessions", "integer", "Sessions", 252, 5, 756),),
    explains="Share of the other sessions in the window whose at-the-money IV was below that of the latest completed "
    "one, in percent (common practice). Unvalued until the window is full, and with a day in it that has no value.",
    example="IV percentile over 252 sessions", words=("implied volatility", "rank"), unit="%", grid=0.01,
    warm_up="unvalued until its window is full", needs=("chain",),
)  # fmt: skip
BUCKETS = (-math.inf, -2.0, -1.0, -0.5, 0.0, 0.5, 1.0, 2.0, math.inf)
"""Edges of moves in percent; each bucket has its lower edge and not its upper one."""
TABLE = Declaration(
    id="move_chance", usual=("at least", 60), section="measure", title="Chance of a move, given the move before",
    sentence="the chance of {from} to {to} over {horizon|session|sessions}, given the move over the {given|session|sessions} before "
    "(counted over {sessions} sessions, at least {least|time|times})",
    params=(
        Param("from", "number", "Not below", -1.0, -50, 50, 0.1, "%"), Param("to", "number", "Not above", 1.0, -50, 50, 0.1, "%"),
        Param("horizon", "integer", "Next sessions", 1, 1, 60), Param("given", "integer", "Sessions before", 1, 1, 60),
        Param("sessions", "integer", "Counted over", 504, 60, 2520), Param("least", "integer", "At least so many cases", 20, 1, 500),
    ),
    explains="Of the times in the counted sessions when the move before fell into the same bucket as it does now "
    "(edges at −2, −1, −0.5, 0, 0.5, 1 and 2 %), the share in which the next sessions moved by between the two bounds, "
    "in percent. Close to close, completed sessions only. Unvalued with fewer cases than wanted.",
    example="the chance of −1.0 % to 1.0 % over 1 session, given the move over the 1 session before (counted over 504 sessions, at least 20 times)",
    words=("conditional", "probability", "historical odds", "move table"), unit="%", grid=0.01,
    warm_up="unvalued until there are enough cases", needs=("daily closes",),
)  # fmt: skip


class Chance(NamedTuple):
    """Of so many cases so many moved as asked; the bounds are Wilson's for 95 %, shares."""

    cases: int
    hits: int
    low: float
    high: float


def wilson(hits: int, cases: int, z: float = 1.959963984540054) -> tuple[float, float]:
    """Interval of a share: E. B. Wilson, "Probable inference, the law of succession, and statistical inference", Journal
    of the American Statistical Association 22 (1927)."""
    if cases == 0:
        return 0.0, 1.0
    share = hits / cases
    middle = (share + z * z / (2 * cases)) / (1 + z * z / cases)
    half = z / (1 + z * z / cases) * math.sqrt(share * (1 - share) / cases + z * z / (4 * cases * cases))
    return max(0.0, middle - half), min(1.0, middle + half)


def move_table(close: Series, given: int, horizon: int, low: float, high: float) -> list[Chance]:
    """For each bucket of the move before, how often the next sessions moved by ``low`` to ``high`` percent."""
    before, after = _moves(close, given), _ahead(close, horizon)
    both = ~np.isnan(before) & ~np.isnan(after)
    bucket = np.searchsorted(BUCKETS, before[both], side="right") - 1
    hit = (after[both] >= low - 1e-9) & (after[both] <= high + 1e-9)
    out = []
    for number in range(len(BUCKETS) - 1):
        cases, hits = int((bucket == number).sum()), int((hit & (bucket == number)).sum())
        out.append(Chance(cases, hits, *wilson(hits, cases)))
    return out


def _moves(close: Series, n: int) -> Series:
    """Percent from the close ``n`` sessions before."""
    out = np.full(len(close), np.nan)
    if len(close) > n:
        out[n:] = 100 * (close[n:] / close[:-n] - 1)
    return out


def _ahead(close: Series, n: int) -> Series:
    """Percent to the close ``n`` sessions later."""
    out = np.full(len(close), np.nan)
    if len(close) > n:
        out[:-n] = 100 * (close[n:] / close[:-n] - 1)
    return out


def last_close(history: DailyHistory, params: Params) -> Series:
    return history.close.astype(np.float64)


def session_return(history: DailyHistory, params: Params) -> Series:
    return _moves(history.close, params["sessions"])


def gap(history: DailyHistory, params: Params) -> Series:
    out = np.full(len(history.close), np.nan)
    out[1:] = 100 * (history.open[1:] / history.close[:-1] - 1)
    return out


def from_extreme(history: DailyHistory, params: Params) -> Series:
    n, close = params["sessions"], history.close
    out = np.full(len(close), np.nan)
    if len(close) >= n:
        windows = np.lib.stride_tricks.sliding_window_view(close, n)
        extreme = windows.max(axis=1) if params["which"] == "highest" else windows.min(axis=1)
        out[n - 1 :] = 100 * (close[n - 1 :] / extreme - 1)
    return out


def percentile(history: DailyHistory, params: Params) -> Series:
    n, iv = params["sessions"], history.atm_iv
    out = np.full(len(iv), np.nan)
    if len(iv) >= n:
        windows = np.lib.stride_tricks.sliding_window_view(iv, n)
        share = 100 * (windows[:, :-1] < windows[:, -1:]).mean(axis=1)
        out[n - 1 :] = np.where(np.isnan(windows).any(axis=1), np.nan, share)
    return out


def chance(history: DailyHistory, params: Params) -> Series:
    """At each session, counted over the moves that were complete by its close."""
    close, horizon = history.close, params["horizon"]
    before, after = _moves(close, params["given"]), _ahead(close, horizon)
    bucket = np.searchsorted(BUCKETS, before, side="right") - 1
    hit = (after >= params["from"] - 1e-9) & (after <= params["to"] + 1e-9)
    out = np.full(len(close), np.nan)
    for session in range(len(close)):
        if np.isnan(before[session]):
            continue
        # a move begun at session i is over at i + horizon
        ends = session - horizon + 1
        begins = max(0, session + 1 - params["sessions"])
        if ends <= begins:
            continue
        same = (bucket[begins:ends] == bucket[session]) & ~np.isnan(before[begins:ends])
        cases = int(same.sum())
        if cases >= params["least"]:
            out[session] = 100 * float(hit[begins:ends][same].sum()) / cases
    return out


for _declaration, _series in (
    (CLOSE, last_close), (RETURN, session_return), (GAP, gap), (EXTREME, from_extreme), (PERCENTILE, percentile), (TABLE, chance),
):  # fmt: skip
    measures.register(MarketMeasure(_declaration, _series))

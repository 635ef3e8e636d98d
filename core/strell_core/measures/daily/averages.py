"""Moving averages of closes, and where price stands to bands and channels around them; all computed by TA-Lib."""

import numpy as np
import talib

from strell_core.measures.bars import BARS, Bars, Indicator
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.measure import Params, Series, measures

AVERAGES = {"simple": "simple", "exponential": "exponential"}
MOVING = Declaration(
    id="moving_average", section="measure", title="Moving average", sentence="the {kind} average over {sessions} {bars}",
    params=(
        Param("kind", "choice", "Kind", "simple", choices=AVERAGES), Param("sessions", "integer", "Length", 50, 2, 250),
        BARS,
    ),
    explains="Average of the last closes in points: simple, or exponential with weight 2 ÷ (length + 1), begun with "
    "the simple one. Uses completed sessions or bars only.",
    example="the simple average over 200 sessions", words=("SMA", "EMA", "trend"), unit="points", grid=0.01,
    warm_up="unvalued until its length is known", needs=("daily closes",),
)  # fmt: skip
MACD = Declaration(
    id="macd", usual=("above", 0), section="measure", title="MACD", sentence="the MACD {line} of {fast}, {slow} and {smooth} {bars}",
    params=(
        Param("line", "choice", "Line", "histogram", choices={"line": "line", "signal": "signal", "histogram": "histogram"}),
        Param("fast", "integer", "Fast", 12, 2, 100), Param("slow", "integer", "Slow", 26, 3, 200),
        Param("smooth", "integer", "Signal", 9, 1, 100), BARS,
    ),
    explains="Fast less slow exponential average of closes (line), its exponential average (signal), and line less "
    "signal (histogram), in points. G. Appel's, as TA-Lib computes it. Uses completed sessions or bars only.",
    example="the MACD histogram of 12, 26 and 9 sessions", words=("momentum", "trend", "crossover"), unit="points", grid=0.001,
    warm_up="unvalued until slow and signal lengths are known", needs=("daily closes",),
)  # fmt: skip
BAND = Declaration(
    id="band_position", usual=("below", 0), section="measure", title="Position in the Bollinger band",
    sentence="the position in the band of {width} deviations over {sessions} {bars}",
    params=(
        Param("width", "number", "Deviations", 2.0, 0.5, 5, 0.1), Param("sessions", "integer", "Length", 20, 2, 250),
        BARS,
    ),
    explains="Where the close stands between the lower band (0) and the upper one (100), so many standard deviations (of the "
    "population) around its simple average; below 0 and above 100 outside. Unvalued while the band has no width.",
    example="the position in the band of 2.0 deviations over 20 sessions", words=("Bollinger", "band", "overbought", "oversold"),
    unit="%", grid=0.01, warm_up="unvalued until its length is known", needs=("daily closes",),
)  # fmt: skip
CHANNEL = Declaration(
    id="channel_position", usual=("below", 0), section="measure", title="Position in the regression channel",
    sentence="the position in the regression channel of {width} deviations over {sessions} {bars}",
    params=(
        Param("width", "number", "Deviations", 2.0, 0.5, 5, 0.1), Param("sessions", "integer", "Length", 50, 3, 250),
        BARS,
    ),
    explains="Where the close stands between the lower edge (0) and the upper one (100) of a channel: the straight "
    "line fitted to the closes by least squares, at its end, plus and minus so many standard deviations (of the "
    "population) of the closes from it. Unvalued while the channel has no width.",
    example="the position in the regression channel of 2.0 deviations over 50 sessions", words=("linear regression", "channel", "trend"),
    unit="%", grid=0.01, warm_up="unvalued until its length is known", needs=("daily closes",),
)  # fmt: skip
RANGE = Declaration(
    id="true_range", usual=("above", 10), section="measure", title="Average true range", sentence="the average true range over {sessions} {bars}",
    params=(Param("sessions", "integer", "Length", 14, 1, 100), BARS),
    explains="Wilder's average of the true range (high less low, with the close before), in points. Sessions with a "
    "single snapshot have no range: unvalued from there on for as long as such a session is averaged in.",
    example="the average true range over 14 bars of 30 minutes", words=("ATR", "range", "volatility"), unit="points", grid=0.01,
    warm_up="unvalued until one more session than its length is known", needs=("daily ranges",),
)  # fmt: skip


def moving(bars: Bars, params: Params) -> Series:
    function = talib.SMA if params["kind"] == "simple" else talib.EMA
    values: Series = function(bars.close, timeperiod=params["sessions"])
    return values


def macd(bars: Bars, params: Params) -> Series:
    slow, fast = max(params["slow"], params["fast"]), min(params["slow"], params["fast"])
    if len(bars.close) == 0:
        return bars.close
    line, signal, histogram = talib.MACD(bars.close, fastperiod=fast, slowperiod=slow, signalperiod=params["smooth"])
    values: Series = {"line": line, "signal": signal, "histogram": histogram}[params["line"]]
    return values


def _position(close: Series, low: Series, high: Series) -> Series:
    width = np.where(high - low > 1e-9, high - low, np.nan)
    values: Series = 100 * (close - low) / width
    return values


def band(bars: Bars, params: Params) -> Series:
    high, _, low = talib.BBANDS(
        bars.close, timeperiod=params["sessions"], nbdevup=params["width"], nbdevdn=params["width"]
    )
    return _position(bars.close, low, high)


def channel(bars: Bars, params: Params) -> Series:
    n, close = params["sessions"], bars.close
    end, slope = talib.LINEARREG(close, timeperiod=n), talib.LINEARREG_SLOPE(close, timeperiod=n)
    out = np.full(len(close), np.nan)
    if len(close) >= n:
        windows = np.lib.stride_tricks.sliding_window_view(close, n)
        fitted = end[n - 1 :, None] + slope[n - 1 :, None] * (np.arange(n) - (n - 1))
        out[n - 1 :] = np.sqrt(np.mean((windows - fitted) ** 2, axis=1))
    return _position(close, end - params["width"] * out, end + params["width"] * out)


def true_range(bars: Bars, params: Params) -> Series:
    """TA-Lib's, begun anew after a session without a range."""
    n = params["sessions"]
    out = np.full(len(bars.close), np.nan)
    known = ~np.isnan(bars.high)
    begins = np.flatnonzero(known & ~np.concatenate([[False], known[:-1]]))
    for begin in begins:
        gaps = np.flatnonzero(~known[begin:])
        end = begin + (int(gaps[0]) if len(gaps) else len(known) - begin)
        part = slice(int(begin), int(end))
        if end - begin > n:
            out[part] = talib.ATR(bars.high[part], bars.low[part], bars.close[part], timeperiod=n)
    return out


for _declaration, _series in ((MOVING, moving), (MACD, macd), (BAND, band), (CHANNEL, channel), (RANGE, true_range)):
    measures.register(Indicator(_declaration, _series))

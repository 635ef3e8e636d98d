"""What became of trades and of equity: losses, today's P/L, the distance from the high; and what is open now."""

import math

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Account, Ended
from strell_core.measures.measure import AccountMeasure, Params, measures
from strell_core.measures.position.exposure import net_greek
from strell_core.measures.sensitivities import NAMES

OF = Param("of", "choice", "Of", "all", choices={"all": "the strategy", "entry": "this entry"})
COUNTED = "A loss is a closed trade that lost money, costs included."
IN_A_ROW = Declaration(
    id="losses_in_a_row", usual=("at least", 2), section="measure", title="Losses in a row", sentence="losses in a row of {of}", params=(OF,),
    explains=f"Closed trades since the last one that was no loss. {COUNTED}", example="losses in a row of the strategy",
    words=("streak", "losing", "circuit breaker"), scope="account", clock="snapshot", grid=1,
)  # fmt: skip
SINCE = Declaration(
    id="sessions_since_loss", usual=("at most", 2), section="measure", title="Sessions since the last loss", sentence="sessions since the last loss of {of}",
    params=(OF,), explains=f"0 in the session in which it was closed. Before the first it does not exist. {COUNTED}",
    example="sessions since the last loss of the strategy", words=("cool down", "pause"), scope="account", clock="snapshot", grid=1,
)  # fmt: skip
LOST = Declaration(
    id="losses_today", usual=("at least", 2), section="measure", title="Losses today", sentence="losses of {of} today", params=(OF,),
    explains=f"Trades closed at a loss in this session. {COUNTED}", example="losses of the strategy today", words=("per day", "stop for today"),
    scope="account", clock="snapshot", grid=1,
)  # fmt: skip
REALISED = Declaration(
    id="realised_today", usual=("at most", -1000), section="measure", title="P/L realised today", sentence="P/L that {of} realised today", params=(OF,),
    explains="Of trades closed in this session, in money, costs included.", example="P/L that the strategy realised today",
    words=("daily", "closed"), scope="account", clock="snapshot", unit="money", grid=0.01,
)  # fmt: skip
TODAY = Declaration(
    id="pnl_today", usual=("at most", -1000), section="measure", title="P/L today", sentence="P/L today", params=(),
    explains="Equity now less equity at the last session's end, in money.", example="P/L today",
    words=("daily loss", "day stop", "session"), scope="account", clock="snapshot", unit="money", grid=0.01,
)  # fmt: skip
BELOW_HIGH = Declaration(
    id="below_high", usual=("above", 5), section="measure", title="Equity below its high", sentence="equity below its high in {unit}",
    params=(Param("unit", "choice", "In", "percent", choices={"percent": "%", "money": "money"}),),
    explains="The highest equity of all session ends so far less equity now, 0 at a new high.",
    example="equity below its high in %", words=("drawdown", "high-water mark"), scope="account", clock="snapshot", grid=0.0001,
)  # fmt: skip
GREEK = Declaration(
    id="account_greek", usual=("above", 100), section="measure", title="Greek of all open trades", sentence="the {greek} of {of}",
    params=(
        Param("greek", "choice", "Greek", "delta", choices={name: name for name in NAMES}),
        Param("of", "choice", "Of", "all", choices={"all": "all open trades", "underlying": "open trades of this underlying"}),
    ),
    explains="As of a position, of all of them together, in money; 0 without any. Deltas of several underlyings are added up as they are: "
    "money for a point of each. Unvalued while a leg has none.",
    example="the delta of all open trades", words=("net delta", "exposure", "vega", "limit"), scope="account", clock="snapshot", grid=0.0001,
)  # fmt: skip
TRADE = Declaration(
    id="open_trade", usual=("at most", -500), section="measure", title="Of one open trade", sentence="{what} of the {which} open trade",
    params=(
        Param("which", "choice", "Which", "newest", choices={"newest": "newest", "oldest": "oldest", "worst": "worst"}),
        Param("what", "choice", "What", "pnl", choices={"pnl": "P/L", "days": "calendar days held", "move": "the underlying's move since entry"}),
    ),
    explains="P/L at mid in money, calendar days since it was opened, or the underlying's move since in percent. Worst is lowest in P/L at mid. "
    "Without an open trade it does not exist.",
    example="P/L of the newest open trade", words=("scale in", "ladder", "add", "average down", "distance"), scope="account", clock="snapshot", grid=0.0001,
)  # fmt: skip


def _ended(account: Account, params: Params) -> Ended | None:
    if account.past is None:
        return None
    return account.past().all if params["of"] == "all" else account.past().entry


def in_a_row(account: Account, params: Params) -> float:
    found = _ended(account, params)
    return math.nan if found is None else found.in_a_row


def since(account: Account, params: Params) -> float | None:
    found = _ended(account, params)
    return math.nan if found is None else found.since_loss


def lost(account: Account, params: Params) -> float:
    found = _ended(account, params)
    return math.nan if found is None else found.lost_today


def realised(account: Account, params: Params) -> float:
    found = _ended(account, params)
    return math.nan if found is None else found.pnl_today


def today(account: Account, params: Params) -> float:
    if account.past is None or account.funds is None:
        return math.nan
    return account.funds()[0] - account.past().opened_with


def below_high(account: Account, params: Params) -> float:
    if account.past is None or account.funds is None:
        return math.nan
    equity, high = account.funds()[0], account.past().high
    below = max(0.0, high - equity)
    return below if params["unit"] == "money" else 100 * below / high if high > 0 else math.nan


def greek(account: Account, params: Params) -> float:
    if account.past is None:
        return math.nan
    every = params["of"] == "all"
    trades = [trade for trade in account.past().trades if every or trade.symbol == account.symbol]
    return sum((float(net_greek(trade, params)[0]) for trade in trades), 0.0)


def open_trade(account: Account, params: Params) -> float | None:
    if account.past is None:
        return math.nan
    trades = account.past().trades
    if not trades:
        return None
    if params["which"] == "worst":
        if not all(trade.valued[0] for trade in trades):
            return math.nan
        trade = min(trades, key=lambda item: int(item.mid[0]) * item.worth)
    else:
        trade = trades[-1] if params["which"] == "newest" else trades[0]
    if params["what"] == "pnl":
        return int(trade.mid[0]) * trade.worth if trade.valued[0] else math.nan
    if params["what"] == "days":
        return float(int(trade.ordinal[0]) - trade.opened_on.toordinal())
    place = trade.opened_place
    return math.nan if place is None else 100 * (int(trade.spot[0]) / int(trade.timeline.spot[place]) - 1)


for _declaration, _value in (
    (IN_A_ROW, in_a_row), (SINCE, since), (LOST, lost), (REALISED, realised), (TODAY, today), (BELOW_HIGH, below_high), (GREEK, greek),
    (TRADE, open_trade),
):  # fmt: skip
    measures.register(AccountMeasure(_declaration, _value))

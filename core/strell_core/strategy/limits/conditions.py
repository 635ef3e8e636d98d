"""Limits on any value of the account or the market: nothing is entered while it holds, trades are closed when it does."""

from strell_core.measures.declaration import Param
from strell_core.measures.frames import Params
from strell_core.strategy import conditions
from strell_core.strategy.condition_truths import MARKET
from strell_core.strategy.kinds import LimitRule, limit_rules

SCOPES = (*MARKET, "account")
NO_ENTRY = conditions.declared(
    "bars", id="no_entry", section="limits", title="No entry while", sentence="No entry while {left} is {is} {right}{looks}{also}{until}.",
    params=conditions.params(SCOPES, {"measure": "losses_today"}, "at least", 1.0),
    explains="Asked before every entry and re-entry of the strategy. A limit that cannot be told (a value is not there) bars as well.",
    example="No entry while losses of the strategy today is at least 1.", words=("limit", "stop for today", "circuit breaker", "pause", "per day"),
)  # fmt: skip
CLOSE = conditions.declared(
    "closes", id="close_trades", section="limits", title="Close trades when",
    sentence="Close {which} at the market when {left} is {is} {right}{looks}{also}{until}, and enter nothing while it holds, "
    "that day and {sessions|session|sessions} longer.",
    params=(
        Param("which", "choice", "Which", "all", choices={"all": "all trades", "newest": "the newest trade"}),
        *conditions.params(SCOPES, {"measure": "pnl_today"}, "at most", -1000.0),
        Param("sessions", "integer", "Sessions longer", 0, 0, 250),
    ),
    explains="Asked on every snapshot with open trades, before exits, and before every entry. The newest: one at a time. What cannot be told "
    "closes nothing, and lets nothing be entered.",
    example="Close all trades at the market when P/L today is at most −1 000, and enter nothing while it holds, that day and 0 sessions longer.",
    words=("daily loss", "day stop", "flatten", "drawdown", "limit", "net delta"),
)  # fmt: skip


def which(params: Params) -> str:
    return str(params["which"])


def rests(params: Params) -> int:
    return int(params["sessions"])


limit_rules.register(LimitRule(NO_ENTRY, bars=True))
limit_rules.register(LimitRule(CLOSE, bars=True, closes=which, rests=rests))

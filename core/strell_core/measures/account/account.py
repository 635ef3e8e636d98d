"""The account: how much is there and free, and how much is open."""

import math

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Account
from strell_core.measures.measure import AccountMeasure, Params, measures

WHOSE = {"all": "the strategy", "entry": "this entry", "underlying": "this underlying"}
OPEN = Declaration(
    id="open_trades", usual=("below", 3), section="measure", title="Open trades", sentence="open trades of {of}",
    params=(Param("of", "choice", "Of", "all", choices=WHOSE),),
    explains="Trades that are entering, open or leaving now. This underlying is the one that the entry trades.", example="open trades of this entry", words=("positions", "count", "flat"),
    scope="account", clock="snapshot", grid=1,
)  # fmt: skip
ENTERED = Declaration(
    id="entries_today", usual=("below", 1), section="measure", title="Entries today", sentence="entries of {of} today",
    params=(Param("of", "choice", "Of", "entry", choices=WHOSE),),
    explains="How often it was entered in this session, re-entries and entries that lapsed among them.", example="entries of this entry today",
    words=("per day", "count", "once a day"), scope="account", clock="snapshot", grid=1,
)  # fmt: skip
EQUITY = Declaration(
    id="equity", usual=("at least", 10000), section="measure", title="Equity", sentence="equity", params=(),
    explains="Cash and open trades at mid, of the run or deployment, in money.", example="equity",
    words=("account", "balance"), scope="account", clock="snapshot", unit="money", grid=0.01,
)  # fmt: skip
FREE = Declaration(
    id="free_capital", usual=("at least", 5000), section="measure", title="Free capital", sentence="free capital", params=(),
    explains="Equity less what open trades and opening orders need by the strategy-based rules, in money.",
    example="free capital", words=("margin", "buying power"), scope="account", clock="snapshot", unit="money", grid=0.01,
)  # fmt: skip


def open_trades(account: Account, params: Params) -> float:
    counts = {"all": "open_trades", "entry": "of_entry", "underlying": "of_underlying"}
    return float(getattr(account, counts[params["of"]]))


def entries_today(account: Account, params: Params) -> float:
    counts = {"all": "all_entered_today", "entry": "entered_today", "underlying": "underlying_entered_today"}
    return float(getattr(account, counts[params["of"]]))


def equity(account: Account, params: Params) -> float:
    return math.nan if account.funds is None else account.funds()[0]


def free(account: Account, params: Params) -> float:
    return math.nan if account.funds is None else account.funds()[1]


for _declaration, _value in ((OPEN, open_trades), (ENTERED, entries_today), (EQUITY, equity), (FREE, free)):
    measures.register(AccountMeasure(_declaration, _value))

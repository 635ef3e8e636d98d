"""Exits at a share of the opening premium: one for profits on a credit, one for losses on either."""

from functools import partial

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Params, Stretch, Truths, Values
from strell_core.strategy import compiled
from strell_core.strategy.compiled import Numbers, first_at_least
from strell_core.strategy.kinds import Exit, exits

CREDIT_TARGET = Declaration(
    id="credit_target", section="leave", title="Profit as a share of the credit", sentence="At {percent} of the credit.",
    params=(Param("percent", "integer", "Share of the credit", 50, 1, 100, 1, "%"),),
    explains="True when 100 × P/L ≥ percent × opening credit, at prices at which the position could be closed. "
    "Unvalued on a debit and while a leg cannot be closed. Doubtful marks do not fire it.",
    example="At 50 % of the credit.", words=("profit target", "take profit"), scope="position", unit="%",
    price_basis="closable", tells=('pnl', 'premium'), when_true="P/L {pnl} reached {percent} % of the credit {premium}",
    when_false="P/L {pnl}, needs {percent} % of the credit {premium}", when_unvalued="no credit, or no prices to close at",
)  # fmt: skip
PREMIUM_STOP = Declaration(
    id="premium_stop", section="leave", title="Loss as a share of the premium",
    sentence="At a loss of {percent} of the opening premium.",
    params=(Param("percent", "integer", "Share of the premium", 150, 1, 1000, 1, "%"),),
    explains="True when 100 × loss ≥ percent × opening premium (credit or debit, without sign), at mid. "
    "Unvalued while a leg has no valid quote, and when the premium was zero.",
    example="At a loss of 150 % of the opening premium.", words=("stop loss", "loss limit"), scope="position",
    unit="%", price_basis="mid", tells=('pnl', 'loss', 'premium'), when_true="loss {loss} reached {percent} % of the premium {premium}",
    when_false="P/L {pnl}, leaves at a loss of {percent} % of {premium}", when_unvalued="a leg has no valid quote",
)  # fmt: skip
DEBIT_TARGET = Declaration(
    id="debit_target", section="leave", title="Profit as a share of the debit", sentence="At a profit of {percent} of the debit.",
    params=(Param("percent", "integer", "Share of the debit", 50, 1, 2000, 1, "%"),),
    explains="True when 100 × P/L ≥ percent × opening debit, at prices at which the position could be closed. "
    "Unvalued on a credit and while a leg cannot be closed. Doubtful marks do not fire it.",
    example="At a profit of 50 % of the debit.", words=("profit target", "take profit", "long premium"),
    scope="position", unit="%", price_basis="closable",
    tells=('pnl', 'premium'), when_true="P/L {pnl} reached {percent} % of the debit {premium}",
    when_false="P/L {pnl}, needs {percent} % of the debit {premium}", when_unvalued="no debit, or no prices to close at",
)  # fmt: skip


def credit_target(stretch: Stretch, params: Params) -> Truths:
    reached = 100 * stretch.closable >= params["percent"] * stretch.opening
    return stretch.judged(reached & ~stretch.doubtful, stretch.valued & (stretch.opening > 0))


def debit_target(stretch: Stretch, params: Params) -> Truths:
    reached = 100 * stretch.closable >= params["percent"] * -stretch.opening
    return stretch.judged(reached & ~stretch.doubtful, stretch.valued & (stretch.opening < 0))


def premium_stop(stretch: Stretch, params: Params) -> Truths:
    reached = -100 * stretch.mid >= params["percent"] * abs(stretch.opening)
    return stretch.judged(reached, stretch.valued & (stretch.opening != 0))


def first_credit_target(stretch: Stretch, params: Params, since: int) -> int:
    return int(first_at_least(stretch.closable, 100, params["percent"] * stretch.opening, stretch.firm, since))


def first_debit_target(stretch: Stretch, params: Params, since: int) -> int:
    return int(first_at_least(stretch.closable, 100, params["percent"] * -stretch.opening, stretch.firm, since))


def first_premium_stop(stretch: Stretch, params: Params, since: int) -> int:
    return int(first_at_least(stretch.mid, -100, params["percent"] * abs(stretch.opening), stretch.valued, since))


def numbers(kind: int, params: Params) -> Numbers:
    return Numbers(kind, params["percent"])


def at_closable(stretch: Stretch, params: Params, i: int) -> Values:
    return {"pnl": int(stretch.closable[i]), "premium": abs(stretch.opening), "percent": params["percent"]}


def at_mid(stretch: Stretch, params: Params, i: int) -> Values:
    mid = int(stretch.mid[i])
    return {"pnl": mid, "loss": -mid, "premium": abs(stretch.opening), "percent": params["percent"]}


exits.register(Exit(
    CREDIT_TARGET, "profit", credit_target, at_closable, first=first_credit_target,
    numbers=partial(numbers, compiled.CREDIT_TARGET),
))  # fmt: skip
exits.register(Exit(
    DEBIT_TARGET, "profit", debit_target, at_closable, first=first_debit_target,
    numbers=partial(numbers, compiled.DEBIT_TARGET),
))  # fmt: skip
exits.register(Exit(
    PREMIUM_STOP, "loss", premium_stop, at_mid, first=first_premium_stop,
    numbers=partial(numbers, compiled.PREMIUM_STOP),
))  # fmt: skip

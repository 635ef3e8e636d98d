"""Lots by what they may lose or take, as a share of equity or in money."""

import math
from collections.abc import Callable, Sequence

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Params, PickedLeg, Structure
from strell_core.measures.structure.structure import capital, max_loss
from strell_core.strategy.kinds import EntryFrame, SizeRule, size_rules

MOST = Param("most", "integer", "At most", 10, 1, 1000)
NONE = "not one whole lot"
SHARE = Param("percent", "number", "Share of equity", 10.0, 0.1, 100, 0.1, "%")
CAPITAL = Declaration(
    id="capital_share", section="size", title="By capital", sentence="As many lots as take {percent} of equity in capital, at most {most}.",
    params=(SHARE, MOST),
    explains="Capital of a lot by the strategy-based rules at mid; rounded down, zero lots is no entry. A structure that takes no "
    "capital beyond its price is sized by that.",
    example="As many lots as take 10.0 % of equity in capital, at most 10.", words=("margin", "percent of account", "buying power"), once=True, when_false=NONE,
)  # fmt: skip
RISK = Declaration(
    id="risk_share", section="size", title="By maximum loss", sentence="As many lots as can lose {percent} of equity, at most {most}.",
    params=(SHARE, MOST),
    explains="Maximum loss of a lot at expiration, opened at bid and ask; rounded down, zero lots is no entry. None where the loss is "
    "unbounded, or for legs that expire apart.",
    begins={"percent": 2.0}, example="As many lots as can lose 2.0 % of equity, at most 10.", words=("risk", "percent of account", "fixed fractional"), once=True, when_false=NONE,
)  # fmt: skip
MONEY = Declaration(
    id="risk_money", section="size", title="By money at risk", sentence="As many lots as can lose {money} in money, at most {most}.",
    params=(Param("money", "amount", "Money", 1000.0, 1, 1e9, 0.01), MOST),
    explains="As *by maximum loss*, with an amount in the account's currency in place of a share.",
    example="As many lots as can lose 1 000 in money, at most 10.", words=("risk", "fixed amount"), once=True, when_false=NONE,
)  # fmt: skip


def whole_lots(money: float, each: float, most: int) -> int:
    """Whole lots for an amount; a hair more than whole counts as whole."""
    if not math.isfinite(each) or not math.isfinite(money) or each <= 0:
        return 0
    return max(0, min(most, math.floor(money / each + 1e-9)))


def _equity(frame: EntryFrame) -> float:
    return math.nan if frame.account.funds is None else frame.account.funds()[0]


def _structure(frame: EntryFrame, legs: Sequence[PickedLeg]) -> Structure | None:
    view = frame.observation.view(frame.symbol)
    return None if view is None else Structure(legs, view)


def by_capital(frame: EntryFrame, legs: Sequence[PickedLeg], params: Params) -> int:
    found = _structure(frame, legs)
    return (
        0 if found is None else whole_lots(_equity(frame) * params["percent"] / 100, capital(found, {}), params["most"])
    )


def _risk(frame: EntryFrame, legs: Sequence[PickedLeg]) -> float:
    found = _structure(frame, legs)
    return math.nan if found is None else max_loss(found, {}) * found.view.underlying.multiplier


def by_risk(frame: EntryFrame, legs: Sequence[PickedLeg], params: Params) -> int:
    return whole_lots(_equity(frame) * params["percent"] / 100, _risk(frame, legs), params["most"])


def by_money(frame: EntryFrame, legs: Sequence[PickedLeg], params: Params) -> int:
    return whole_lots(float(params["money"]), _risk(frame, legs), params["most"])


Lots = Callable[[EntryFrame, Sequence[PickedLeg], Params], int]
_EVERY: tuple[tuple[Declaration, Lots], ...] = ((CAPITAL, by_capital), (RISK, by_risk), (MONEY, by_money))
for _declaration, _lots_of in _EVERY:
    size_rules.register(SizeRule(_declaration, _lots_of))

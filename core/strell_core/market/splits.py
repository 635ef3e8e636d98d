"""Splits of an underlying, and what becomes of contracts that were listed before."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

from strell_core.market.instruments import ContractKey, strike_of, thousandths


@dataclass(frozen=True)
class Split:
    """Units of the underlying become more (or fewer) at the open of ``date``: ``ratio`` new ones for an old one."""

    date: dt.date
    ratio: float

    @property
    def whole(self) -> int | None:
        """Contracts for an old one where they are a whole number: quantity times it, strike divided by it (the
        clearing houses' rule for such splits, from memory). ``None``: the deliverable changes instead, which no
        chain of standard contracts shows."""
        count = round(self.ratio)
        return count if count >= 2 and abs(self.ratio - count) < 1e-9 else None

    @property
    def words(self) -> str:
        """``2 for 1``, ``3 for 2``, ``1 for 10``."""
        for old in range(1, 101):
            new = self.ratio * old
            if abs(new - round(new)) < 1e-6 and round(new) >= 1:
                return f"{round(new)} for {old}"
        return f"{self.ratio:g} for 1"


def after(contract: ContractKey, count: int) -> ContractKey:
    """What a contract is called after a split of ``count`` for one, its strike to the thousandth."""
    if contract.is_unit:
        return contract
    return contract._replace(strike=strike_of(round(thousandths(contract.strike) / count)))

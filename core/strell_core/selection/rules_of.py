"""Rules that pick a given structure: how legs clicked together become a strategy."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from strell_core.market.instruments import ContractKey, strike_of, thousandths
from strell_core.market.market import Market
from strell_core.market.view import ChainView, ExpirationSlice
from strell_core.measures.frames import Frame
from strell_core.selection.select import rank_strikes
from strell_core.strategy import catalogue, kinds
from strell_core.strategy.kinds import Picking

MOST_RATIO = 20


@dataclass(frozen=True)
class RulesOf:
    """Leg sentences, lots, and where the rules pick another strike at that instant than was meant."""

    legs: list[dict[str, Any]]
    lots: int
    notes: list[str]


def rules_of(view: ChainView, today: dt.date, legs: Sequence[tuple[ContractKey, int]]) -> RulesOf:
    """Leg rules for signed contracts that are listed in ``view``.

    The nearest expiration is picked by its days, later ones by the days between; a strike by its delta, or if that
    is not told apart from its neighbours, by its distance from spot or in strikes from the money. Raises
    ``ValueError`` for quantities no rule can hold and ``KeyError`` for an expiration that is not listed.
    """
    catalogue.load()
    lots = math.gcd(*(contracts for _, contracts in legs))
    if any(abs(contracts) > MOST_RATIO * lots for _, contracts in legs):
        raise ValueError(f"a leg of a strategy has at most {MOST_RATIO} contracts a lot")
    ordered = sorted(legs, key=lambda leg: leg[0].expiration)
    anchor = ordered[0][0].expiration
    out, notes = [], []
    for number, (contract, contracts) in enumerate(ordered):
        strike, note = _strike(view, contract)
        notes += note
        out.append(
            {
                "rule": "leg", "side": "sell" if contracts < 0 else "buy", "ratio": abs(contracts) // lots,
                "right": contract.right, "strike": strike,
                "expiry": _expiry(today, contract.expiration, None if number == 0 else anchor),
            }
        )  # fmt: skip
    return RulesOf(out, lots, notes)


def _expiry(today: dt.date, expiration: dt.date, anchor: dt.date | None) -> dict[str, Any]:
    if anchor is None:
        days = (expiration - today).days
        room = max(3, days // 3)
        return {"pick": "nearest_days", "days": days, "from": max(0, days - room), "to": days + room}
    if expiration == anchor:
        return {"pick": "same_expiration"}
    return {"pick": "days_after", "days": (expiration - anchor).days}


def _strike(view: ChainView, contract: ContractKey) -> tuple[dict[str, Any], list[str]]:
    """The first pick that finds just this strike; else the one by delta or distance, with what it finds instead."""
    chain = view.slice(contract.expiration, contract.right)
    found = [(pick, _picked(view, chain, pick)) for pick in map(_within, _picks(view, chain, contract))]
    exact = next((pick for pick, strike in found if strike == contract.strike), None)
    if exact is not None:
        return exact, []
    pick, strike = next(((p, s) for p, s in found if s is not None), found[0])
    instead = "nothing" if strike is None else f"{strike:g}"
    return pick, [f"{contract.label}: the rule picks {instead} at this instant."]


def _picks(view: ChainView, chain: ExpirationSlice, contract: ContractKey) -> list[dict[str, Any]]:
    sign = 1 if contract.right == "call" else -1
    spot = view.spot / 100
    delta = view.quote(contract).delta
    out: list[dict[str, Any]] = []
    if delta is not None:
        out.append({"pick": "nearest_delta", "delta": round(abs(delta) / 10_000, 2)})
    out.append({"pick": "percent_from_spot", "percent": round(100 * sign * (contract.strike / spot - 1), 1)})
    listed = chain.strikes[chain.ask > 0].tolist()
    if math.isfinite(chain.forward) and contract.strike in listed:
        centre = min(range(len(listed)), key=lambda i: abs(listed[i] - chain.forward))
        out.append({"pick": "strikes_from_money", "strikes": sign * (listed.index(contract.strike) - centre)})
    return out


def _within(pick: dict[str, Any]) -> dict[str, Any]:
    """A pick with its values inside what it may have; those it does not name are the usual ones."""
    out = dict(pick)
    for param in catalogue.picks("strike")[pick["pick"]].params:
        if param.name in pick and param.minimum is not None and param.maximum is not None:
            out[param.name] = min(max(pick[param.name], param.minimum), param.maximum)
    return out


def _picked(view: ChainView, chain: ExpirationSlice, pick: dict[str, Any]) -> int | float | None:
    frame = Frame(Market(view.timeline), view.index, view.index + 1, view.underlying.symbol)
    order = rank_strikes(chain, kinds.strike_picks[pick["pick"]].distance(chain, Picking(frame, view), pick))
    return strike_of(thousandths(chain.strikes[order[0]])) if order else None

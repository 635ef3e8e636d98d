"""Rolling legs: by strikes, until something holds, to a delta, out in time."""

from __future__ import annotations

import dataclasses
import datetime as dt
import math
from collections.abc import Callable, Sequence

import numpy as np

from strell_core.market.instruments import ContractKey, strike_of, thousandths
from strell_core.market.prices import SPOT_SCALE
from strell_core.market.view import NO_DELTA, ChainView
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Frame, Params, PositionLeg
from strell_core.measures.values import over as values_of
from strell_core.strategy import adjusting, conditions
from strell_core.strategy.actions import Move, Roll
from strell_core.strategy.condition_truths import CROSSINGS, MARKET
from strell_core.strategy.kinds import AdjustFrame, Adjustment, adjustments

WHERE = Param("where", "choice", "Where", "away", choices={"away": "away from the money", "toward": "toward the money"})
ACTS = (
    f"{adjusting.WHEN_LOOKED_AT}Closing and opening are one order, at the prices the sheet fills at, for the capital there is; "
    "at most once a session and trade. Where no quoted strike fits nothing is done, or what the sentence says then: the position "
    "is closed patiently, also where the capital is not there, and the entry is judged again when the last leg is gone. "
)


def _declared(key: str, title: str, does: str, params: tuple[Param, ...], example: str, words: tuple[str, ...], more: str = "") -> Declaration:  # fmt: skip
    return adjusting.declared(key, title, does, params, f"{more}{ACTS}", example, ("roll", *words))


AT_DELTA = conditions.params(adjusting.SCOPES, {"measure": "leg_greek"}, "above", 0.35)
STRIKES = _declared(
    "roll_strikes", "Roll a leg by strikes", "roll {what} {strikes|strike|strikes} {where}",
    (*AT_DELTA, adjusting.WHAT, Param("strikes", "integer", "Strikes", 2, 1, 40), WHERE),
    "When the delta of leg 3 is above 0.35, roll leg 3 2 strikes away from the money.", ("defend", "strike"),
)  # fmt: skip
UNTIL = dataclasses.replace(_declared(
    "roll_until", "Roll a leg until something holds",
    "roll {what} {where} strike by strike, at most {most}, until {goal} is {goal_is} {goal_than}",
    (
        *conditions.params(adjusting.SCOPES, {"measure": "net_greek"}, "below", 0.0), adjusting.WHAT, WHERE, Param("most", "integer", "At most", 10, 1, 40),
        Param("goal", "value", "Until", {"measure": "structure_greek"}, scopes=adjusting.GOAL_SCOPES),
        Param("goal_is", "choice", "Is", "above", choices={k: v for k, v in conditions.COMPARISONS.items() if k not in CROSSINGS}),
        Param("goal_than", "value", "Than", 0.0, scopes=adjusting.GOAL_SCOPES),
    ),
    "When the position's delta is below 0, roll leg 5 toward the money strike by strike, at most 10, until the structure's delta a lot is above 0.",
    ("wing", "delta", "neutral", "step"), "What is to hold is asked of the position as it would be, a lot of it. ",
), begins={"where": "toward"})  # fmt: skip
DELTA = _declared(
    "roll_to_delta", "Roll a leg to a delta", "roll {what} to the strike nearest to delta {delta}",
    (*AT_DELTA, adjusting.WHAT, Param("delta", "number", "Delta", 0.2, 0.01, 0.99, 0.01)),
    "When the delta of leg 3 is above 0.35, roll leg 3 to the strike nearest to delta 0.20.", ("defend", "delta"),
)  # fmt: skip
ANEW = _declared(
    "roll_anew", "Pick a leg anew", "roll {what} to what its own sentence picks now",
    (*AT_DELTA, adjusting.WHAT),
    "When the delta of leg 3 is above 0.35, roll leg 3 to what its own sentence picks now.", ("repick", "restrike", "refresh", "again"),
    "Beside the other legs that are held; where it picks the contract that is held nothing is done. ",
)  # fmt: skip
OUT = _declared(
    "roll_out", "Roll legs out in time", "roll every short leg to the expiration nearest {days|day|days} later",
    (*conditions.params(adjusting.SCOPES, {"measure": "days_to_expiration"}, "at most", 7.0), Param("days", "integer", "Days later", 14, 1, 300)),
    "When days to the nearest expiration is at most 7, roll every short leg to the expiration nearest 14 days later.",
    ("expiration", "time", "cycle"), "At the same strikes, or the nearest quoted ones. ",
)  # fmt: skip
LIKE = _declared(
    adjusting.ROLLS_TO_A_PICK, "Roll a leg to another's pick", "roll {what} to what the sentence of {other} picks now",
    (*AT_DELTA, adjusting.WHAT, Param("other", "leg", "To the pick of", "")),
    "When the delta of leg 3 is above 0.35, roll leg 3 to what the sentence of leg 4 picks now.",
    ("pick", "date", "expiration", "diagonal", "later leg"),
    "Beside the other legs that are held. A leg that is opened later says a pick for nothing but this: any strike, any expiration. The leg stays "
    "bought or sold, with as many contracts. ",
)  # fmt: skip
LEG_OUT = _declared(
    "roll_leg_out", "Roll one leg out in time", "roll {what} to the expiration nearest {days|day|days} later",
    (*conditions.params(adjusting.SCOPES, {"measure": "leg_days"}, "at most", 7.0), adjusting.WHAT, Param("days", "integer", "Days later", 14, 1, 300)),
    "When days to the expiration of leg 3 is at most 7, roll leg 3 to the expiration nearest 14 days later.",
    ("expiration", "time", "calendar", "one leg"), "At the same strike, or the nearest quoted one. ",
)  # fmt: skip
CENTRE = _declared(
    "recentre", "Recentre the structure",
    "move every strike by as much as brings {what} nearest to {value}, each to a listed "
    "strike (± {within})",
    (
        *conditions.params(adjusting.SCOPES, {"measure": "leg_distance"}, "above", 2.0), adjusting.WHAT,
        Param("value", "value", "To", {"measure": "price"}, scopes=MARKET),
        Param("within", "number", "At most away", 1.0, 0, 20, 0.1, "%"),
    ),
    "When the distance from the price to the strike of leg 4 in % is above 2, move every strike by as much as brings leg 4 nearest to the underlying's "
    "price, each to a listed strike (± 1.0 %).",
    ("center", "shift", "butterfly", "whole structure"),
    "The leg goes to the quoted strike nearest to the value, every other option leg as far; where no quoted strike lies so near, or two legs would "
    "meet at one contract, nothing is done. ",
)  # fmt: skip


def _ladder(view: ChainView, leg: PositionLeg, where: str) -> list[ContractKey]:
    """Quoted contracts of a leg's expiration further away from the money than it, or toward it, nearest first."""
    contract = leg.contract
    if contract.is_unit or contract.expiration not in view.expirations:
        return []
    chain = view.slice(contract.expiration, contract.right)
    up = (contract.right == "call") == (where == "away")
    strikes = chain.strikes[chain.valid]
    found = strikes[strikes > float(contract.strike)] if up else strikes[strikes < float(contract.strike)][::-1]
    return [contract._replace(strike=strike_of(thousandths(strike))) for strike in found.tolist()]


def by_strikes(frame: AdjustFrame, params: Params) -> Sequence[Move]:
    leg, view = frame.now.leg(params["what"]), frame.view
    if leg is None or view is None:
        return ()
    ladder = _ladder(view, leg, params["where"])
    return (Roll(leg.leg_id, ladder[params["strikes"] - 1]),) if len(ladder) >= params["strikes"] else ()


def until(frame: AdjustFrame, params: Params) -> Sequence[Move]:
    leg, view = frame.now.leg(params["what"]), frame.view
    if leg is None or view is None:
        return ()
    goal = {"left": params["goal"], "is": params["goal_is"], "right": params["goal_than"]}
    for contract in _ladder(view, leg, params["where"])[: params["most"]]:
        would_be = [
            (held.leg_id, contract if held.leg_id == leg.leg_id else held.contract, held.contracts)
            for held in frame.now.legs
        ]
        if adjusting.holds(goal, adjusting.structure(frame, view, would_be)):
            return (Roll(leg.leg_id, contract),)
    return ()


def to_delta(frame: AdjustFrame, params: Params) -> Sequence[Move]:
    leg, view = frame.now.leg(params["what"]), frame.view
    if leg is None or view is None or leg.contract.is_unit or leg.contract.expiration not in view.expirations:
        return ()
    chain = view.slice(leg.contract.expiration, leg.contract.right)
    good = np.flatnonzero(chain.valid & (chain.delta != NO_DELTA))
    if not len(good):
        return ()
    outward = chain.strikes * (-1 if leg.contract.right == "call" else 1)
    away = np.abs(np.abs(chain.delta.astype(np.int64)) - round(params["delta"] * 10_000))
    best = min(good.tolist(), key=lambda row: (int(away[row]), float(outward[row])))
    contract = leg.contract._replace(strike=strike_of(thousandths(chain.strikes[best])))
    return () if contract == leg.contract else (Roll(leg.leg_id, contract),)


def anew(frame: AdjustFrame, params: Params) -> Sequence[Move]:
    leg = frame.now.leg(params["what"])
    return _to_pick(frame, leg, params["what"])


def like(frame: AdjustFrame, params: Params) -> Sequence[Move]:
    return _to_pick(frame, frame.now.leg(params["what"]), params["other"])


def _to_pick(frame: AdjustFrame, leg: PositionLeg | None, of: str) -> Sequence[Move]:
    found = frame.pick(of, leg.leg_id) if leg is not None else None
    return () if leg is None or found is None or found.contract == leg.contract else (Roll(leg.leg_id, found.contract),)


def _quoted(view: ChainView, contract: ContractKey) -> list[float]:
    """Strikes of a contract's expiration and right that have a valid quote."""
    if contract.expiration not in view.expirations:
        return []
    chain = view.slice(contract.expiration, contract.right)
    found: list[float] = chain.strikes[chain.valid].tolist()
    return found


def recentre(frame: AdjustFrame, params: Params) -> Sequence[Move]:
    leg, view = frame.now.leg(params["what"]), frame.view
    if leg is None or view is None or leg.contract.is_unit:
        return ()
    index = frame.observation.index
    found = values_of(params["value"], Frame(frame.observation.market, index, index + 1, frame.symbol))
    strikes = _quoted(view, leg.contract)
    if found is None or not math.isfinite(found[0]) or not strikes:
        return ()
    moved = min(strikes, key=lambda strike: (abs(strike - float(found[0])), strike)) - float(leg.contract.strike)
    at_most = view.spot / SPOT_SCALE * params["within"] / 100
    taken: dict[ContractKey, str] = {}
    for held in frame.now.legs:
        if held.contract.is_unit:
            continue
        wanted = float(held.contract.strike) + moved
        near = min(_quoted(view, held.contract), key=lambda strike: (abs(strike - wanted), strike), default=None)
        contract = None if near is None else held.contract._replace(strike=strike_of(thousandths(near)))
        if near is None or contract is None or abs(near - wanted) > at_most or contract in taken:
            return ()
        taken[contract] = held.leg_id
    before = {held.leg_id: held.contract for held in frame.now.legs}
    return tuple(Roll(name, contract) for contract, name in taken.items() if before[name] != contract)


def out(frame: AdjustFrame, params: Params) -> Sequence[Move]:
    shorts = [leg for leg in frame.now.legs if not leg.contract.is_unit and leg.contracts < 0]
    return _later(frame.view, shorts, params["days"])


def leg_out(frame: AdjustFrame, params: Params) -> Sequence[Move]:
    leg = frame.now.leg(params["what"])
    return () if leg is None or leg.contract.is_unit else _later(frame.view, [leg], params["days"])


def _later(view: ChainView | None, legs: Sequence[PositionLeg], days: int) -> Sequence[Move]:
    """Legs in the listed expiration nearest to so many days after their own; none where one has none."""
    moves: list[Move] = []
    if view is None:
        return ()
    for leg in legs:
        later = [date for date in view.expirations if date > leg.contract.expiration]
        if not later:
            return ()
        wanted = leg.contract.expiration + dt.timedelta(days=days)
        chain = view.slice(min(later, key=lambda date: (abs((date - wanted).days), date)), leg.contract.right)
        strikes = chain.strikes[chain.valid].tolist()
        if not strikes:
            return ()
        strike = min(strikes, key=lambda strike: (abs(strike - float(leg.contract.strike)), strike))
        moves.append(
            Roll(leg.leg_id, leg.contract._replace(expiration=chain.expiration, strike=strike_of(thousandths(strike))))
        )
    return tuple(moves)


Moves = Callable[[AdjustFrame, Params], Sequence[Move]]
_EVERY: tuple[tuple[Declaration, Moves], ...] = (
    (STRIKES, by_strikes), (UNTIL, until), (DELTA, to_delta), (ANEW, anew), (LIKE, like), (OUT, out), (LEG_OUT, leg_out),
    (CENTRE, recentre),
)  # fmt: skip
for _declaration, _moves in _EVERY:
    adjustments.register(Adjustment(_declaration, adjusting.test, adjusting.values, _moves, adjusting.otherwise))

"""One leg: its price, what it earned, its Greeks and volatility, where its strike stands, how it is quoted."""

import numpy as np

from strell_core.market.instruments import Right
from strell_core.market.prices import PARTS, SPOT_SCALE
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.measure import LegMeasure, Legs, Params, Series, measures
from strell_core.measures.sensitivities import NAMES, greek, iv
from strell_core.measures.smiles import straddle

LEG = Param("leg", "leg", "Leg", "")
BASIS = Param("basis", "choice", "At", "mid", choices={"mid": "mid", "closable": "the price it could be closed at"})
PRICE = Declaration(
    id="leg_price", usual=("at most", 0.5), section="measure", title="Price of a leg", sentence="the price of {leg} at {basis}", params=(LEG, BASIS),
    explains="In points: its mid, or what closing it would cost or bring a contract. Unvalued without a valid quote.",
    example="the price of leg 3 at mid", words=("premium", "quote"), scope="leg", clock="snapshot", unit="points", grid=0.0001,
)  # fmt: skip
PNL = Declaration(
    id="leg_pnl", usual=("at least", 60), section="measure", title="P/L of a leg", sentence="P/L of {leg} at {basis} in {unit}",
    params=(LEG, BASIS, Param("unit", "choice", "In", "premium", choices={"premium": "% of its premium", "money": "money"})),
    explains="Since its first fill, before costs: in percent of what it was opened for, or in money. Before it is dealt it does "
    "not exist.",
    example="P/L of leg 3 at mid in % of its premium", words=("leg target", "leg stop", "profit"), scope="leg", clock="snapshot", grid=0.0001,
)  # fmt: skip
GREEK = Declaration(
    id="leg_greek", usual=("above", 0.3), section="measure", title="Greek of a leg", sentence="the {greek} of {leg}",
    params=(Param("greek", "choice", "Greek", "delta", choices={name: name for name in NAMES}), LEG),
    explains="Of one contract bought, in points of its price: puts have a negative delta. Theta a day, vega a point of volatility.",
    example="the delta of leg 3", words=("delta", "gamma", "theta", "vega"), scope="leg", clock="snapshot", grid=0.0001,
)  # fmt: skip
IV = Declaration(
    id="leg_iv", usual=("above", 20), section="measure", title="IV of a leg", sentence="IV of {leg}", params=(LEG,),
    explains="Implied volatility of its mid, in percent. Unvalued without one.", example="IV of leg 3", words=("implied volatility",), scope="leg",
    clock="snapshot", unit="%", grid=0.01,
)  # fmt: skip
IV_CHANGE = Declaration(
    id="leg_iv_change", usual=("below", -3), section="measure", title="Change of a leg's IV", sentence="the change of IV of {leg} since it was opened", params=(LEG,),
    explains="IV of its mid less that at the last snapshot not after its first fill, in points of volatility. Before it is dealt it does "
    "not exist.",
    example="the change of IV of leg 3 since it was opened", words=("implied volatility", "crush", "vol crush"), scope="leg", clock="snapshot",
    grid=0.01,
)  # fmt: skip
DISTANCE = Declaration(
    id="leg_distance", usual=("below", 0), section="measure", title="Distance to a leg's strike", sentence="the distance from the price to the strike of {leg} in {unit}",
    params=(LEG, Param("unit", "choice", "In", "percent", choices={"percent": "%", "points": "points", "moves": "expected moves"})),
    explains="Above 0 while the leg is out of the money, below 0 in it: in percent of the strike, in points, or in expected moves to its "
    "expiration (mid of that expiration's straddle at the strike nearest to the forward). The first two do not need option prices.",
    example="the distance from the price to the strike of leg 3 in %", words=("moneyness", "fence", "out of the money", "touch"), scope="leg",
    clock="snapshot", grid=0.001,
)  # fmt: skip
DAYS = Declaration(
    id="leg_days", section="measure", title="Days to a leg's expiration", sentence="days to the expiration of {leg}", params=(LEG,),
    explains="Calendar days from today to its expiration.", example="days to the expiration of leg 3", words=("DTE",), scope="leg", clock="snapshot",
    unit="days", grid=1,
)  # fmt: skip
EXTRINSIC = Declaration(
    id="leg_extrinsic", usual=("at most", 0.5), section="measure", title="Time value of a leg", sentence="the time value of {leg}", params=(LEG,),
    explains="Mid less what exercise would be worth at the underlying's price, in points, at least 0. Unvalued without a valid quote.",
    example="the time value of leg 3", words=("extrinsic", "premium left"), scope="leg", clock="snapshot", unit="points", grid=0.0001,
)  # fmt: skip
WIDTH = Declaration(
    id="leg_width", usual=("at most", 30), section="measure", title="Bid–ask width of a leg", sentence="the bid–ask width of {leg}", params=(LEG,),
    explains="Ask less bid in percent of mid. Unvalued without a valid quote.", example="the bid–ask width of leg 3",
    words=("spread", "liquidity"), scope="leg", clock="snapshot", unit="%", grid=0.01,
)  # fmt: skip
INTEREST = Declaration(
    id="leg_interest", usual=("at least", 100), section="measure", title="Open interest of a leg", sentence="open interest of {leg}", params=(LEG,),
    explains="Of its contract, as last published.", example="open interest of leg 3", words=("liquidity",), scope="leg", clock="snapshot", grid=1,
)  # fmt: skip
CONTRACTS = Declaration(
    id="leg_contracts", section="measure", title="Contracts of a leg", sentence="the contracts held of {leg}", params=(LEG,),
    explains="Contracts that are held now: bought above 0, sold below it. While the leg is not there no comparison with it is true.",
    example="the contracts held of leg 3", words=("held", "assigned", "delivered", "size"), scope="leg", clock="snapshot", unit="contracts",
    grid=1,
)  # fmt: skip
STRIKE = Declaration(
    id="leg_strike", usual=("above", {"measure": "price"}), section="measure", title="Strike of a leg", sentence="the strike of {leg}", params=(LEG,),
    explains="In points, of its contract as it is now. The underlying itself has none.", example="the strike of leg 3",
    words=("level", "body", "short strike"), scope="leg", clock="snapshot", unit="points", grid=0.001,
)  # fmt: skip


def _range(found: Legs) -> tuple[int, int]:
    return found.frame.begin, found.frame.end


def _points(found: Legs, parts: Series) -> Series:
    made: Series = np.where(found.valid, parts, np.nan) * float(found.frame.timeline.underlying.quantum) / PARTS
    return made


def _spot(found: Legs) -> Series:
    begin, end = _range(found)
    made: Series = found.frame.timeline.spot[begin:end] / SPOT_SCALE
    return made


def _mark(found: Legs, basis: str) -> Series:
    if basis == "mid":
        return (found.bid + found.ask) / 2
    return (found.ask if found.leg.contracts < 0 else found.bid).astype(np.float64)


def price(found: Legs, params: Params) -> Series:
    return _points(found, _mark(found, params["basis"]))


def pnl(found: Legs, params: Params) -> Series | None:
    held = found.held
    if held is None or found.frame.position is None:
        return None
    parts = held.contracts * (np.where(found.valid, _mark(found, params["basis"]), np.nan) - held.opened_parts)
    if params["unit"] == "money":
        return parts * found.frame.position.worth
    paid = abs(held.contracts * held.opened_parts)
    return 100 * parts / paid if paid else np.full(len(parts), np.nan)


def leg_greek(found: Legs, params: Params) -> Series:
    return greek(found.frame.timeline, found.leg.contract, params["greek"], *_range(found))


def leg_iv(found: Legs, params: Params) -> Series:
    return iv(found.frame.timeline, found.leg.contract, *_range(found))


def iv_change(found: Legs, params: Params) -> Series | None:
    held, position = found.held, found.frame.position
    if held is None or position is None:
        return None
    place = position.place(held.opened_at)
    now = leg_iv(found, params)
    contract = held.opened_as or held.contract
    return now * np.nan if place is None else now - iv(found.frame.timeline, contract, place, place + 1)


def distance(found: Legs, params: Params) -> Series | None:
    contract = found.leg.contract
    if contract.is_unit:
        return None
    strike = float(contract.strike)
    away: Series = Right(contract.right).sign * (strike - _spot(found))
    if params["unit"] == "percent":
        return 100 * away / strike
    return away if params["unit"] == "points" else away / _moves(found)


def _moves(found: Legs) -> Series:
    """The expected move to the leg's expiration, points ``(n,)``; NaN where it is not quoted or not listed."""
    timeline, expiration = found.frame.timeline, found.leg.contract.expiration
    out = np.full(found.frame.end - found.frame.begin, np.nan)
    for n, index in enumerate(range(*_range(found))):
        view = timeline.view(index)
        if expiration in view.expirations:
            out[n] = straddle(view, expiration) or np.nan
    return out


def days(found: Legs, params: Params) -> Series | None:
    if found.leg.contract.is_unit:
        return None
    begin, end = _range(found)
    return (found.leg.contract.expiration.toordinal() - found.frame.timeline.ordinal[begin:end]).astype(np.float64)


def extrinsic(found: Legs, params: Params) -> Series | None:
    contract = found.leg.contract
    if contract.is_unit:
        return None
    inside = np.maximum(Right(contract.right).sign * (_spot(found) - float(contract.strike)), 0.0)
    made: Series = np.maximum(price(found, {"basis": "mid"}) - inside, 0.0)
    return made


def width(found: Legs, params: Params) -> Series:
    both = np.where(found.valid & (found.bid + found.ask > 0), found.bid + found.ask, np.nan)
    made: Series = 200 * (found.ask - found.bid) / both
    return made


def interest(found: Legs, params: Params) -> Series | None:
    contract = found.leg.contract
    if contract.is_unit:
        return None
    timeline, (begin, end) = found.frame.timeline, _range(found)
    cube = timeline.cubes.get(contract.expiration)
    row = None if cube is None else cube.row(contract.right, contract.strike)
    out = np.full(end - begin, np.nan)
    if cube is not None and row is not None:
        low, high = max(begin, cube.start), min(end, cube.end)
        if low < high:
            told = cube.open_interest[row, timeline.session_of[low:high] - cube.first_session].astype(np.float64)
            out[low - begin : high - begin] = np.where(told >= 0, told, np.nan)
    return out


def contracts(found: Legs, params: Params) -> Series:
    begin, end = _range(found)
    return np.full(end - begin, float(found.leg.contracts))


def strike(found: Legs, params: Params) -> Series | None:
    begin, end = _range(found)
    return None if found.leg.contract.is_unit else np.full(end - begin, float(found.leg.contract.strike))


for _declaration, _series in (
    (PRICE, price), (PNL, pnl), (GREEK, leg_greek), (IV, leg_iv), (IV_CHANGE, iv_change), (DISTANCE, distance), (DAYS, days), (EXTRINSIC, extrinsic),
    (WIDTH, width), (INTEREST, interest), (CONTRACTS, contracts), (STRIKE, strike),
):  # fmt: skip
    measures.register(LegMeasure(_declaration, _series))

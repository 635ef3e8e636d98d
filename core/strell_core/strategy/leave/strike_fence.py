"""Strike fence: leaving when the underlying moves a distance before or beyond a short strike."""

import numpy as np

from strell_core.market.instruments import Strike, thousandths
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Params, Stretch, Truths, Values
from strell_core.strategy import compiled
from strell_core.strategy.compiled import Numbers
from strell_core.strategy.kinds import Exit, exits

DECLARATION = Declaration(
    id="strike_fence", section="leave", title="Strike fence",
    sentence="When the underlying is {call} beyond a short call or {put} beyond a short put.",
    params=(
        Param("call", "number", "Beyond the call", 0.5, -10, 20, 0.1, "%"),
        Param("put", "number", "Beyond the put", 1.0, -10, 20, 0.1, "%"),
    ),
    explains="Distances in percent of the short strike; negative ones lie before it. Reaching the distance "
    "counts. Looks at the underlying only, so it acts without option prices.",
    example="When the underlying is 0.5 % beyond a short call or 1.0 % beyond a short put.",
    words=("short strike", "breach", "touch", "underlying stop"), scope="position", unit="%",
    mirror_swaps=(("call", "put"),),
    tells=('spot', 'fence', 'strike', 'right'), when_true="the underlying at {spot} is past the fence {fence} of the short {strike} {right}",
    when_false="the underlying at {spot} is inside the fences", when_unvalued="there is no short leg",
)  # fmt: skip


def _fences(stretch: Stretch, params: Params) -> list[tuple[int, int, Strike, str]]:
    """(sign, fence in 0.000001 points, strike, right) of every short leg."""
    out = []
    for leg in stretch.legs:
        if leg.contracts < 0 and not leg.contract.is_unit:
            sign = 1 if leg.contract.right == "call" else -1
            beyond = round(params["call" if sign > 0 else "put"] * 10)
            out.append(
                (
                    sign,
                    compiled.fence_of.py_func(thousandths(leg.contract.strike), sign, beyond),
                    leg.contract.strike,
                    leg.contract.right,
                )
            )
    return out


def test(stretch: Stretch, params: Params) -> Truths:
    fences = _fences(stretch, params)
    scaled = stretch.spot.astype(np.int64) * 10_000
    past = np.zeros(len(scaled), np.bool_)
    for sign, fence, _, _ in fences:
        past |= sign * (scaled - fence) >= 0
    return stretch.judged(past, np.full(len(scaled), bool(fences)))


def values(stretch: Stretch, params: Params, i: int) -> Values:
    spot = int(stretch.spot[i])
    for sign, fence, strike, right in _fences(stretch, params):
        if sign * (spot * 10_000 - fence) >= 0:
            return {"spot": spot / 100, "fence": fence / 1_000_000, "strike": strike, "right": right}
    return {"spot": spot / 100}


def first(stretch: Stretch, params: Params, since: int) -> int:
    fences = _fences(stretch, params)
    signs, places = (np.array([fence[k] for fence in fences], np.int64) for k in (0, 1))
    return int(compiled.first_past(stretch.spot, signs, places, since))


def numbers(params: Params) -> Numbers:
    return Numbers(compiled.FENCE, round(params["call"] * 10), round(params["put"] * 10))


exits.register(Exit(DECLARATION, "loss", test, values, first=first, numbers=numbers))

"""A structure before it is dealt: its premium, Greeks, what it can win and lose, and the capital it takes."""

import math

from strell_core.margin import strategy_based as margin
from strell_core.market.instruments import Right
from strell_core.market.prices import SPOT_SCALE
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import PickedLeg, Structure
from strell_core.measures.measure import Params, StructureMeasure, measures
from strell_core.measures.sensitivities import NAMES, greek
from strell_core.pricing.held import Holding, payoff_leg, smile_of
from strell_core.pricing.payoff import nearest_settlement, summary

CREDIT = Declaration(
    id="net_credit", usual=("at least", 5), section="measure", title="Net credit", sentence="the net credit at {basis}",
    params=(Param("basis", "choice", "At", "fill", choices={"fill": "bid and ask", "mid": "mid"}),),
    explains="What opening one lot would bring in, in points; a debit is negative. Options only. Unvalued without valid quotes.",
    example="the net credit at bid and ask", words=("premium", "debit", "credit"), scope="structure", clock="snapshot", unit="points", grid=0.0001,
)  # fmt: skip
GREEK = Declaration(
    id="structure_greek", usual=("at most", 0.1), section="measure", title="Greek of the structure", sentence="the structure's {greek} a lot",
    params=(Param("greek", "choice", "Greek", "delta", choices={name: name for name in NAMES}),),
    explains="Of all legs of one lot together, in points: delta for a point of the underlying. Unvalued while a leg has none.",
    example="the structure's delta a lot", words=("delta", "neutral", "theta", "vega"), scope="structure", clock="snapshot", grid=0.0001,
)  # fmt: skip
PROFIT = Declaration(
    id="max_profit", usual=("at least", 5), section="measure", title="Maximum profit", sentence="the maximum profit a lot", params=(),
    explains="At expiration, opened at bid and ask, in points. Unvalued when it is unbounded, and for legs that expire apart.",
    example="the maximum profit a lot", words=("reward",), scope="structure", clock="snapshot", unit="points", grid=0.0001,
)  # fmt: skip
LOSS = Declaration(
    id="max_loss", usual=("at most", 20), section="measure", title="Maximum loss", sentence="the maximum loss a lot", params=(),
    explains="At expiration, opened at bid and ask, in points, a loss positive. Unvalued when it is unbounded, and for legs that "
    "expire apart.",
    example="the maximum loss a lot", words=("risk",), scope="structure", clock="snapshot", unit="points", grid=0.0001,
)  # fmt: skip
REWARD = Declaration(
    id="reward_to_risk", usual=("at least", 0.3), section="measure", title="Reward to risk", sentence="reward to risk", params=(),
    explains="Maximum profit divided by maximum loss. Unvalued with either, and without a loss.", example="reward to risk", words=("ratio",),
    scope="structure", clock="snapshot", grid=0.0001,
)  # fmt: skip
CAPITAL = Declaration(
    id="capital_a_lot", usual=("at most", 5000), section="measure", title="Capital a lot", sentence="the capital a lot takes", params=(),
    explains="By the strategy-based rules at mid, in money.", example="the capital a lot takes", words=("margin", "buying power"), scope="structure",
    clock="snapshot", unit="money", grid=0.01,
)  # fmt: skip

CHANCE = Declaration(
    id="chance_of_profit", usual=("at least", 60), section="measure", title="Chance of profit", sentence="the chance of profit", params=(),
    explains="That a lot opened at bid and ask ends in profit at its nearest expiration, in percent, under the distribution that this "
    "expiration's curve of volatilities implies. Unvalued without that curve, and without valid quotes.",
    example="the chance of profit", words=("probability", "POP", "win rate"), scope="structure", clock="snapshot", unit="%", grid=0.1,
)  # fmt: skip
EXPECTED = Declaration(
    id="expected_value", usual=("above", 0), section="measure", title="Expected value", sentence="the expected value a lot", params=(),
    explains="What a lot opened at bid and ask is worth on average at its nearest expiration under the distribution that this expiration's "
    "curve of volatilities implies, less what it costs, in points. Unvalued as the chance is.",
    example="the expected value a lot", words=("edge", "EV", "expectation"), scope="structure", clock="snapshot", unit="points", grid=0.01,
)  # fmt: skip


def _options(structure: Structure) -> list[PickedLeg]:
    return [leg for leg in structure.legs if not leg.contract.is_unit]


def net_credit(structure: Structure, params: Params) -> float:
    legs = _options(structure)
    if not all(leg.quote.valid for leg in legs):
        return math.nan
    quantum = float(structure.view.underlying.quantum)
    if params["basis"] == "mid":
        return -sum(leg.contracts * (leg.quote.bid + leg.quote.ask) for leg in legs) / 2 * quantum
    return -sum(leg.contracts * (leg.quote.bid if leg.contracts < 0 else leg.quote.ask) for leg in legs) * quantum


def structure_greek(structure: Structure, params: Params) -> float:
    view = structure.view
    total = 0.0
    for leg in structure.legs:
        total += leg.contracts * float(
            greek(view.timeline, leg.contract, params["greek"], view.index, view.index + 1)[0]
        )
    return total


def _ends(structure: Structure) -> tuple[float, float] | None:
    """Least and most that a lot can make at expiration in points; infinite where unbounded, nothing for legs that expire
    apart or have no price."""
    legs = _options(structure)
    credit = net_credit(structure, {"basis": "fill"})
    if len({leg.contract.expiration for leg in legs}) != 1 or math.isnan(credit):
        return None
    spot = structure.view.spot / SPOT_SCALE
    units = sum(leg.contracts / leg.contract.divisor for leg in structure.legs if leg.contract.is_unit)

    def at(end: float) -> float:
        options = sum(
            leg.contracts * max(0.0, Right(leg.contract.right).sign * (end - float(leg.contract.strike)))
            for leg in legs
        )
        return credit + options + units * (end - spot)

    values = [at(end) for end in (0.0, *(float(leg.contract.strike) for leg in legs))]
    slope = units + sum(leg.contracts for leg in legs if leg.contract.right == Right.CALL)
    low = -math.inf if slope < 0 else min(values)
    return low, math.inf if slope > 0 else max(values)


def max_profit(structure: Structure, params: Params) -> float:
    found = _ends(structure)
    return math.nan if found is None or math.isinf(found[1]) else found[1]


def max_loss(structure: Structure, params: Params) -> float:
    found = _ends(structure)
    return math.nan if found is None or math.isinf(found[0]) else -found[0]


def reward(structure: Structure, params: Params) -> float:
    loss = max_loss(structure, params)
    return max_profit(structure, params) / loss if loss > 0 else math.nan


def capital(structure: Structure, params: Params) -> float:
    view = structure.view
    return margin_of(structure) * view.underlying.multiplier


def margin_of(structure: Structure) -> float:
    """Capital of a lot in points, at mid."""
    view, quantum = structure.view, float(structure.view.underlying.quantum)
    legs = [
        margin.Leg.of(
            leg.contract, leg.contracts, view.timeline.settles_at,
            (leg.quote.bid + leg.quote.ask) / 2 * quantum if leg.quote.valid else 0.0,
        )
        for leg in _options(structure)
    ]  # fmt: skip
    units = sum(leg.contracts / leg.contract.divisor for leg in structure.legs if leg.contract.is_unit)
    return margin.capital(legs, view.spot / SPOT_SCALE, margin.share_of(view.underlying.kind), units)


def _outlook(structure: Structure) -> tuple[float, float]:
    """Chance of profit, and expected value in points, of a lot opened at bid and ask."""
    view, quantum = structure.view, float(structure.view.underlying.quantum)
    made = []
    for leg in structure.legs:
        if not leg.contract.is_unit and not leg.quote.valid:
            return math.nan, math.nan
        side = leg.quote.ask if leg.contracts > 0 else leg.quote.bid
        opened = view.spot / SPOT_SCALE if leg.contract.is_unit else side * quantum
        made.append(payoff_leg(view.timeline, view.index, Holding(leg.contract, leg.contracts, opened)))
    if all(leg.sign == 0 for leg in made):
        return math.nan, math.nan
    curve = smile_of(view.timeline, view.index, nearest_settlement(made, view.instant))
    if curve is None:
        return math.nan, math.nan
    found = summary(made, view.spot / SPOT_SCALE, view.instant, curve)
    if found.chance_of_profit is None or found.expected is None:
        return math.nan, math.nan
    return found.chance_of_profit, found.expected


def chance(structure: Structure, params: Params) -> float:
    return 100 * _outlook(structure)[0]


def expected(structure: Structure, params: Params) -> float:
    return _outlook(structure)[1]


for _declaration, _value in (
    (CREDIT, net_credit), (GREEK, structure_greek), (PROFIT, max_profit), (LOSS, max_loss), (REWARD, reward), (CAPITAL, capital), (CHANCE, chance),
    (EXPECTED, expected),
):  # fmt: skip
    measures.register(StructureMeasure(_declaration, _value))

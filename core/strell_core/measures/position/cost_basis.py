"""What units of the underlying have cost, premiums and dividends taken off."""

import numpy as np

from strell_core.market.prices import PARTS
from strell_core.measures.declaration import Declaration
from strell_core.measures.frames import HEDGE, Stretch
from strell_core.measures.measure import Params, PositionMeasure, Series, measures

BASIS = Declaration(
    id="cost_basis", usual=("below", {"measure": "price"}), section="measure", title="Cost basis of the units", sentence="the cost basis of the units",
    params=(), explains="All that the trade has paid less all that it has taken, before commissions, a unit held, in points: what the units were bought "
    "or delivered for, less every premium taken since the trade was opened, those of options that are still open among them, and less dividends. It is "
    "carried over deliveries and over every option that is opened and closed in between. Unvalued while no units are held; a hedge's are none.",
    example="the cost basis of the units", words=("break-even", "covered call", "wheel", "assigned", "adjusted cost", "never below cost"),
    scope="position", clock="snapshot", unit="points", grid=0.0001,
)  # fmt: skip


def cost_basis(stretch: Stretch, params: Params) -> Series:
    units = sum(leg.contracts for leg in stretch.legs if leg.contract.is_unit and leg.leg_id != HEDGE)
    if units == 0:
        return np.full(len(stretch.mid), np.nan)
    # what the legs are worth less what has been made of them is what was paid for them, whatever the quotes are
    worth = sum(leg.contracts * ((int(leg.bid[0]) + int(leg.ask[0])) >> 1) for leg in stretch.legs)
    paid = worth - int(stretch.mid[0])
    return np.full(len(stretch.mid), paid / units * float(stretch.timeline.underlying.quantum) / PARTS)


measures.register(PositionMeasure(BASIS, cost_basis))

"""What dealing in the underlying itself costs beside commissions."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.strategy.kinds import OrderRule, order_rules

order_rules.register(
    OrderRule(
        Declaration(
            id="unit_spread",
            section="orders",
            title="Underlying's spread",
            sentence="The underlying is bought and sold {points} points from its price.",
            params=(Param("points", "number", "Half of its spread", 0.01, 0, 100, 0.01),),
            explains="History holds the underlying's price and not its quotes: it is bought so much above that price "
            "and sold so much below, whatever share of the spread options fill at.",
            example="The underlying is bought and sold 0.01 points from its price.",
            words=("stock", "shares", "hedge", "covered call", "bid ask"),
            price_basis="bid and ask",
            once=True,
        )
    )
)

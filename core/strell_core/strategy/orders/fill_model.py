"""How prices of simulated fills are made."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.strategy.kinds import OrderRule, order_rules

order_rules.register(
    OrderRule(
        Declaration(
            id="fill_model",
            section="orders",
            title="Fill prices",
            sentence="Options are filled {share} of the way from mid to the other side.",
            params=(Param("share", "integer", "From mid to the other side", 100, 0, 100, 1, "%"),),
            explains="100 % buys at the ask and sells at the bid; 0 % fills at mid, which few markets give; values "
            "between take that share of the half spread. Loss limits are market orders and pay the whole way. A "
            "short is sold at a bid above zero only; what is held and nobody bids for is given away. The fill is "
            "on the first valid snapshot after the decision; in a session with one snapshot, on it.",
            example="Options are filled 100 % of the way from mid to the other side.",
            words=("bid ask", "mid", "slippage", "fills"),
            price_basis="bid and ask",
            once=True,
        )
    )
)

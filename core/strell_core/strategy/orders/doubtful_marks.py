"""Which marks a profit target must not trust."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.strategy.kinds import OrderRule, order_rules

order_rules.register(
    OrderRule(
        Declaration(
            id="doubtful_marks",
            section="orders",
            title="Doubtful marks",
            sentence="Profit targets wait while the mark is wider than {percent} of the premium"
            " and {last} on a session's last snapshot.",
            params=(
                Param("percent", "integer", "Widest mark", 50, 1, 1000, 1, "%"),
                Param("last", "choice", "Last snapshot", "wait", choices={"wait": "wait", "act": "act"}),
            ),
            explains="The width is the sum of the legs' spreads against the opening premium. The last snapshot "
            "matters in sessions that have several.",
            example="Profit targets wait while the mark is wider than 50 % of the premium and wait on a session's "
            "last snapshot.",
            words=("wide quotes", "stale", "close"),
            price_basis="bid and ask",
            once=True,
        )
    )
)

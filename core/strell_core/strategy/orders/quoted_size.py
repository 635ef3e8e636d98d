"""What becomes of lots beyond the size that was quoted."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.strategy.kinds import OrderRule, order_rules

order_rules.register(
    OrderRule(
        Declaration(
            id="quoted_size",
            section="orders",
            title="Lots beyond the quoted size",
            sentence="Lots beyond the quoted size {policy}.",
            params=(
                Param(
                    "policy",
                    "choice",
                    "Policy",
                    "split",
                    choices={
                        "take": "are dealt all the same, and counted",
                        "split": "wait for the next quotes",
                        "refuse": "hold an entry back until the whole of it is quoted",
                    },
                ),
            ),
            explains="Where a history tells sizes, a quote is good for so many contracts. Who deals more at once pays "
            "another price, which no history holds. What closes a position is never held back: it takes what is quoted, "
            "and the rest waits. Without sizes everything is dealt.",
            example="Lots beyond the quoted size wait for the next quotes.",
            words=("liquidity", "depth", "bid size", "ask size", "partial fill", "volume"),
            price_basis="bid and ask",
            once=True,
        )
    )
)

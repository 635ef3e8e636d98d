"""What a fill costs."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.strategy.kinds import OrderRule, order_rules

order_rules.register(
    OrderRule(
        Declaration(
            id="commission",
            section="orders",
            title="Commission",
            sentence="{per_contract} a contract and {per_order} an order.",
            params=(
                Param("per_contract", "number", "A contract", 0.80, 0, 50, 0.01, "EUR"),
                Param("per_order", "number", "An order", 0.0, 0, 200, 0.01, "EUR"),
            ),
            explains="Charged on every fill in options, entry and exit. Cash settlement at expiration costs nothing; units of the underlying "
            "have a sentence of their own.",
            example="0.80 EUR a contract and 0.00 EUR an order.",
            words=("fees", "costs"),
            unit="EUR",
            once=True,
        )
    )
)

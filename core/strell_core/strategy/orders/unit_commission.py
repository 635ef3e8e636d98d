"""What dealing in the underlying itself costs."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.strategy.kinds import OrderRule, order_rules

order_rules.register(
    OrderRule(
        Declaration(
            id="unit_commission",
            section="orders",
            title="Commission on units",
            sentence="{per_unit} a unit of the underlying and {per_order} an order in it.",
            params=(
                Param("per_unit", "number", "A unit", 0.0, 0, 50, 0.001, "EUR"),
                Param("per_order", "number", "An order", 0.0, 0, 200, 0.01, "EUR"),
            ),
            explains="Charged on every fill in the underlying itself, hedges and delivered units that are sold among them; an "
            "order in options and in units pays both commissions. A delivery and a dividend cost nothing. Without this "
            "sentence units cost their spread alone.",
            example="0.000 EUR a unit of the underlying and 0.00 EUR an order in it.",
            words=("fees", "costs", "stock", "shares", "hedge"),
            unit="EUR",
            once=True,
        )
    )
)

"""In which order the legs of a structure are dealt."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.strategy.kinds import OrderRule, order_rules

order_rules.register(
    OrderRule(
        Declaration(
            id="leg_by_leg",
            section="orders",
            title="Leg by leg",
            sentence="Limit orders deal {how}; an entry that remains incomplete {rest}.",
            params=(
                Param(
                    "how",
                    "choice",
                    "In which order",
                    "sides",
                    choices={
                        "sides": "what is bought first, then what is sold",
                        "each": "one leg after another, what is bought first",
                    },
                ),
                Param(
                    "rest",
                    "choice",
                    "An incomplete entry",
                    "undo",
                    choices={"undo": "is undone at the market", "keep": "stays as it is"},
                ),
            ),
            explains="Longs come in before shorts, shorts go out before longs. Each part is an order of its own, dealt on quotes "
            "that were recorded after the part before it was, with the whole patience of the sheet; a least credit is asked of the "
            "last part. Until its entry has ended a trade is left for losses only and not adjusted. An entry ends with its "
            "session. What is undone counts in costs and trades, not among entries and losses that rules ask for. Loss "
            "limits and adjustments deal all legs together, as do sessions with one snapshot.",
            example="Limit orders deal what is bought first, then what is sold; an entry that remains incomplete is undone at the "
            "market.",
            words=("legging in", "legging out", "one after another", "longs first", "single orders"),
            once=True,
            when_true="not every leg of the entry was dealt",
        ),
        default=False,
    )
)

"""How far limit orders go, and how long that takes."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.strategy.kinds import OrderRule, order_rules

order_rules.register(
    OrderRule(
        Declaration(
            id="patience",
            section="orders",
            title="Patience",
            sentence="Limits start {start} of the way from mid to the other side and go {step} further every {minutes} "
            "up to {most}; then an entry {entry} and an exit {exit}.",
            params=(
                Param("start", "integer", "First", 0, -100, 100, 1, "%"),
                Param("step", "integer", "Further", 25, 0, 200, 1, "%"),
                Param("minutes", "integer", "Every", 5, 1, 480, 1, "min"),
                Param("most", "integer", "Up to", 100, -100, 100, 1, "%"),
                Param(
                    "entry",
                    "choice",
                    "Then an entry",
                    "give_up",
                    choices={
                        "give_up": "is given up",
                        "wait": "waits there until the session ends",
                        "cross": "takes the other side",
                    },
                ),
                Param(
                    "exit",
                    "choice",
                    "Then an exit",
                    "cross",
                    choices={"cross": "takes the other side", "wait": "waits there"},
                ),
            ),
            explains="A limit is set on the quotes seen last, for the whole order; \u2212100 % is the own side, 0 % the mid. It is dealt "
            "on the first later quotes at which the prices that the sheet fills at are as good, at these. Minutes are those of "
            "sessions. Where its time is over before the next snapshot, and in sessions with one, its last limit is tried once. "
            "Adjustments are treated as entries. Loss limits are market orders and do not wait.",
            example="Limits start 0 % of the way from mid to the other side and go 25 % further every 5 min up to 100 %; "
            "then an entry is given up and an exit takes the other side.",
            words=("limit order", "walk", "chase", "work the order", "patience", "price improvement", "last resort"),
            price_basis="bid and ask",
            once=True,
        ),
        default=False,
    )
)

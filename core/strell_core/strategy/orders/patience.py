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
            explains="A limit is set on the quotes seen last, for the whole order, and rounded to a tick that costs no "
            "more; it is dealt on the first later quotes on which the prices that the sheet fills at are as good, at "
            "these. -100 % is the own side, 0 % the mid. Minutes are those of sessions. What an order waits for in less time than "
            "lies between two snapshots is one attempt, at its last limit; so it is in sessions with one snapshot. An adjustment "
            "is treated as an entry. Loss limits are market orders and do not wait.",
            example="Limits start 0 % of the way from mid to the other side and go 25 % further every 5 min up to 100 %; "
            "then an entry is given up and an exit takes the other side.",
            words=("limit order", "walk", "chase", "work the order", "patience", "price improvement", "last resort"),
            price_basis="bid and ask",
            once=True,
        ),
        default=False,
    )
)

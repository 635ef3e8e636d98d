"""What to do in sessions that have one snapshot only."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.strategy.kinds import OrderRule, order_rules

order_rules.register(
    OrderRule(
        Declaration(
            id="single_snapshots",
            section="orders",
            title="Sessions with one snapshot",
            sentence="In sessions with a single snapshot, {policy}.",
            params=(
                Param(
                    "policy",
                    "choice",
                    "Policy",
                    "decide",
                    choices={"decide": "decide on it, whatever its time", "skip": "skip entries"},
                ),
            ),
            explains="History of closing prices has one snapshot a session, usually not at the decision time. "
            "Exits are looked at on it either way. A time of day beyond the end of a shortened session acts before "
            "its last snapshot.",
            example="In sessions with a single snapshot, decide on it, whatever its time.",
            words=("end of day", "closing", "daily data"),
            once=True,
        )
    )
)

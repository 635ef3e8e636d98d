"""What cash earns, and what debt costs."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.strategy.kinds import LimitRule, limit_rules

limit_rules.register(
    LimitRule(
        Declaration(
            id="interest",
            section="limits",
            title="Interest on cash",
            sentence="Cash earns the money-market rate less {less}, and debt costs it plus {more}.",
            params=(
                Param("less", "number", "Less", 0.5, 0, 20, 0.01, "%"),
                Param("more", "number", "More", 1.5, 0, 20, 0.01, "%"),
            ),
            explains="Booked when a session begins, for the calendar days since the one before: by the shortest interest "
            "known then, percent a year of 365 days, continuously compounded, never below nothing for cash. Cash is all "
            "that is there, premium that was taken in with it; debt is cash below nothing. In backtests and replays only: "
            "an account of the desk has the interest its broker books. Without this sentence cash earns nothing.",
            example="Cash earns the money-market rate less 0.50 %, and debt costs it plus 1.50 %.",
            words=("cash", "money market", "carry", "debit", "borrow", "treasury bills", "yield"),
            unit="%",
            once=True,
        )
    )
)

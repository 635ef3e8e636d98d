"""How much capital trades may need together, and what happens when it is not there any more."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.strategy.kinds import LimitRule, limit_rules

limit_rules.register(
    LimitRule(
        Declaration(
            id="capital",
            section="limits",
            title="Capital",
            sentence="{entries} what needs more capital than is free; when equity falls below what is needed, {below}.",
            params=(
                Param("entries", "choice", "Entries", "refuse", choices={"refuse": "Refuse", "allow": "Allow"}),
                Param(
                    "below",
                    "choice",
                    "Below",
                    "report",
                    choices={"report": "say so", "newest": "close the newest trade", "all": "close all trades"},
                ),
            ),
            explains="Every open trade and opening order needs capital by the strategy-based rules: what is new at its "
            "fill prices, the rest at mid. Free is equity (cash and open trades at mid) less that. Equity is compared "
            "with what is needed at the end of every session; trades are then closed at the market, the newest one "
            "at a time. Without this sentence entries are refused and a call is said.",
            example="Refuse what needs more capital than is free; when equity falls below what is needed, say so.",
            words=("margin", "buying power", "margin call", "leverage"),
            once=True,
            tells=("equity", "needed"),
            when_true="equity {equity} fell below the capital needed, {needed}",
        )
    )
)

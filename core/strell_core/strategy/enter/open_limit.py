"""How many trades may be open at once."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import FALSE, TRUE, Params, Verdict
from strell_core.strategy.kinds import EnterCondition, EntryFrame, enter_conditions

DECLARATION = Declaration(
    id="open_limit", section="enter", title="Positions at once",
    sentence="Only while fewer than {limit|position is|positions are} open.",
    params=(Param("limit", "integer", "Positions", 1, 1, 50),),
    explains="Counts trades that are entering, open or leaving at the decision time.",
    example="Only while fewer than 1 position is open.", words=("flat", "at once", "maximum"), once=True,
    tells=('open',), when_true="{open} open, fewer than {limit}", when_false="{open} open, needs fewer than {limit}",
)  # fmt: skip


def judge(frame: EntryFrame, params: Params) -> Verdict:
    truth = TRUE if frame.account.open_trades < params["limit"] else FALSE
    return Verdict(truth, {"open": frame.account.open_trades, "limit": params["limit"]})


enter_conditions.register(EnterCondition(DECLARATION, judge))

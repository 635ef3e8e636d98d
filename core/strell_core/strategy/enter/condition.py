"""Only if a value compares with another: the general form of every condition on a market."""

from strell_core.measures.frames import FALSE, TRUE, Params, Verdict
from strell_core.strategy import conditions
from strell_core.strategy.condition_truths import CROSSINGS, MARKET, truths
from strell_core.strategy.kinds import EnterCondition, EntryFrame, enter_conditions

DECLARATION = conditions.declared(
    "needs",
    id="condition", section="enter", title="A condition", sentence="Only if {left} is {is} {right}{looks}{also}{until}.",
    params=conditions.params((*MARKET, "account"), {"measure": "iv_now"}, "above", 15.0),
    explains="Any value of the market, the clock or the account against another. A crossing compares the last two values: it "
    "was at or below, and is above. Unvalued while either value is.",
    example="Only if at-the-money IV over 30 days is above 15.", words=("if", "compare", "general", "crossing", "measure"),
)  # fmt: skip


def judge(frame: EntryFrame, params: Params) -> Verdict:
    where = frame.frame()
    crosses = params["is"] in CROSSINGS
    told = conditions.told(params, where)
    truth = int(truths(params, where, crossed=crosses and frame.again)[0])
    if crosses and not frame.again and truth == TRUE and frame.account.entered_today:
        alone = not params.get("also") or params.get("join") != "or"
        if alone and not params.get("until"):
            # true all session: it is acted on once
            return Verdict(FALSE, {**told, "message": "the crossing was acted on in this session"})
    return Verdict(truth, told)


enter_conditions.register(EnterCondition(DECLARATION, judge))

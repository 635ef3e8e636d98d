"""A market condition on a second underlying: only while another one has risen since its session's open."""

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import FALSE, TRUE, UNVALUED, Params, Verdict
from strell_core.strategy.kinds import EnterCondition, EntryFrame
from tests.engine.coming.session_move import MEASURE

DECLARATION = Declaration(
    id="other_above", section="enter", title="Another underlying has risen",
    sentence="Only if {of} has moved more than {percent} since its open.",
    params=(Param("of", "sentence", "Underlying", ""), Param("percent", "number", "Move", 0, -20, 20, 0.01, "%")),
    explains="The other underlying's move since its open, at its last snapshot not after now; unvalued without one.",
    example="Only if OTHR has moved more than 0.50 % since its open.", unit="%", grid=0.01,
    when_true="{move}, more than {percent}", when_false="{move}, needs more than {percent}",
    when_unvalued="there is no price of it now",
)  # fmt: skip


def judge(frame: EntryFrame, params: Params) -> Verdict:
    move = MEASURE.at(frame.observation, {}, params["of"])
    told = {"move": move, "percent": params["percent"]}
    if move is None:
        return Verdict(UNVALUED, told)
    return Verdict(TRUE if move > params["percent"] else FALSE, told)


CONDITION = EnterCondition(DECLARATION, judge)

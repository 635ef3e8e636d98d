"""The same number of lots every time."""

from collections.abc import Sequence

from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Params, PickedLeg
from strell_core.strategy.kinds import EntryFrame, SizeRule, size_rules

DECLARATION = Declaration(
    id="fixed_lots", section="size", title="Lots", sentence="{lots|lot|lots}.",
    params=(Param("lots", "integer", "Lots", 1, 1, 1000),),
    explains="Each leg is traded lots × its ratio times.", example="1 lot.", words=("contracts", "quantity"), once=True,
)  # fmt: skip


def lots(frame: EntryFrame, legs: Sequence[PickedLeg], params: Params) -> int:
    return int(params["lots"])


size_rules.register(SizeRule(DECLARATION, lots))

"""What a strategy decides at every look of a period, as soon as it can be told."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from strell_core.engine.lives import Beyond
from strell_core.engine.plan import Plan
from strell_core.engine.run import Progress, run_blocks
from strell_core.engine.variants import Variants
from strell_core.results.report import decisions


def strip(
    plan: Plan, variants: Variants, cash: Decimal, progress: Progress | None = None
) -> list[dict[str, Any]]:  # fmt: skip
    """Every decision of a run over the period of ``variants``, as :attr:`strell_core.results.report.Report.decisions` has
    them. ``variants``: what rules of the same market have brought to light already; where more than that is asked the
    engine runs. ``progress`` may raise to stop either."""
    try:
        return decisions(variants.run(plan, cash, tells=True, progress=progress).said)
    except Beyond:
        history = run_blocks(plan, variants.market, variants.begin, variants.end, cash, progress, until_ruin=True)
        return decisions(history.reasons)

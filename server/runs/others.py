"""What another exit would have brought, in words."""

from __future__ import annotations

from typing import Any

from config.errors import NotThere
from market.own import market_for, plan_for
from runs.models import Run
from runs.rows import exit_reason
from strell_core.engine.stored import closed_trade
from strell_core.results.other_exits import ALL, EARLIER, LATER, NEVER, OtherExit, other_exits
from strell_core.strategy.document import parse
from strell_core.strategy.sentences import sheet

TITLES = {
    NEVER: "no exit: held to expiration", EARLIER: "decided one session earlier, at the same time",
    LATER: "decided one session later, at the same time",
}  # fmt: skip


def others(run: Run, number: int) -> dict[str, Any]:
    """A finished run's trade with other exits, from the data as it is now."""
    row = run.trades.filter(number=number).first()
    if row is None:
        raise NotThere(f"Run {run.number} has no trade {number}.")
    document = run.document
    market = market_for(document, run.strategy.owner_id)
    timeline = market.main
    trade = closed_trade(row.trade, timeline.underlying.symbol)
    plan = plan_for(parse(document), market)
    found = other_exits(plan, market, trade)
    written = sheet(document)
    titles, numbered = {sentence.id: sentence.text for sentence in written.sentences}, written.numbered
    opened = timeline.calendar.local(trade.opened_at)

    def told(other: OtherExit) -> dict[str, Any]:
        closed = timeline.calendar.local(other.closed_at)
        if other.trade is None:
            reason = "open where the history ends, at mid"
        elif other.left_by in (EARLIER, LATER):
            reason = "closed at the next quotes that could be dealt at"
        else:
            its = market.on_clock(trade.symbol)
            reason = exit_reason(its, document, written, other.left_by, other.trade.values, opened.date())
        return {
            "how": other.how, "title": TITLES.get(other.how) or titles[other.how],
            "sentence": None if other.how in TITLES else numbered(other.how), "closed_shown": closed.strftime("%a %-d %b %Y %H:%M"),
            "held": (closed.date() - opened.date()).days, "reason": reason, "pnl": float(other.pnl),
            "apart": float(other.pnl - trade.pnl), "acted": other.how == trade.rule,
        }  # fmt: skip

    again = found[0] if found else None
    return {
        "changed": run.manifest.get("chains") != timeline.digest,
        "same": again is not None and (again.pnl, again.closed_at) == (trade.pnl, trade.closed_at),
        "exits": [told(other) for other in found if other.how != ALL],
    }

"""Open everything a database holds, then let it go on, and print what that gives as JSON.

Run as a program on a database of an earlier version after its migrations: what it prints then stands in
``expected.json``, made by that version itself.
"""

from __future__ import annotations

import json
import os
import sys
from typing import Any

MINUTES = 50


def opened(user: Any) -> dict[str, Any]:
    """Figures, trades, replays and positions as their pages read them."""
    from desk import queries as desk
    from replay import queries as replays
    from replay.models import ReplaySession
    from runs import queries as runs
    from runs.models import Run

    out: dict[str, Any] = {}
    for run in Run.objects.of(user).select_related("strategy", "revision").order_by("pk"):
        whole = runs.whole_facts(run)
        out[f"run {run.pk}"] = {
            # the range of growth was a figure then
            "figures": {**whole["figures"], "cagr_interval": whole["intervals"].get("cagr")}, "trades": whole["trades"], "decisions": whole["decisions"],
            "equity": whole["curve"]["equity"],
        }  # fmt: skip
        for trade in run.trades.all():
            detail = runs.trade_detail(run, trade.number, None)
            out[f"run {run.pk} trade {trade.number}"] = {key: detail[key] for key in ("legs", "path", "glyph")}
    for session in ReplaySession.objects.of(user).order_by("pk"):
        scene = replays.scene(session, None, None)
        out[f"replay {session.pk}"] = {key: scene[key] for key in ("account", "legs", "bar", "note")}
    for account in user.accounts.order_by("pk"):
        page = desk.desk(user, account)
        out[f"account {account.name}"] = {key: page[key] for key in ("account", "holdings", "orders")}
    return out


def went_on(user: Any, minutes: int) -> dict[str, Any]:
    """The session a while later: what every deployment said, its trades, and the account's cash."""
    from desk import leader
    from desk.models import Decision, Deployment, DeskFill
    from desk.process import Desk
    from market.models import Venue
    from practice_exchange.exchange import Exchange
    from venue import clock

    exchange, desk = Exchange("MK30"), Desk(leader.new_epoch())
    venue = clock.venue_of("MK30")
    since = venue.reached
    Venue.objects.filter(pk=venue.pk).update(jump_to=since + 60 * minutes)
    more = True
    while more:
        more = exchange.tick()
        exchange._waiting = None
        desk.round()
    desk.round()
    out: dict[str, Any] = {}
    for deployment in Deployment.objects.order_by("pk"):
        rows = Decision.objects.filter(deployment=deployment, at__gt=since).order_by("at")
        state = json.loads(deployment.state)
        out[deployment.revision.document["name"]] = {
            "said": [
                [row.at, [[r["kind"], r["trade"], r["rule"], r["truth"]] for r in row.reasons], len(row.intents)]
                for row in rows
            ],
            "cash": state["cash"], "open": [trade["number"] for trade in state["trades"]],
        }  # fmt: skip
    fills = DeskFill.objects.filter(at__gt=since).order_by("pk")
    out["fills"] = [[fill.at, fill.lots, [leg[1:] for leg in fill.legs]] for fill in fills]
    return out


def main() -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "config.settings")
    import django

    django.setup()
    from django.contrib.auth.models import User

    user = User.objects.get(username="mara")
    json.dump({"opened": opened(user), "went on": went_on(user, MINUTES)}, sys.stdout, default=str, sort_keys=True)


if __name__ == "__main__":
    main()

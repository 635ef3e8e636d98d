"""Reading intakes: how far one is, what came of it, which runs read what it changed."""

from __future__ import annotations

import datetime as dt
from typing import Any

from intake.files import reasons_of
from market.models import Intake
from runs.queries import touched
from strell_core.formats.intake.sessions import FINDINGS


def facts(row: Intake) -> dict[str, Any]:
    now = row.finished_at or dt.datetime.now(dt.UTC)
    elapsed = None if row.started_at is None else (now - row.started_at).total_seconds()
    running = row.status == Intake.Status.RUNNING and elapsed is not None and row.share > 0.02
    rejected = row.report.get("rejected", {})
    symbols = []
    for symbol, mine in sorted(row.report.get("sessions", {}).items()):
        found = [
            {"what": FINDINGS[name], "count": mine["findings"][name]} for name in FINDINGS if mine["findings"].get(name)
        ]
        anew = mine.get("anew", {})
        spans = {name: (span["first"], span["last"]) for name, span in anew.items()}
        if row.mapping.get("kind", "chains") == "chains" and mine["changed"] and mine.get("first"):
            spans[symbol] = (mine["first"], mine["last"])
        runs = [run for name, span in sorted(spans.items()) for run in touched(row.owner, name, *span)]
        anew = [{"symbol": name, "sessions": span["count"]} for name, span in sorted(anew.items())]
        symbols.append({**mine, "symbol": symbol, "findings": found, "runs": runs, "anew": anew})
    return {
        "id": row.pk, "name": row.name, "size": row.size, "made_at": row.made_at, "status": row.status, "doing": row.doing,
        "share": row.share, "message": row.message, "elapsed": elapsed,
        "expected": elapsed / row.share if running and elapsed is not None else None, "rows": row.rows, "adds": row.adds, "kind": row.mapping.get("kind", "chains"),
        "mapping": row.mapping, "terms": row.terms, "rejects": sum(rejected.values()),
        "rejected": [
            {"what": words, "count": rejected[name]} for name, words in reasons_of(row.mapping.get("kind", "chains")).items() if rejected.get(name)
        ],
        "symbols": symbols, "brought": row.chains.count() + row.changes.count(),
    }  # fmt: skip

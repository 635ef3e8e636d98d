"""Carrying out an intake of dated facts."""

from __future__ import annotations

import csv
from collections import Counter
from pathlib import Path
from typing import Any

from django.db import transaction

from facts import dated
from intake.files import day_finder
from intake.work import Lost, Status, Work, end, reject_cells
from market.models import Intake
from market.refresh import refresh
from strell_core.formats.intake.dated import records


class DatedWork(Work):
    """Carrying out a file of dated facts. It is stored block by block, and by key: begun anew it changes nothing
    that it changed before."""

    stores = "facts"

    def run(self) -> None:
        self.fresh_rejects()
        keeper = dated.Keeper(self.intake, self.mapping.kind, self._underlying)
        rejected: Counter[str] = Counter()
        total: dict[str, dict[str, Any]] = {}
        days_of = day_finder(self.intake.terms, self.mapping.kind)
        with open(self.folder / "rejects" / "0-file.csv", "w", newline="") as file:
            out = csv.writer(file)
            for block in records(Path(self.intake.path), self.mapping, days_of):
                for reject in block.rejects:
                    out.writerow(reject_cells(reject, self.mapping.kind))
                    rejected[reject.reason] += 1
                with transaction.atomic():
                    held = Intake.objects.select_for_update(no_key=True).get(pk=self.intake.pk)
                    if held.status != Status.RUNNING:
                        raise Lost
                    for subject, counts in keeper.keep(block.rows).items():
                        _add_counts(total.setdefault(subject, {"findings": {}}), counts)
                    held.report = {"rejected": dict(rejected), "sessions": total}
                    held.rows, held.stored = block.read, sum(c["new"] + c["changed"] for c in total.values())
                    held.save(update_fields=["report", "rows", "stored"])
                    self.intake.report = held.report
                self.tell(f"storing, {block.read:,} rows".replace(",", "\u00a0"), block.share)
        self.finish_data()
        end(self.intake, Status.DONE, "")

    def finish_data(self) -> None:
        """Facts are read as soon as they are stored; volatilities that rest on them are computed anew."""
        subjects = self.intake.report.get("sessions", {})
        for row in dated.resting_on(self.mapping.kind, subjects):
            changed = refresh(row, self.tell_anew)
            subject = subjects[row.currency if self.mapping.kind == "rates" else row.symbol]
            if changed:
                span = {"count": len(changed), "first": min(changed).isoformat(), "last": max(changed).isoformat()}
                subject.setdefault("anew", {})[row.symbol] = span
        Intake.objects.filter(pk=self.intake.pk).update(report=self.intake.report)


def _add_counts(total: dict[str, Any], counts: dict[str, Any]) -> None:
    for name, value in counts.items():
        if name == "first":
            total[name] = min(total.get(name, value), value)
        elif name == "last":
            total[name] = max(total.get(name, value), value)
        else:
            total[name] = total.get(name, 0) + value

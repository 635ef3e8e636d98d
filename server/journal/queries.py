"""Reading the journal: filtered, in pages, as a file."""

from __future__ import annotations

import csv
import datetime as dt
import io
from collections.abc import Iterator
from typing import Any

from django.contrib.auth.models import User

from config.errors import Refused
from journal.models import JournalEntry, JournalQuerySet
from journal.services import WHO
from strell_core.formats.cells import marked

PAGE = 100
MAX_EXPORT = 100_000
FIELDS = (
    "id",
    "at",
    "market_at",
    "who",
    "kind",
    "text",
    "rule",
    "account",
    "strategy",
    "deployment",
    "order",
    "symbol",
)


def entries(
    user: User, who: str = "", kind: str = "", account: int | None = None, deployment: int | None = None,
    order: int | None = None, strategy: int | None = None, words: str = "", before: int | None = None,
) -> JournalQuerySet:  # fmt: skip
    """A person's entries, newest first, that match everything given."""
    if who and who not in WHO:
        raise Refused(f"'{who}' does nothing here; choose one of {', '.join(WHO)}.")
    found = JournalEntry.objects.of(user)
    given = {
        "who": who, "kind": kind, "account": account, "deployment": deployment, "order": order, "strategy": strategy,
        "text__icontains": words, "id__lt": before,
    }  # fmt: skip
    return found.filter(**{key: value for key, value in given.items() if value not in ("", None)})


def page(found: JournalQuerySet) -> dict[str, Any]:
    rows = list(found[: PAGE + 1])
    return {"rows": rows[:PAGE], "more": len(rows) > PAGE}


def kinds(user: User) -> list[str]:
    return list(JournalEntry.objects.of(user).order_by("kind").values_list("kind", flat=True).distinct())


def as_csv(found: JournalQuerySet) -> Iterator[str]:
    """RFC 4180, one entry a line. Text that a spreadsheet would run is marked as text."""
    place = io.StringIO()
    out = csv.writer(place)
    out.writerow([*FIELDS, "values"])
    for entry in found[:MAX_EXPORT].iterator(chunk_size=500):
        out.writerow([*(_cell(getattr(entry, name)) for name in FIELDS), entry.values or ""])
        yield place.getvalue()
        place.seek(0)
        place.truncate()
    yield place.getvalue()


def _cell(value: Any) -> Any:
    if isinstance(value, dt.datetime):
        return value.isoformat()
    return "" if value is None else marked(str(value))

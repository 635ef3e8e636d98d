"""Writing the journal."""

from __future__ import annotations

from typing import Any

from config.push import notify
from journal.models import JournalEntry

WHO = ("person", "rule", "desk", "broker", "market")


def write(
    owner_id: int, who: str, kind: str, text: str, market_at: int | None = None, push: bool = True, **facts: Any
) -> JournalEntry:
    """Add an entry, in the transaction of what it tells of. ``facts``: rule, values and what it points to.
    Without ``push`` the caller tells the owner's browsers, who look at the journal again as well."""
    assert who in WHO, who
    entry = JournalEntry.objects.create(owner_id=owner_id, who=who, kind=kind, text=text, market_at=market_at, **facts)
    if push:
        notify(owner_id, "journal", entry.pk)
    return entry

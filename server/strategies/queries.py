"""Reading strategies: the shelf, a sheet, declarations."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import asdict
from functools import lru_cache
from typing import Any, cast

from django.contrib.auth.models import User
from django.db.models import Model

from config.errors import NotThere
from market.own import first_series, market_for
from observe.payoffs import glyph
from strategies import services
from strategies.models import Revision, Strategy
from strell_core.formats.starters import starters
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Frame
from strell_core.measures.values import allowed, family
from strell_core.pricing.held import Holding
from strell_core.selection.select import select
from strell_core.strategy import catalogue
from strell_core.strategy.acting import acting
from strell_core.strategy.additions import additions
from strell_core.strategy.differences import differences
from strell_core.strategy.document import clock_of, parse
from strell_core.strategy.sentences import Sheet, sheet


def sheet_of(document: dict[str, Any]) -> list[dict[str, Any]]:
    """Sentences with their tokens, as the page draws them."""
    return _drawn(sheet(document))


def acting_sheet_of(document: dict[str, Any], owner_id: int) -> list[dict[str, Any]]:
    """The same, with when its times act on the recorded snapshots; without where their underlying has no data any more."""
    try:
        known = acting(document, market_for(document, owner_id).main)
    except NotThere:
        known = {}
    return _drawn(sheet(document), known)


def _drawn(whole: Sheet, acts: Mapping[str, str] | None = None) -> list[dict[str, Any]]:
    """``acts``: by sentence, when it acts, where that is known."""
    known = acts or {}
    return [{**asdict(item), "text": item.text, "acts": known.get(item.id, "")} for item in whole.sentences]


def glyph_now(document: dict[str, Any], owner_id: int) -> dict[str, Any]:
    """The structure the rules would pick at the last recorded snapshot, for the leg glyph."""
    whole = market_for(document, owner_id)
    first = parse(document).entries[0]
    history = whole.on_clock(first.underlying)
    index = len(history.times) - 2
    view, legs = history.view(index), first.legs
    frame = Frame(whole, index, index + 1, view.underlying.symbol)
    picked = select(legs, frame, view).legs
    return glyph([Holding(leg.contract, leg.contracts, 0.0) for leg in picked], view.spot / 100)


def revision_facts(revision: Revision) -> dict[str, Any]:
    return {
        "number": revision.number, "created_at": revision.created_at, "change": revision.change,
        "digest": revision.digest, "note": revision.note,
    }  # fmt: skip


ONE_GO = dt.timedelta(minutes=10)
"""Between two changes of one run of edits at most."""


def history(strategy: Strategy) -> list[dict[str, Any]]:
    """A strategy's revisions, the latest first, told in runs of edits: changes made one soon after the other, of which
    none but the last was noted or is used by anything (a run, a replay, a deployment). Every step of a run is there."""
    used = _used(strategy)
    runs: list[list[Revision]] = []
    for revision in strategy.revisions.order_by("number"):
        last = runs[-1][-1] if runs else None
        joins = (
            last is not None and len(runs) > 1 and revision.created_at - last.created_at < ONE_GO
            and not last.note and last.pk not in used
        )  # fmt: skip
        if joins:
            runs[-1].append(revision)
        else:
            runs.append([revision])
    out = []
    for place, steps in enumerate(runs):
        in_all = "" if len(steps) == 1 else _in_all(runs[place - 1][-1], steps[-1])
        for revision in steps:
            whole = in_all if revision is steps[-1] else ""
            out.append({**revision_facts(revision), "ends": steps[-1].number, "in_all": whole})
    return out[::-1]


def _in_all(before: Revision, after: Revision) -> str:
    if before.document == after.document:
        return "changed, and changed back"
    return services.change_words(before.document, after.document)[:200]


def _used(strategy: Strategy) -> set[int]:
    """Revisions that something else speaks of."""
    found: set[int] = set()
    for relation in Revision._meta.related_objects:
        model, name = cast(type[Model], relation.related_model), relation.field.name
        rows = model._default_manager.filter(**{f"{name}__strategy": strategy})
        found |= set(rows.values_list(f"{name}_id", flat=True))
    return found


def against_latest(strategy: Strategy, number: int) -> list[dict[str, Any]]:
    """Sentences in which a revision and the latest differ, the revision's words first."""
    return differences([services.revision(strategy, number).document, strategy.latest.document])


def strategy_facts(strategy: Strategy) -> dict[str, Any]:
    """A strategy's page: its latest revision, sheet, and what the track says."""
    latest = strategy.latest
    whole = sheet(latest.document)
    return {
        "id": strategy.pk, "name": latest.document["name"], "underlying": clock_of(latest.document), "underlyings": latest.document["underlyings"],
        "revision": latest.number, "digest": latest.digest, "document": latest.document,
        "sheet": acting_sheet_of(latest.document, strategy.owner_id), "blocks": [asdict(block) for block in whole.blocks], "glyph": glyph_now(latest.document, strategy.owner_id),
        "sentences": sum(1 for s in whole.sentences if not s.off), "held_from": strategy.held_from, "looks": strategy.looks,
    }  # fmt: skip


def additions_to(strategy: Strategy) -> list[dict[str, Any]]:
    """Sentences that may be added to the latest revision, each as it would stand and read there."""
    return [asdict(item) for item in additions(strategy.latest.document, first_series(strategy.owner_id))]


@lru_cache(maxsize=1)
def starters_told() -> list[dict[str, Any]]:
    """What may be begun from, with the sentences that make it what it is."""
    out = []
    for item in starters():
        written = sheet(item.document(item.title, "MK30")).sentences
        told = [
            {"number": s.number, "text": s.text} for s in written if s.part in ("legs", "checks", "leave", "adjust")
        ]
        facts = {name: getattr(item, name) for name in ("id", "family", "title", "lives", "hurts", "needs_units")}
        out.append({**facts, "sentences": told})
    return out


def shelf(user: User) -> list[Strategy]:
    return list(Strategy.objects.of(user).order_by("-created_at"))


def _declaration(declaration: Declaration) -> dict[str, Any]:
    keep = (
        "id",
        "section",
        "title",
        "sentence",
        "explains",
        "example",
        "words",
        "price_basis",
        "warm_up",
        "once",
        "mirrors",
    )
    return {
        **{key: getattr(declaration, key) for key in keep},
        "params": [_param(param) for param in declaration.params],
    }


def _param(param: Param) -> dict[str, Any]:
    """A value as it is edited, by what its kind says."""
    kind = param.of_kind
    default = kind.normal(param, param.default)
    inside = family(param.scopes) if param.kind == "value" and param.scopes else ""
    return {
        **asdict(param), "editor": kind.editor, "choices": kind.options(param), "default": default, "family": inside,
    }  # fmt: skip


@lru_cache(maxsize=1)
def declarations() -> dict[str, Any]:
    """All declarations, for the editor."""
    return {
        "sections": [
            {
                "id": section, "title": title,
                "sentences": [
                    {**_declaration(d), "part": part} for part in parts for d in catalogue.sentences(part).values()
                ],
            }
            for section, (title, parts) in catalogue.SECTIONS.items()
        ],
        "families": {
            **{
                name: {"key": "pick", "items": [_declaration(d) for d in catalogue.picks(name).values()]}
                for name in catalogue.PICKS
            },
            **{
                family(scopes): {"key": "measure", "items": [_declaration(m.declaration) for m in allowed(scopes)]}
                for scopes in catalogue.value_scopes()
            },
        },
    }  # fmt: skip

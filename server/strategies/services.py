"""Writing strategies: every change is a new revision."""

from __future__ import annotations

import copy
import datetime as dt
from collections.abc import Sequence
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction

from config.errors import Conflict, NotThere, Refused
from config.push import notify
from market.models import Series, Underlying
from market.own import missing_series
from observe.services import instant
from strategies.models import Revision, Strategy
from strell_core.formats.starters import starters
from strell_core.formats.strategies import StrategyFileError, from_text
from strell_core.market.instruments import ContractKey
from strell_core.measures.declaration import WEEKDAYS
from strell_core.selection.rules_of import rules_of
from strell_core.strategy.document import DocumentError, clock_of, typed, written
from strell_core.strategy.edits import mirrored, rules_digest, with_entry_like
from strell_core.strategy.sentences import sheet

MAX_STRATEGIES = 500


def checked(raw: Any) -> dict[str, Any]:
    """A normalised document; raises :class:`Refused` with every problem at its place."""
    try:
        return written(raw)
    except DocumentError as error:
        problems = [{"path": p.path, "message": p.message} for p in error.problems]
        raise Refused(_first(problems), problems) from error


def checked_text(text: str) -> dict[str, Any]:
    """A document from a file's text; problems carry their line."""
    try:
        return from_text(text)
    except StrategyFileError as error:
        problems = [{"line": line, "path": path, "message": message} for line, path, message in error.problems]
        raise Refused(f"Line {problems[0]['line']}: {problems[0]['message']}", problems) from error


def begun(starter: str, name: str, underlying: str) -> dict[str, Any]:
    """The document of a starter under a name and for an underlying of one's own."""
    found = next((item for item in starters() if item.id == starter), None)
    if found is None:
        raise NotThere("There is no such starter.")
    row = Underlying.objects.filter(symbol=underlying).first()
    if found.needs_units and row is not None and row.kind == "index":
        message = (
            f"{found.title} deals in the underlying itself, and {underlying} is an index; choose a stock or a fund."
        )
        raise Refused(message, [{"path": "begin/underlying", "message": message}])
    try:
        return found.document(name, underlying)
    except DocumentError as error:
        problems = [{"path": p.path, "message": p.message} for p in error.problems]
        raise Refused(_first(problems), problems) from error


def _first(problems: list[dict[str, Any]]) -> str:
    rest = f" ({len(problems) - 1} more)" if len(problems) > 1 else ""
    return f"{problems[0]['message']}{rest}"


def find(user: User, strategy_id: int) -> Strategy:
    found = Strategy.objects.of(user).filter(pk=strategy_id).first()
    if found is None:
        raise NotThere("There is no such strategy.")
    return found


@transaction.atomic
def create(user: User, document: dict[str, Any]) -> Strategy:
    if Strategy.objects.of(user).count() >= MAX_STRATEGIES:
        raise Refused(f"At most {MAX_STRATEGIES} strategies; delete one first.")
    strategy = Strategy.objects.create(owner=user, underlying=_underlying(document, user.pk))
    _add_revision(strategy, document, "written", 0)
    return strategy


def from_legs(
    user: User, symbol: str, at: str | None, legs: Sequence[tuple[str, int]], name: str | None
) -> tuple[Strategy, list[str]]:
    """A strategy whose rules pick a structure, decided at the time of day at which it was put together; with what
    its rules pick otherwise."""
    here = instant(symbol, at)
    view, local = here.history.view(here.index), here.history.calendar.local(here.at)
    try:
        wanted = [(ContractKey.parse(code, symbol), contracts) for code, contracts in legs if contracts]
    except ValueError as error:
        raise Refused(f"{error}.", [{"path": "legs", "message": str(error)}]) from error
    if not wanted:
        raise Refused("Without an option there is nothing to write rules for; the underlying alone is no structure.")
    for contract, _ in wanted:
        if contract.expiration not in view.expirations or not view.quote(contract).valid:
            raise Refused(f"{contract.label} has no quote at this instant; choose another instant or take it off.")
    try:
        made = rules_of(view, local.date(), wanted)
    except ValueError as error:
        raise Refused(f"{error}.".capitalize(), [{"path": "legs", "message": str(error)}]) from error
    middle = sum(contracts * (view.quote(c).bid + view.quote(c).ask) for c, contracts in wanted)
    leave = ["credit_target" if middle < 0 else "debit_target", "premium_stop", "before_expiration"]
    days = list(WEEKDAYS[local.weekday() : local.weekday() + 1] or WEEKDAYS)
    entry = {
        "when": [{"rule": "decision_times", "weekdays": days, "time": f"{local:%H:%M}"}],
        "conditions": [{"rule": "open_limit"}], "legs": made.legs, "size": [{"rule": "fixed_lots", "lots": made.lots}],
    }  # fmt: skip
    document = checked(
        {
            "name": name or f"{symbol} as of {local:%-d %b %Y %H:%M}", "underlyings": [symbol], "entries": [entry],
            "leave": [{"rule": rule} for rule in leave],
            "orders": [{"rule": rule} for rule in ("fill_model", "commission", "single_snapshots", "doubtful_marks")],
        }
    )  # fmt: skip
    return create(user, document), made.notes


def _underlying(document: dict[str, Any], owner_id: int) -> Underlying:
    """The one whose snapshots are the clock; every other has to be there as well, and every series of its owner's."""
    if gone := missing_series(document, owner_id):
        own = ", ".join(Series.objects.filter(owner=owner_id).values_list("name", flat=True)) or "none yet"
        problems = [{"path": path, "message": f"You have no series {name}; there is {own}"} for path, name in gone]
        raise Refused(_first(problems), problems)
    rows = {row.symbol: row for row in Underlying.objects.filter(symbol__in=document["underlyings"])}
    for place, symbol in enumerate(document["underlyings"]):
        if symbol not in rows:
            known = ", ".join(Underlying.objects.exclude(data_digest="").values_list("symbol", flat=True)) or "none yet"
            message = f"There is no underlying '{symbol}'; there is {known}"
            raise Refused(message, [{"path": f"underlyings/{place}", "message": message}])
    traded = [rows[symbol] for symbol in dict.fromkeys((clock_of(document), *typed(document).traded))]
    if len({row.currency for row in traded}) > 1:
        told = ", ".join(f"{row.symbol} in {row.currency}" for row in traded)
        message = f"What is traded together has to be quoted in one currency: {told}"
        raise Refused(message, [{"path": "underlyings", "message": message}])
    return rows[clock_of(document)]


def _add_revision(strategy: Strategy, document: dict[str, Any], change: str, after: int) -> Revision:
    """``after``: the number of the last one there is."""
    revision = Revision.objects.create(
        strategy=strategy, number=after + 1, document=document,
        digest=rules_digest(document), change=change[:200],
    )  # fmt: skip
    notify(strategy.owner_id, "strategy", strategy.pk)
    return revision


@transaction.atomic
def revise(user: User, strategy_id: int, document: dict[str, Any], based_on: int) -> Revision:
    """Store a changed document. ``based_on`` is the revision the change was made to."""
    strategy = find(user, strategy_id)
    Strategy.objects.select_for_update(no_key=True).get(pk=strategy.pk)
    latest = strategy.latest
    if latest.number != based_on:
        raise Conflict(
            f"This strategy was changed elsewhere: it is now revision {latest.number}. Look at it, then change it."
        )
    if latest.document == document:
        return latest
    underlying = _underlying(document, user.pk)
    if underlying.pk != strategy.underlying_id:
        strategy.underlying = underlying
        strategy.save(update_fields=["underlying"])
    return _add_revision(strategy, document, change_words(latest.document, document), latest.number)


def change_words(before: dict[str, Any], after: dict[str, Any]) -> str:
    """What was done to a document, in its sentences."""
    old = {s.id: s.text for s in sheet(before).sentences}
    new = {s.id: s.text for s in sheet(after).sentences}
    changed = [text for key, text in new.items() if key in old and old[key] != text]
    added = [text for key, text in new.items() if key not in old]
    gone = [text for key, text in old.items() if key not in new]
    words = [*changed, *(f"added: {t}" for t in added), *(f"removed: {t}" for t in gone)]
    if words:
        return "; ".join(words)
    return f"renamed to {after['name']}" if before["name"] != after["name"] else "sentences ordered or switched"


def revision(strategy: Strategy, number: int) -> Revision:
    """One of a strategy's revisions; raises :class:`NotThere`."""
    found = strategy.revisions.filter(number=number).first()
    if found is None:
        raise NotThere(f"There is no revision {number}.")
    return found


def describe_revision(user: User, strategy_id: int, number: int, note: str) -> Revision:
    """What a person says of a revision; its rules stay as they are."""
    found = revision(find(user, strategy_id), number)
    found.note = note
    found.save(update_fields=["note"])
    return found


@transaction.atomic
def go_back(user: User, strategy_id: int, number: int) -> Revision:
    """Make an earlier revision the latest again (undo): a new revision with its document."""
    strategy = find(user, strategy_id)
    earlier = revision(strategy, number)
    Strategy.objects.select_for_update(no_key=True).get(pk=strategy.pk)
    return _add_revision(strategy, earlier.document, f"back to revision {number}", strategy.latest.number)


def mirror_sentence(user: User, strategy_id: int, sentence_id: str, based_on: int) -> Revision:
    """Exchange calls and puts, above and below in one sentence."""
    document = find(user, strategy_id).latest.document
    if sheet(document).sentence(sentence_id) is None:
        raise NotThere("There is no such sentence; it may have been removed.")
    return revise(user, strategy_id, mirrored(document, only=sentence_id), based_on)


def add_entry(user: User, strategy_id: int, like: str, mirror: bool, based_on: int) -> Revision:
    """One more entry that does as ``like`` does, or with calls and puts, above and below exchanged."""
    document = find(user, strategy_id).latest.document
    try:
        made = with_entry_like(document, like, mirror)
    except KeyError as error:
        raise NotThere("There is no such entry; it may have been removed or renamed.") from error
    return revise(user, strategy_id, checked(made), based_on)


def duplicate(user: User, strategy_id: int, mirror: bool, number: int | None = None) -> Strategy:
    """A new strategy with the rules of the latest or another revision, calls and puts exchanged or not."""
    strategy = find(user, strategy_id)
    document = copy.deepcopy((strategy.latest if number is None else revision(strategy, number)).document)
    if mirror:
        document = mirrored(document)
    document["name"] = f"{document['name']}, {'mirrored' if mirror else 'copy'}"[:80]
    return create(user, document)


def delete(user: User, strategy_id: int) -> None:
    strategy = find(user, strategy_id)
    strategy.deleted_at = dt.datetime.now(dt.UTC)
    strategy.save(update_fields=["deleted_at"])


def restore(user: User, strategy_id: int) -> Strategy:
    """Undo a deletion."""
    found = Strategy.objects.filter(owner=user, pk=strategy_id).first()
    if found is None:
        raise NotThere("There is no such strategy.")
    found.deleted_at = None
    found.save(update_fields=["deleted_at"])
    return found

"""Files on their way into the data: uploaded, looked at, read, stored session by session, taken back.

A file is read twice at most: once to lay its rows aside by session, then session by session into the
database. Both parts may be killed at any instant: what is laid aside is begun anew, a session is stored
whole or not at all, and a stored one is not stored again.
"""

from __future__ import annotations

import csv
import datetime as dt
import hashlib
import logging
import shutil
import time
from collections import Counter
from collections.abc import Iterator
from decimal import Decimal, InvalidOperation
from pathlib import Path
from typing import Any, BinaryIO
from zoneinfo import ZoneInfo

import numpy as np
from django.conf import settings
from django.contrib.auth.models import User
from django.db import OperationalError, transaction
from django.db.models import Max

from config.errors import Conflict, NotThere, Refused
from config.push import notify, notify_market
from market.models import Bar, ColumnMapping, Contract, Expiration, Intake, SessionChainRow, Underlying, Venue
from market.timelines import calendar_of, data_digest, fold_in, terms
from strell_core.formats.intake import merge
from strell_core.formats.intake import sessions as made_of
from strell_core.formats.intake.mapping import Mapping, MappingError
from strell_core.formats.intake.rows import REASONS, Block, IntakeError, Reject, blocks, sample
from strell_core.formats.intake.stage import Stage
from strell_core.market.calendars import names as calendar_names
from strell_core.market.chains import SessionChain, decode, digest, encode
from strell_core.market.instruments import ContractKey, thousandths
from strell_core.pricing.surface import CONVENTIONS

Status = Intake.Status
log = logging.getLogger("strell.intake")
REPORT_EVERY = 0.5
MAX_ATTEMPTS = 3
MAX_BYTES = 40 << 30
READING_SHARE = 0.6
"""Share of the work that reading is, for the progress."""


class Cancelled(Exception):
    """Whoever started it asked to stop."""


class Lost(Exception):
    """Another worker has taken it over."""


def folder_of(intake: Intake) -> Path:
    return Path(settings.INTAKE) / str(intake.pk)


def find(user: User, intake_id: int) -> Intake:
    found = Intake.objects.of(user).filter(pk=intake_id).first()
    if found is None:
        raise NotThere("There is no such intake.")
    return found


# -- before it starts
def receive(user: User, name: str, file: BinaryIO) -> Intake:
    """Keep an uploaded file and guess what its columns are."""
    intake = Intake.objects.create(owner=user, name=Path(name).name[:200], path="", size=0, digest="")
    folder = folder_of(intake)
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / "file"
    try:
        whole, size = hashlib.sha256(), 0
        with open(path, "wb") as out:
            while data := file.read(1 << 20):
                size += len(data)
                if size > MAX_BYTES:
                    raise Refused(f"The file is larger than {MAX_BYTES >> 30} GiB. Split it.")
                whole.update(data)
                out.write(data)
        return _known(intake, path, size, whole.hexdigest())
    except BaseException:
        shutil.rmtree(folder, ignore_errors=True)
        intake.delete()
        raise


def point_to(user: User, path: Path) -> Intake:
    """An intake of a file that lies on this machine; it stays where it is."""
    if not path.is_file():
        raise Refused(f"There is no file {path}.")
    whole = hashlib.sha256()
    with open(path, "rb") as file:
        while data := file.read(1 << 20):
            whole.update(data)
    intake = Intake.objects.create(owner=user, name=path.name[:200], path="", size=0, digest="")
    folder_of(intake).mkdir(parents=True, exist_ok=True)
    try:
        return _known(intake, path.resolve(), path.stat().st_size, whole.hexdigest())
    except BaseException:
        intake.delete()
        raise


def _known(intake: Intake, path: Path, size: int, whole: str) -> Intake:
    try:
        guessed = sample(path).mapping
    except IntakeError as error:
        raise Refused(str(error), [{"path": "file", "message": str(error)}]) from error
    intake.path, intake.size, intake.digest, intake.mapping = str(path), size, whole, guessed.plain()
    intake.terms = usual_terms()
    intake.save()
    return intake


def usual_terms() -> dict[str, Any]:
    return {
        "kind": "stock", "currency": "EUR", "multiplier": 100, "quantum": "0.01", "calendar": "XNYS", "american": True,
        "rate": 0.0,
    }  # fmt: skip


def read_mapping(raw: dict[str, Any]) -> Mapping:
    try:
        return Mapping.parse(raw)
    except MappingError as error:
        raise Refused(str(error), [{"path": place, "message": text} for place, text in error.problems]) from error
    except TypeError as error:
        raise Refused(f"This is no mapping: {error}.") from error


def read_terms(raw: dict[str, Any]) -> dict[str, Any]:
    """Terms of underlyings that a file brings; raises :class:`Refused`."""
    made = {**usual_terms(), **{name: raw[name] for name in usual_terms() if name in raw}}
    problems: list[tuple[str, str]] = []
    if made["kind"] not in Underlying.Kind.values:
        problems.append(("kind", f"An underlying is one of {', '.join(Underlying.Kind.values)}."))
    if not (isinstance(made["currency"], str) and len(made["currency"]) == 3 and made["currency"].isalpha()):
        problems.append(("currency", "A currency has three letters, like EUR."))
    try:
        made["multiplier"] = int(made["multiplier"])
        if not 1 <= made["multiplier"] <= 100_000:
            raise ValueError
    except (ValueError, TypeError):
        problems.append(("multiplier", "The multiplier is a whole number from 1 to 100 000."))
    try:
        quantum = Decimal(str(made["quantum"]))
        if not Decimal("0.0001") <= quantum <= 1 or quantum * 10_000 != int(quantum * 10_000):
            raise InvalidOperation
        made["quantum"] = str(quantum)
    except InvalidOperation:
        problems.append(("quantum", "The smallest price step lies between 0.0001 and 1, in steps of 0.0001."))
    if made["calendar"] not in calendar_names():
        problems.append(("calendar", f"There is no calendar '{made['calendar']}'. Choose one of the list."))
    try:
        made["rate"] = float(made["rate"])
        if not -0.1 <= made["rate"] <= 1.0:
            raise ValueError
    except (ValueError, TypeError):
        problems.append(("rate", "The interest rate lies between -0.1 and 1 (0.021 is 2.1 % a year)."))
    made["american"], made["currency"] = bool(made["american"]), str(made["currency"]).upper()[:3]
    if problems:
        raise Refused(
            " ".join(text for _, text in problems), [{"path": place, "message": text} for place, text in problems]
        )
    return made


def zone_finder(new: dict[str, Any]) -> Any:
    """Time zone of an underlying's exchange, by its symbol."""
    known = dict(Underlying.objects.values_list("symbol", "calendar"))

    def zone_of(symbol: str) -> ZoneInfo:
        return calendar_of(known.get(symbol, new["calendar"])).tz

    return zone_of


def preview(user: User, intake_id: int, mapping: dict[str, Any] | None, new: dict[str, Any] | None) -> dict[str, Any]:
    """The file's first rows, what they are read as, and what is set aside of the first block."""
    intake = find(user, intake_id)
    raw = mapping if mapping is not None else intake.mapping
    made_terms = read_terms(new if new is not None else intake.terms)
    try:
        first = sample(Path(intake.path))
    except (IntakeError, OSError) as error:
        raise Refused(f"The file cannot be read any more: {error}") from error
    known = {name: raw[name] for name in Mapping.__dataclass_fields__ if name in raw}
    try:
        candidate = Mapping(**known)
        problems = candidate.problems(first.names)
    except TypeError as error:
        raise Refused(f"This is no mapping: {error}.") from error
    out: dict[str, Any] = {
        "names": first.names, "cells": first.rows[:12], "mapping": candidate.plain(), "guess": first.mapping.plain(),
        "problems": [{"path": place, "message": text} for place, text in problems], "quotes": [], "symbols": [],
        "rejected": {}, "rows": 0, "examples": [], "parquet": first.parquet,
    }  # fmt: skip
    if problems:
        return out
    try:
        block = next(blocks(Path(intake.path), candidate, zone_finder(made_terms)), None)
    except IntakeError as error:
        out["problems"] = [{"path": "file", "message": str(error)}]
        return out
    if block is not None:
        out.update(_told(block, made_terms))
    return out


def _told(block: Block, new: dict[str, Any]) -> dict[str, Any]:
    existing = set(Underlying.objects.values_list("symbol", flat=True))
    zone_of = zone_finder(new)
    quotes = []
    for symbol, rows in block.rows.items():
        for row in rows[:6]:
            at = int(row["at"])
            when = (
                dt.date.fromordinal(int(row["session"])).isoformat()
                if at < 0
                else dt.datetime.fromtimestamp(at, zone_of(symbol)).strftime("%Y-%m-%d %H:%M:%S %Z")
            )
            quotes.append(
                {
                    "at": when, "symbol": symbol, "expiration": dt.date.fromordinal(int(row["expiration"])),
                    "right": "put" if row["right"] else "call", "strike": int(row["strike"]) / 1000,
                    "bid": None if row["bid"] < 0 else int(row["bid"]) / 10_000, "ask": None if row["ask"] < 0 else int(row["ask"]) / 10_000,
                    "spot": None if row["spot"] < 0 else int(row["spot"]) / 100,
                }
            )  # fmt: skip
    symbols = [{"symbol": s, "known": s in existing, "rows": len(rows)} for s, rows in block.rows.items()]
    counts = Counter(reject.reason for reject in block.rejects)
    examples = [{"line": r.line, "reason": REASONS[r.reason], "text": r.text} for r in block.rejects[:8]]
    return {
        "quotes": quotes[:12], "symbols": symbols[:50], "rows": block.read, "examples": examples,
        "rejected": {REASONS[name]: count for name, count in counts.most_common()},
    }  # fmt: skip


@transaction.atomic
def start(user: User, intake_id: int, mapping: dict[str, Any], new: dict[str, Any], adds: bool) -> Intake:
    """Queue an intake; one that failed or was cancelled goes on or begins again."""
    intake = Intake.objects.select_for_update().get(pk=find(user, intake_id).pk)
    if intake.status in Intake.ACTIVE:
        raise Conflict("It is under way already.")
    if intake.status == Status.DONE:
        raise Conflict("It was loaded already. Take it back first, or upload the file again.")
    checked = read_mapping(mapping)
    made_terms = read_terms(new)
    try:
        problems = checked.problems(sample(Path(intake.path)).names)
    except (IntakeError, OSError) as error:
        raise Refused(f"The file cannot be read any more: {error}") from error
    if problems:
        raise Refused(
            " ".join(text for _, text in problems), [{"path": place, "message": text} for place, text in problems]
        )
    same = intake.staged and intake.mapping == checked.plain() and intake.terms == made_terms and intake.adds == adds
    if not same:
        intake.staged, intake.stored, intake.report, intake.rows = False, 0, {}, 0
    intake.mapping, intake.terms, intake.adds = checked.plain(), made_terms, adds
    intake.status, intake.message, intake.attempts, intake.cancel_requested = Status.QUEUED, "", 0, False
    intake.doing, intake.share, intake.finished_at = "waiting for a worker", 0.0, None
    intake.save()
    _enqueue(intake)
    return intake


def _enqueue(intake: Intake) -> None:
    from market.tasks import take_in

    take_in.defer(intake_id=intake.pk)
    notify(intake.owner_id, "intake", intake.pk)


@transaction.atomic
def cancel(user: User, intake_id: int) -> Intake:
    intake = Intake.objects.select_for_update().get(pk=find(user, intake_id).pk)
    if intake.status == Status.QUEUED:
        intake.status, intake.finished_at = Status.CANCELLED, dt.datetime.now(dt.UTC)
    elif intake.status == Status.RUNNING:
        intake.cancel_requested = True
    else:
        raise Conflict(f"It is {intake.status}; there is nothing to cancel.")
    intake.save()
    notify(user.pk, "intake", intake.pk)
    return intake


def forget(user: User, intake_id: int) -> None:
    """Take a file that is not in use out of the list; what it brought stays."""
    intake = find(user, intake_id)
    if intake.status in Intake.ACTIVE:
        raise Conflict("Cancel it first.")
    shutil.rmtree(folder_of(intake), ignore_errors=True)
    intake.delete()


# -- the work
def recover() -> int:
    """Intakes whose worker died are queued again; after three tries they fail."""
    now, count = dt.datetime.now(dt.UTC), 0
    for key in Intake.objects.filter(status=Status.RUNNING, lease_until__lt=now).values_list("pk", flat=True):
        with transaction.atomic():
            held = Intake.objects.select_for_update(skip_locked=True).filter(
                pk=key, status=Status.RUNNING, lease_until__lt=now
            )
            intake = held.first()
            if intake is None:
                continue
            count += 1
            if intake.attempts < MAX_ATTEMPTS:
                intake.status = Status.QUEUED
                intake.save(update_fields=["status"])
                _enqueue(intake)
            else:
                intake.status, intake.message = (
                    Status.FAILED,
                    "The worker stopped three times. Start it again to go on.",
                )
                intake.save(update_fields=["status", "message"])
                notify(intake.owner_id, "intake", intake.pk)
    return count


def carry_out(intake_id: int) -> None:
    """Read and store a queued file to its end, going on where an earlier try stopped."""
    with transaction.atomic():
        intake = Intake.objects.select_for_update().filter(pk=intake_id).first()
        if intake is None or intake.status != Status.QUEUED:
            return
        intake.status, intake.attempts = Status.RUNNING, intake.attempts + 1
        intake.started_at = intake.started_at or dt.datetime.now(dt.UTC)
        intake.lease_until = _lease()
        intake.save()
    work = _Work(intake)
    try:
        if not intake.staged:
            work.read()
        work.store()
        work.finish()
    except Cancelled:
        stored = Intake.objects.get(pk=intake.pk).stored
        kept = (
            f"{stored} sessions were stored and stay; take them back, or start again to go on."
            if stored
            else "Nothing was kept of it."
        )
        work.finish_data()
        _end(intake, Status.CANCELLED, f"Cancelled. {kept}")
    except Lost:
        log.warning("intake %s was taken over", intake_id)
    except (IntakeError, Refused) as error:
        _end(intake, Status.FAILED, str(getattr(error, "message", error)))
    except OperationalError:
        raise  # the lease runs out and it is taken up again
    except Exception:
        log.exception("intake %s failed", intake_id)
        _end(intake, Status.FAILED, "The intake failed on an error of ours; it is in the worker's log.")


def _lease() -> dt.datetime:
    return dt.datetime.now(dt.UTC) + dt.timedelta(seconds=settings.RUN_LEASE_SECONDS)


def _end(intake: Intake, status: str, message: str) -> None:
    Intake.objects.filter(pk=intake.pk).update(
        status=status, message=message, finished_at=dt.datetime.now(dt.UTC), lease_until=None, doing=""
    )
    notify(intake.owner_id, "intake", intake.pk)


class _Work:
    def __init__(self, intake: Intake) -> None:
        self.intake = intake
        self.folder = folder_of(intake)
        self.folder.mkdir(parents=True, exist_ok=True)
        self.stage = Stage(self.folder / "rows")
        self.mapping = Mapping.parse(intake.mapping)
        self._told = 0.0

    def tell(self, doing: str, share: float, **facts: Any) -> None:
        """Show how far it is, renew the lease, and stop when asked to."""
        if time.monotonic() - self._told < REPORT_EVERY:
            return
        self._told = time.monotonic()
        held = Intake.objects.filter(pk=self.intake.pk, status=Status.RUNNING)
        if not held.update(doing=doing, share=share, lease_until=_lease(), **facts):
            raise Lost
        notify(self.intake.owner_id, "intake", self.intake.pk, share=round(share, 4), doing=doing)
        if held.filter(cancel_requested=True).exists():
            raise Cancelled

    def read(self) -> None:
        """Lay every row aside by session; what cannot be used goes to the rejects."""
        self.stage.clear()
        shutil.rmtree(self.folder / "rejects", ignore_errors=True)
        (self.folder / "rejects").mkdir()
        rejected: Counter[str] = Counter()
        read = 0
        with open(self.folder / "rejects" / "0-file.csv", "w", newline="") as file:
            out = csv.writer(file)
            for block in blocks(Path(self.intake.path), self.mapping, zone_finder(self.intake.terms)):
                self.stage.add(block.rows)
                for reject in block.rejects:
                    out.writerow(_reject_cells(reject))
                    rejected[reject.reason] += 1
                read = block.read
                self.tell(f"reading, {read:,} rows".replace(",", "\u00a0"), READING_SHARE * block.share, rows=read)
        Intake.objects.filter(pk=self.intake.pk).update(
            staged=True, stored=0, rows=read, report={"rejected": dict(rejected), "sessions": {}}
        )
        self.intake.refresh_from_db()

    def store(self) -> None:
        """Every session in one transaction of its own, in the order of symbols and dates."""
        found = self.stage.sessions()
        for number in range(self.intake.stored, len(found)):
            symbol, date = found[number]
            share = READING_SHARE + (1 - READING_SHARE) * number / len(found)
            self.tell(f"storing {symbol} {date:%-d %b %Y}, {number + 1} of {len(found)} sessions", share)
            built = self._built(symbol, date)
            self._write_rejects(symbol, date, built.rejects)
            with transaction.atomic():
                held = Intake.objects.select_for_update().get(pk=self.intake.pk)
                if held.status != Status.RUNNING or held.stored != number:
                    raise Lost
                what = self._keep(symbol, date, built)
                self._count(held, symbol, what, built)
                held.stored = number + 1
                held.save(update_fields=["stored", "report"])

    def _built(self, symbol: str, date: dt.date) -> made_of.Built:
        row = self._underlying(symbol)
        rows = self.stage.rows(symbol, date)
        if self.intake.adds:
            there = SessionChainRow.objects.filter(underlying=row, date=date, current=True).first()
            if there is not None:
                rows = np.concatenate([rows, merge.rows_of(decode(bytes(there.payload)), terms(row))])
        paid = [made_of.Dividend(d.date, float(d.amount)) for d in row.dividends.filter(date__gt=date)]
        bar = Bar.objects.filter(underlying=row, date=date, given=True).first()
        calendar = calendar_of(row.calendar)
        built = made_of.build(
            rows, date, terms(row), calendar, self.mapping.day_time, paid, None if bar is None else bar.close / 100
        )
        ours = [(line, why) for line, why in built.rejects if line < merge.BEHIND]
        return made_of.Built(built.chain, ours, built.findings)

    def _underlying(self, symbol: str) -> Underlying:
        made = self.intake.terms
        row, _ = Underlying.objects.get_or_create(
            symbol=symbol,
            defaults={
                "name": symbol, "currency": made["currency"], "multiplier": made["multiplier"],
                "quantum": Decimal(made["quantum"]), "calendar": made["calendar"], "rate": made["rate"], "kind": made["kind"],
                "american": made["american"],
            },
        )  # fmt: skip
        if not self.intake.owner.is_staff and Venue.objects.filter(underlying=row).exists():
            raise Refused(f"{symbol} is traded at the practice exchange; only who operates it may load its history.")
        return row

    def _keep(self, symbol: str, date: dt.date, built: made_of.Built) -> str:
        """Store a session's chain as its newest version; says ``new``, ``changed``, ``same`` or ``empty``."""
        if built.chain is None:
            return "empty"
        row = self._underlying(symbol)
        payload = encode(built.chain)
        identity = digest(payload)
        versions = SessionChainRow.objects.filter(underlying=row, date=date)
        there = versions.filter(current=True).first()
        if there is not None and there.digest == identity:
            return "same"
        latest = versions.aggregate(latest=Max("version"))["latest"] or 0
        versions.filter(current=True).update(current=False)
        SessionChainRow.objects.create(
            underlying=row, date=date, version=latest + 1, digest=identity, conventions=CONVENTIONS,
            snapshots=len(built.chain.times), contracts=len(built.chain.contracts), crossed=0, payload=payload,
            size=len(payload), findings=built.findings, intake=self.intake,
        )  # fmt: skip
        _bar(row, built.chain)
        return "changed" if there is not None else "new"

    def _count(self, held: Intake, symbol: str, what: str, built: made_of.Built) -> None:
        report = held.report or {"rejected": {}, "sessions": {}}
        mine = report["sessions"].setdefault(
            symbol, {"new": 0, "changed": 0, "same": 0, "empty": 0, "quotes": 0, "findings": {}}
        )
        mine[what] += 1
        if built.chain is not None:
            mine["quotes"] += int((built.chain.ask >= 0).sum())
            date = built.chain.date.isoformat()
            mine["first"], mine["last"] = min(mine.get("first", date), date), max(mine.get("last", date), date)
        for name, count in built.findings.items():
            mine["findings"][name] = mine["findings"].get(name, 0) + count
        for _, why in built.rejects:
            report["rejected"][why] = report["rejected"].get(why, 0) + 1
        held.report = report

    def _write_rejects(self, symbol: str, date: dt.date, rejects: list[tuple[int, str]]) -> None:
        """A file a session, written anew however often it is tried."""
        if not rejects:
            return
        with open(self.folder / "rejects" / f"{symbol}-{date}.csv", "w", newline="") as file:
            csv.writer(file).writerows(_reject_cells(Reject(line, why, f"{symbol} {date}")) for line, why in rejects)

    def finish(self) -> None:
        self.tell("arranging quotes for fast reading", 0.99)
        self.finish_data()
        self.stage.clear()
        _end(self.intake, Status.DONE, "")

    def finish_data(self) -> None:
        """Let everyone read what is stored now."""
        for row in Underlying.objects.filter(chains__intake=self.intake).distinct():
            brought = SessionChainRow.objects.filter(intake=self.intake, underlying=row)
            payloads = brought.values_list("payload", flat=True).iterator(chunk_size=8)
            list_contracts(row, (decode(bytes(payload)) for payload in payloads))
            refresh(row)


def refresh(row: Underlying) -> None:
    """Bring what is read up to the chains that are current; an underlying without any has no data."""
    if SessionChainRow.objects.filter(underlying=row, current=True).exists():
        if data_digest(row) != row.data_digest:
            fold_in(row)
    elif row.data_digest:
        row.data_digest = ""
        row.save(update_fields=["data_digest"])
    notify_market(row.symbol, "history")


def later(row: Underlying) -> None:
    """Have a worker :func:`refresh` it; until then everyone reads what they read before."""
    from market.tasks import fold

    fold.defer(symbol=row.symbol)


def _reject_cells(reject: Reject) -> list[Any]:
    """Line, reason and text; a text that a spreadsheet would run as a formula is marked as text."""
    text = reject.text
    return [reject.line, REASONS[reject.reason], f"'{text}" if text[:1] in "=+-@\t" else text]


def rejects(intake: Intake) -> Iterator[str]:
    """The rejects as lines of a CSV file."""
    yield "line,reason,text\r\n"
    for path in sorted((folder_of(intake) / "rejects").glob("*.csv")):
        with open(path, newline="") as file:
            yield from file


def list_contracts(row: Underlying, chains: Iterator[SessionChain]) -> None:
    """Keep which contracts were listed, and from when to when."""
    seen: dict[ContractKey, list[dt.date]] = {}
    for chain in chains:
        for contract in chain.contracts:
            days = seen.setdefault(contract, [chain.date, chain.date])
            days[0], days[1] = min(days[0], chain.date), max(days[1], chain.date)
    calendar = calendar_of(row.calendar)
    dates = {contract.expiration for contract in seen}
    Expiration.objects.bulk_create(
        [
            Expiration(underlying=row, date=d, settles_at=dt.datetime.fromtimestamp(calendar.session(d).close, dt.UTC))
            for d in sorted(dates)
        ],
        ignore_conflicts=True,
    )
    by_date = {e.date: e for e in Expiration.objects.filter(underlying=row, date__in=dates)}
    known = {
        (c.expiration.date, c.right, thousandths(float(c.strike))): c
        for c in Contract.objects.filter(expiration__in=by_date.values()).select_related("expiration")
    }
    new, longer = [], []
    for contract, (first, last) in seen.items():
        there = known.get((contract.expiration, contract.right, thousandths(contract.strike)))
        if there is None:
            new.append(
                Contract(
                    expiration=by_date[contract.expiration], right=contract.right, strike=Decimal(str(contract.strike)),
                    first_session=first, last_session=last,
                )
            )  # fmt: skip
        elif first < there.first_session or last > there.last_session:
            there.first_session, there.last_session = min(first, there.first_session), max(last, there.last_session)
            longer.append(there)
    Contract.objects.bulk_create(new, batch_size=4000)
    Contract.objects.bulk_update(longer, ["first_session", "last_session"], batch_size=2000)


def _bar(row: Underlying, chain: SessionChain) -> None:
    """A bar from the snapshots, where none was given."""
    spot = chain.spot[chain.spot > 0]
    if len(spot) == 0 or Bar.objects.filter(underlying=row, date=chain.date, given=True).exists():
        return
    Bar.objects.update_or_create(
        underlying=row, date=chain.date,
        defaults={"open": int(spot[0]), "high": int(spot.max()), "low": int(spot.min()), "close": int(spot[-1]), "given": False},
    )  # fmt: skip


@transaction.atomic
def take_back(user: User, intake_id: int) -> Intake:
    """Undo an intake: versions that were there before it are current again."""
    intake = Intake.objects.select_for_update().get(pk=find(user, intake_id).pk)
    if intake.status in Intake.ACTIVE:
        raise Conflict("Cancel it first.")
    brought = list(SessionChainRow.objects.filter(intake=intake).select_related("underlying"))
    if not brought:
        raise Conflict("It brought nothing that could be taken back.")
    touched = {chain.underlying for chain in brought}
    for chain in brought:
        versions = SessionChainRow.objects.filter(underlying=chain.underlying, date=chain.date)
        if chain.current:
            before = versions.exclude(intake=intake).filter(version__lt=chain.version).order_by("-version").first()
            versions.filter(pk=chain.pk).update(current=False)
            if before is not None:
                versions.filter(pk=before.pk).update(current=True)
    intake.status, intake.staged, intake.stored, intake.report = Status.TAKEN_BACK, False, 0, {}
    intake.message = f"{len(brought)} sessions were taken back."
    intake.save()
    for row in touched:
        later(row)
    return intake


# -- mappings under a name
def save_mapping(user: User, name: str, mapping: dict[str, Any]) -> ColumnMapping:
    name = name.strip()
    if not 1 <= len(name) <= 60:
        raise Refused(
            "A mapping needs a name of 1 to 60 characters.", [{"path": "name", "message": "1 to 60 characters"}]
        )
    made, _ = ColumnMapping.objects.update_or_create(
        owner=user, name=name, defaults={"mapping": read_mapping(mapping).plain()}
    )
    return made

"""Carrying out an intake: a file's rows laid aside by session, then every session stored.

Both parts may be killed at any instant: what is laid aside is begun anew, a session is stored whole or not at
all, and a stored one is not stored again.
"""

from __future__ import annotations

import csv
import datetime as dt
import logging
import shutil
import time
from collections import Counter
from decimal import Decimal
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import transaction
from django.db.models import Max

from config.errors import Refused
from config.push import notify
from intake.files import day_finder, folder_of, reasons_of
from market.models import Bar, Intake, SessionChainRow, Underlying
from market.refresh import Basis, list_contracts, refresh
from market.rights import need_change
from market.terms import SYMBOL, terms
from strell_core.formats.cells import marked
from strell_core.formats.intake import merge
from strell_core.formats.intake import sessions as made_of
from strell_core.formats.intake.mapping import Mapping
from strell_core.formats.intake.rows import blocks, row_type
from strell_core.formats.intake.stage import Stage
from strell_core.formats.intake.tables import Reject
from strell_core.market.chains import SessionChain, decode, digest, encode
from strell_core.market.extras import decode_extras, encode_extras
from strell_core.pricing.surface import CONVENTIONS

Status = Intake.Status
log = logging.getLogger("strell.intake")
REPORT_EVERY = 0.5
MAX_ATTEMPTS = 3
NOTHING_USED = "Nothing was loaded: every row was set aside. Look at the reasons, then load the file again and correct how it is read."
READING_SHARE = 0.6
"""Share of the work that reading is, for the progress."""


class Cancelled(Exception):
    """Whoever started it asked to stop."""


class Lost(Exception):
    """Another worker has taken it over."""


def lease() -> dt.datetime:
    return dt.datetime.now(dt.UTC) + dt.timedelta(seconds=settings.RUN_LEASE_SECONDS)


def end(intake: Intake, status: str, message: str) -> None:
    Intake.objects.filter(pk=intake.pk).update(
        status=status, message=message, finished_at=dt.datetime.now(dt.UTC), lease_until=None, doing=""
    )
    notify(intake.owner_id, "intake", intake.pk)


class Work:
    """Carrying out a file of chains; what every intake needs besides."""

    stores = "sessions"

    def __init__(self, intake: Intake) -> None:
        self.intake = intake
        self.folder = folder_of(intake)
        self.folder.mkdir(parents=True, exist_ok=True)
        self.mapping = Mapping(**intake.mapping)
        self.stage = Stage(self.folder / "rows", row_type(self.mapping.columns))
        self._bases: dict[str, Basis] = {}
        self._told = 0.0

    def run(self) -> None:
        """Read what is not read yet, store what is not stored yet."""
        if not self.intake.staged:
            self.read()
        self.store()
        self.finish()

    def tell(self, doing: str, share: float, **facts: Any) -> None:
        """Show how far it is, renew the lease, and stop when asked to."""
        if time.monotonic() - self._told < REPORT_EVERY:
            return
        self._told = time.monotonic()
        held = Intake.objects.filter(pk=self.intake.pk, status=Status.RUNNING)
        if not held.update(doing=doing, share=share, lease_until=lease(), **facts):
            raise Lost
        notify(self.intake.owner_id, "intake", self.intake.pk, share=round(share, 4), doing=doing)
        if held.filter(cancel_requested=True).exists():
            raise Cancelled

    def tell_anew(self, done: int, count: int) -> None:
        """Show how far computing volatilities anew is."""
        self.tell(f"computing volatilities anew, {done} of {count} sessions", 0.99)

    def read(self) -> None:
        """Lay every row aside by session; what cannot be used goes to the rejects."""
        self.stage.clear()
        self.fresh_rejects()
        rejected: Counter[str] = Counter()
        read = 0
        with open(self.folder / "rejects" / "0-file.csv", "w", newline="") as file:
            out = csv.writer(file)
            for block in blocks(Path(self.intake.path), self.mapping, day_finder(self.intake.terms)):
                self.stage.add(block.rows)
                for reject in block.rejects:
                    out.writerow(reject_cells(reject, self.mapping.kind))
                    rejected[reject.reason] += 1
                read = block.read
                self.tell(f"reading, {read:,} rows".replace(",", "\u00a0"), READING_SHARE * block.share, rows=read)
        Intake.objects.filter(pk=self.intake.pk).update(
            staged=True, stored=0, rows=read, report={"rejected": dict(rejected), "sessions": {}}
        )
        self.intake.refresh_from_db()

    def fresh_rejects(self) -> None:
        shutil.rmtree(self.folder / "rejects", ignore_errors=True)
        (self.folder / "rejects").mkdir()

    def store(self) -> None:
        """Every session in one transaction of its own, in the order of symbols and dates."""
        found = self.stage.sessions()
        for row in Underlying.objects.filter(symbol__in={symbol for symbol, _ in found}):
            need_change(self.intake.owner, row)
        for number in range(self.intake.stored, len(found)):
            symbol, date = found[number]
            share = READING_SHARE + (1 - READING_SHARE) * number / len(found)
            self.tell(f"storing {symbol} {date:%-d %b %Y}, {number + 1} of {len(found)} sessions", share)
            built = self._built(symbol, date)
            self._write_rejects(symbol, date, built.rejects)
            with transaction.atomic():
                held = Intake.objects.select_for_update(no_key=True).get(pk=self.intake.pk)
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
                chain, extras = decode(bytes(there.payload)), decode_extras(bytes(there.extras))
                rows = merge.joined(rows, merge.rows_of(chain, terms(row), extras))
        basis = self._basis(row)
        built = made_of.build(
            rows, date, basis.terms.on(date), basis.calendar, self.mapping.day_time, basis.dividends(date),
            basis.close(date),
        )  # fmt: skip
        ours = [(line, why) for line, why in built.rejects if line < merge.BEHIND]
        return made_of.Built(built.chain, ours, built.findings, built.extras)

    def _basis(self, row: Underlying) -> Basis:
        if row.symbol not in self._bases:
            self._bases[row.symbol] = Basis(row)
        return self._bases[row.symbol]

    def _underlying(self, symbol: str) -> Underlying:
        """The underlying, made with the file's terms where it is new; raises :class:`Refused`."""
        if not SYMBOL.fullmatch(symbol):
            raise Refused(f"'{symbol}' is no symbol of an underlying.")
        made = self.intake.terms
        row, _ = Underlying.objects.get_or_create(
            symbol=symbol,
            defaults={
                "name": symbol, "currency": made["currency"], "multiplier": made["multiplier"],
                "quantum": Decimal(made["quantum"]), "calendar": made["calendar"], "rate": made["rate"], "kind": made["kind"],
                "american": made["american"], "settles": made.get("settles", "close"), "ticks": made.get("ticks", []),
                "owner": None if self.intake.owner.is_staff else self.intake.owner,
            },
        )  # fmt: skip
        need_change(self.intake.owner, row)
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
        extras = encode_extras(built.extras)
        if there is not None and there.digest == identity and bytes(there.extras) == extras:
            return "same"
        latest = versions.aggregate(latest=Max("version"))["latest"] or 0
        versions.filter(current=True).update(current=False)
        SessionChainRow.objects.create(
            underlying=row, date=date, version=latest + 1, digest=identity, conventions=CONVENTIONS,
            snapshots=len(built.chain.times), contracts=len(built.chain.contracts), crossed=0, payload=payload,
            size=len(payload), extras=extras, extras_size=len(extras), findings=built.findings, intake=self.intake,
            basis=self._basis(row).of(date),
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
            csv.writer(file).writerows(
                reject_cells(Reject(line, why, f"{symbol} {date}"), "chains") for line, why in rejects
            )

    def finish(self) -> None:
        self.tell("arranging quotes for fast reading", 0.99)
        self.finish_data()
        self.stage.clear()
        used = any(mine["quotes"] for mine in Intake.objects.get(pk=self.intake.pk).report["sessions"].values())
        end(self.intake, Status.DONE, "" if used else NOTHING_USED)

    def finish_data(self) -> None:
        """Let everyone read what is stored now."""
        for row in Underlying.objects.filter(chains__intake=self.intake).distinct():
            brought = SessionChainRow.objects.filter(intake=self.intake, underlying=row)
            payloads = brought.values_list("payload", flat=True).iterator(chunk_size=8)
            list_contracts(row, (decode(bytes(payload)) for payload in payloads))
            refresh(row, self.tell_anew)


def reject_cells(reject: Reject, kind: str) -> list[Any]:
    """Line, reason and text."""
    return [reject.line, reasons_of(kind)[reject.reason], marked(reject.text)]


def _bar(row: Underlying, chain: SessionChain) -> None:
    """A bar from the snapshots, where none was given."""
    spot = chain.spot[chain.spot > 0]
    if len(spot) == 0 or Bar.objects.filter(underlying=row, date=chain.date, given=True).exists():
        return
    Bar.objects.update_or_create(
        underlying=row, date=chain.date,
        defaults={"open": int(spot[0]), "high": int(spot.max()), "low": int(spot.min()), "close": int(spot[-1]), "given": False},
    )  # fmt: skip

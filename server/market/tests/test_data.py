"""Loaded data: rows say what the chains hold, and the cache is only ever a copy."""

from __future__ import annotations

import datetime as dt
import shutil

from django.conf import settings
from django.db import IntegrityError, transaction

from config.errors import NotThere
from config.tests.demo import DemoTestCase
from market import calendars, timelines
from market.models import Bar, Contract, Expiration, SessionChainRow, Underlying
from strell_core.market.chains import decode, digest


class LoadedDataTest(DemoTestCase):
    def test_rows_say_what_the_chains_hold(self) -> None:
        rows = SessionChainRow.objects.filter(underlying__symbol="MK30")
        self.assertEqual(rows.count(), 90)
        last = rows.order_by("-date").first()
        chain = decode(bytes(last.payload))
        self.assertEqual((last.snapshots, last.contracts), (len(chain.times), len(chain.contracts)))
        self.assertEqual(last.digest, digest(bytes(last.payload)))
        self.assertEqual(last.date, chain.date)
        bar = Bar.objects.get(underlying__symbol="MK30", date=last.date)
        self.assertEqual(bar.close, chain.settlement)
        self.assertTrue(bar.low <= bar.open <= bar.high and bar.low <= bar.close <= bar.high)

    def test_contracts_and_expirations_are_relational(self) -> None:
        chain = decode(bytes(SessionChainRow.objects.order_by("-date").first().payload))
        listed = {(c.expiration, c.right, c.strike) for c in chain.contracts}
        rows = Contract.objects.filter(last_session=chain.date).values_list("expiration__date", "right", "strike")
        self.assertEqual(set(rows), listed)
        for expiration in Expiration.objects.filter(date__in=chain.expirations):
            # the day before Christmas and the last of the year end early
            short = expiration.date.month == 12 and expiration.date.day in (24, 31)
            close = dt.time(13) if short else dt.time(17, 30)
            zone = calendars.calendar_of("MARROWICK").tz
            self.assertEqual(expiration.settles_at, dt.datetime.combine(expiration.date, close, zone))

    def test_one_current_version_a_session(self) -> None:
        row = SessionChainRow.objects.first()
        with self.assertRaises(IntegrityError), transaction.atomic():
            SessionChainRow.objects.create(
                underlying=row.underlying, date=row.date, version=2, digest="x", conventions="", snapshots=1,
                contracts=1, crossed=0, payload=b"",
            )  # fmt: skip


class CacheTest(DemoTestCase):
    def test_it_is_rebuilt_from_the_database_when_lost(self) -> None:
        before = timelines.timeline("MK30")
        shutil.rmtree(settings.CHAIN_CACHE)
        timelines._open.clear()
        after = timelines.timeline("MK30")
        self.assertIsNot(before, after)
        index = len(after.times) - 10
        self.assertEqual([q.bid for q in _quotes(before, index)], [q.bid for q in _quotes(after, index)])

    def test_other_data_is_another_timeline(self) -> None:
        row = Underlying.objects.get(symbol="MK30")
        before = timelines.timeline("MK30")
        SessionChainRow.objects.filter(underlying=row).order_by("date").first().delete()
        row.data_digest = timelines.data_digest(row)
        row.save()
        try:
            self.assertEqual(len(timelines.timeline("MK30").dates), len(before.dates) - 1)
        finally:
            timelines._open.clear()

    def test_sizes_told_anew_beside_the_same_quotes_are_other_data(self) -> None:
        row = Underlying.objects.get(symbol="MK30")
        session = SessionChainRow.objects.filter(underlying=row, current=True)[:1]
        known = {timelines.data_digest(row)}
        for version in (1, 2):
            SessionChainRow.objects.filter(pk__in=session.values("pk")).update(version=version, extras_size=9)
            known.add(timelines.data_digest(row))
        self.assertEqual(len(known), 3)

    def test_an_underlying_without_data_says_so(self) -> None:
        with self.assertRaisesRegex(NotThere, "no data for PLLM"):
            timelines.timeline("PLLM")


def _quotes(history, index):
    view = history.view(index)
    cube = history.cubes_at(index)[3]
    from strell_core.market.instruments import ContractKey

    return [view.quote(ContractKey(cube.expiration, "put", int(strike), "MK30")) for strike in cube.strikes]


class MarketApiTest(DemoTestCase):
    def test_underlyings_say_what_is_recorded(self) -> None:
        _, (row,) = self.send("get", "/market/underlyings")
        self.assertEqual((row["symbol"], row["sessions"], row["single"]), ("MK30", 90, 65))
        self.assertEqual(row["last"], "2026-11-18")

    def test_sessions_and_their_snapshots(self) -> None:
        _, sessions = self.send("get", "/market/MK30/sessions")
        self.assertEqual(sessions[-1], {"date": "2026-11-18", "snapshots": 102})
        _, snapshots = self.send("get", "/market/MK30/sessions/2026-11-18")
        self.assertEqual([s["local"] for s in (snapshots[0], snapshots[-1])], ["09:05", "17:30"])
        status, body = self.send("get", "/market/MK30/sessions/2026-10-14")
        self.assertEqual(status, 404)
        self.assertIn("no recorded session", body["message"])

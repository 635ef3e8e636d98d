"""What is kept of the market now is of what is stored now, though it is numbered like something that is gone."""

from __future__ import annotations

import dataclasses

from desk.tests.desk import DeskTestCase
from market.models import LiveChain, RecordedSnapshot
from strell_core.scenario.practice import sizes
from venue.live import live, publish, record, recorded


class StoredAnewTest(DeskTestCase):
    def test_quotes_published_anew_under_a_sequence_that_was_used_are_read(self) -> None:
        before = live("MK30")
        higher = dataclasses.replace(before.chain, spot=before.chain.spot + 500)
        LiveChain.objects.all().delete()
        publish(before.row, higher, *sizes(higher.contracts, before.at), before.last)
        again = live("MK30")
        self.assertEqual((again.sequence, again.at), (before.sequence, before.at), "numbered alike")
        self.assertEqual(again.spot, before.spot + 5)

    def test_a_snapshot_recorded_anew_for_the_same_instant_is_read(self) -> None:
        now = live("MK30")
        record(now.row, now.chain)
        self.assertEqual(recorded("MK30").spot[-1], now.chain.spot[0])
        higher = dataclasses.replace(now.chain, spot=now.chain.spot + 500)
        RecordedSnapshot.objects.all().delete()
        record(now.row, higher)
        self.assertEqual(recorded("MK30").spot[-1], now.chain.spot[0] + 500)

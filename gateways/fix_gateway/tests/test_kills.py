"""Every boundary of outbox and inbox is a place to die: nothing is doubled, nothing lost.

The short version kills once at each boundary; ``bench/kills.py`` does it two hundred times.
"""

from __future__ import annotations

import time
import unittest
from typing import ClassVar

from django.conf import settings
from django.contrib.auth.models import User
from django.db import connection
from django.test import tag

from config.tests.demo import load_short_scenario
from desk.models import Account, DeskFill, Leader
from fix_gateway.tests.kills import ALL, Arena, run


@tag("long", "last")
class KillTest(unittest.TestCase):
    databases: ClassVar[set[str]] = {"default"}

    def setUp(self) -> None:
        assert str(connection.settings_dict["NAME"]).startswith("test_")
        load_short_scenario()
        self.user = User.objects.create_user("ines", password="quiet-harbour-9", is_staff=True)
        self.arena = Arena(self.user, settings.FIX_STATE)
        self.addCleanup(self.clear)

    def clear(self) -> None:
        self.arena.stop()
        Account.objects.filter(owner=self.user).delete()
        self.user.delete()
        # the outage left connections behind that are none any more
        connection.close_pool()

    def fills(self) -> int:
        return DeskFill.objects.filter(account=self.arena.account).count()

    def test_one_kill_at_every_boundary(self) -> None:
        killed = run(self.arena, len(ALL))
        self.assertEqual(set(killed), {where for _, where in ALL})
        self.assertEqual(self.arena.faults(), [])
        self.assertGreater(self.fills(), 10, "it was about something")

    def test_an_outage_of_the_database_loses_nothing(self) -> None:
        self.arena.begin()
        before = Leader.objects.get().beat
        filled = self.fills()
        self.arena.outage(6)
        end = time.monotonic() + 120
        self.arena.go_on(5)
        while self.fills() <= filled and time.monotonic() < end:
            # the broker and the gateway may have ended on a message they could not keep; their keeper starts them again
            self.arena.mend(but="desk")
            self.arena.go_on(1)
        self.arena.settle()
        self.assertEqual(self.arena.faults(), [])
        self.assertGreater(self.fills(), filled, "it went on afterwards")
        self.assertGreater(Leader.objects.get().beat, before)
        self.assertIsNone(self.arena.processes["desk"].exitcode, "the desk itself lives through it")

"""The demo's own work: strategies, finished runs and a replay session, made once."""

from __future__ import annotations

import io

from django.contrib.auth.models import User
from django.core.management import call_command

from config.tests.demo import DemoTestCase
from desk.models import Account, Deployment
from market.models import SessionChainRow, Underlying
from replay.models import ReplaySession
from runs.models import Run
from runs.warm import warm_up
from strategies.models import Strategy


class LoadDemoTest(DemoTestCase):
    def load(self) -> str:
        out = io.StringIO()
        call_command("load_demo", closings=3, stdout=out)
        return out.getvalue()

    def test_it_shows_work_in_progress_and_does_it_once(self) -> None:
        before = SessionChainRow.objects.count()
        self.assertIn("The demo is loaded.", self.load())
        demo = User.objects.get(username="demo")
        self.assertTrue(demo.check_password("harbour-lantern"))
        self.assertFalse(demo.is_superuser)
        self.assertTrue(demo.is_staff, "who starts the demo operates its practice exchange")
        self.assertEqual(Strategy.objects.of(demo).count(), 7)
        runs = Run.objects.of(demo)
        self.assertEqual([run.status for run in runs], ["done"] * 7)
        session = ReplaySession.objects.of(demo).get()
        self.assertTrue(session.note)
        self.assertIsNotNone(session.trade)
        paper, practice = Account.objects.of(demo)
        self.assertEqual((paper.kind, practice.kind), ("paper", "practice"))
        self.assertTrue(Deployment.objects.of(demo).get().armed)
        states = set(paper.orders.filter(by="person").values_list("state", flat=True))
        self.assertEqual(states, {"filled", "working"})
        self.assertEqual(paper.holdings.get().protection["stop"], {"value": "600", "unit": "money"})
        stocks = SessionChainRow.objects.filter(underlying__american=True)
        self.assertEqual(stocks.count(), 9, "three sessions of two stocks and a fund")
        recorded = set(stocks.values_list("underlying__symbol", "snapshots"))
        self.assertEqual(recorded, {("PLLM", 18), ("OSTL", 18), ("MDVF", 1)}, "the stocks as they traded")
        self.assertTrue(Underlying.objects.get(symbol="PLLM").events.exists())
        self.assertEqual(Underlying.objects.get(symbol="PLLM").splits.get().ratio, 2)
        self.assertTrue(Underlying.objects.get(symbol="MDVF").dividends.exists())
        self.load()
        self.assertEqual(Account.objects.of(demo).count(), 2)
        self.assertEqual((Strategy.objects.of(demo).count(), runs.count()), (7, 7))
        self.assertEqual(SessionChainRow.objects.count(), before + 9, "data that is there is not made again")

    def test_warming_up_changes_nothing(self) -> None:
        warm_up(self.history())
        self.assertEqual((Run.objects.count(), Strategy.objects.count()), (0, 1))

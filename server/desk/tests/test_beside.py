"""A sheet that looks at a second underlying: promotion, and waiting for that market's snapshots."""

from unittest.mock import patch

from config.errors import Refused
from config.tests.demo import document
from demo.load import load_singles
from desk import beside, deployments
from desk.models import Decision
from desk.tests.desk import DeskTestCase
from market.models import Venue
from strategies import services as strategies
from strell_core.scenario.generator import Settings
from strell_core.strategy.document import normalise
from venue.live import observed


class BesideTest(DeskTestCase):
    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        load_singles(Settings(sessions=90, intraday=25), 5, lambda what, done, total: None, processes=1)

    def setUp(self) -> None:
        super().setUp()
        raw = {**document(), "name": "Two markets", "underlyings": ["MK30", "OSTL"]}
        raw["entries"][0]["conditions"] = [
            {"rule": "condition", "left": {"measure": "price", "underlying": "OSTL"}, "is": "above", "right": 1}
        ]
        raw["entries"][0]["when"][0].update(weekdays=["mon", "tue", "wed", "thu", "fri"], time="09:40")
        self.both = strategies.create(self.mara, normalise(raw))
        self.finished_run(self.both)
        self.other = Venue.objects.filter(underlying__symbol="OSTL")

    def test_an_underlying_that_no_market_trades_is_named_at_promotion(self) -> None:
        self.other.delete()
        with self.assertRaisesRegex(Refused, "It looks at OSTL, which no connected market trades"):
            deployments.promote(self.mara, self.both.pk, self.account.pk, 1, {}, True)

    def test_it_waits_for_a_market_that_runs_and_not_for_one_that_stands(self) -> None:
        made = deployments.arm(self.mara, deployments.promote(self.mara, self.both.pk, self.account.pk, 1, {}, True).pk)
        self.assertEqual(self.other.get().session, self.venue().session)
        self.other.update(running=True)
        since = made.cursor
        self.go("09:50")
        made.refresh_from_db()
        self.assertEqual(made.cursor, since, "nothing of the other was recorded yet")
        self.assertFalse(Decision.objects.filter(deployment=made).exists())
        # it is not waited for without end: what is not there is unvalued
        with patch.object(beside, "PATIENCE_SECONDS", 0):
            self.desk.round()
        made.refresh_from_db()
        self.assertEqual(made.cursor, self.exchange_time(9, 50))
        self.assertIn("no entry at 09:40: the underlying's price of OSTL is not known now", made.says)

    def test_a_market_that_stands_is_not_waited_for(self) -> None:
        market = observed(self.both.latest.document, self.mara.pk)
        self.other.update(running=False)
        self.assertEqual(beside.ready(market, self.venue()), len(market.main.times))

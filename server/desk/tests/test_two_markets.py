"""A deployment that trades two underlyings: an account for each, every order where its contracts are traded."""

import datetime as dt
from decimal import Decimal
from typing import Any
from unittest.mock import patch

from config.errors import Conflict, Refused
from demo.load import load_singles
from desk import deployments, queries, services
from desk.compare import compare
from desk.deployed import state_of
from desk.models import Account, Deployment, DeskOrder, Holding
from desk.tests.desk import DeskTestCase, first_tick
from market.models import Venue
from market.timelines import timeline
from practice_exchange.exchange import Exchange
from runs.models import Run
from strategies import services as strategies
from strategies.models import Strategy
from strell_core.scenario.generator import Settings
from venue.clock import venue_of

OTHER = "OSTL"
EVERY_DAY = ["mon", "tue", "wed", "thu", "fri"]


def entry(name: str, symbol: str) -> dict[str, Any]:
    return {
        "id": name, "underlying": symbol, "when": [{"rule": "decision_times", "weekdays": EVERY_DAY, "time": "09:40"}],
        "legs": [
            {"rule": "leg", "side": "sell", "right": "put", "strike": {"pick": "nearest_delta", "delta": 0.4}, "expiry": {"pick": "nearest_days", "days": 20, "from": 2, "to": 60}},
        ],
        "size": [{"rule": "fixed_lots", "lots": 1}],
    }  # fmt: skip


def rules() -> dict[str, Any]:
    return strategies.checked({
        "strell": 2, "name": "Two markets", "underlyings": ["MK30", OTHER], "entries": [entry("index", "MK30"), entry("stock", OTHER)],
        "leave": [{"rule": "days_held", "days": 0, "time": "10:20"}], "orders": [{"rule": "fill_model", "share": 100}],
    })  # fmt: skip


class TwoMarketsTest(DeskTestCase):
    strategy: Strategy

    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        load_singles(Settings(sessions=90, intraday=25), 5, lambda what, done, total: None, processes=1)
        cls.two = strategies.create(cls.mara, rules())
        dates = timeline("MK30").dates
        Run.objects.create(
            strategy=cls.two, revision=cls.two.latest, number=1, start=dates[0], end=dates[-1], cash=Decimal(50_000),
            status=Run.Status.DONE,
        )  # fmt: skip

    def setUp(self) -> None:
        super().setUp()
        self.second = Exchange(OTHER)
        first_tick(self.second)
        self.beside = services.open_account(self.mara, "Paper B", "paper", OTHER, Decimal(50_000))

    def together(self, to: str) -> None:
        """Play both markets up to a time, five minutes of one and then of the other."""
        hour, minute = (int(part) for part in to.split(":"))
        until = dt.datetime(2000, 1, 1, hour, minute)
        reached = dt.datetime.fromtimestamp(self.venue().reached - self.exchange_time(0, 0), dt.UTC).replace(
            tzinfo=None
        )
        at = dt.datetime(2000, 1, 1) + (reached - dt.datetime(1970, 1, 1))
        while at < until:
            at = min(until, at + dt.timedelta(minutes=5))
            wanted = self.exchange_time(at.hour, at.minute)
            Venue.objects.filter(underlying__symbol=OTHER).update(jump_to=wanted)
            self.second._waiting = None
            while self.second.tick():
                self.second._waiting = None
            self.go(f"{at:%H:%M}")

    def promoted(self, *beside: Account) -> Deployment:
        made = deployments.promote(
            self.mara, self.two.pk, self.account.pk, 1, {}, True, [account.pk for account in beside]
        )
        return deployments.find_deployment(self.mara, made.pk)

    def test_every_underlying_needs_an_account_of_its_own(self) -> None:
        with self.assertRaisesRegex(Refused, f"It trades {OTHER} too: choose an account that trades it"):
            self.promoted()
        third = services.open_account(self.mara, "Paper C", "paper", OTHER, Decimal(50_000))
        with self.assertRaisesRegex(Refused, f"One account for {OTHER}"):
            self.promoted(self.beside, third)
        broker = services.open_account(self.mara, "Practice", "practice", "MK30", Decimal(50_000))
        with self.assertRaisesRegex(Refused, "Paper B is not of the same kind as Practice"):
            deployments.promote(self.mara, self.two.pk, broker.pk, 1, {}, True, [self.beside.pk])
        with self.assertRaisesRegex(Refused, "It decides by the snapshots of MK30"):
            deployments.promote(self.mara, self.two.pk, self.beside.pk, 1, {}, True, [self.account.pk])
        found = self.send(
            "get", f"/strategies/{self.two.pk}/checklist?account={self.account.pk}&beside={self.beside.pk}"
        )[1]
        self.assertTrue(all(item["ok"] for item in found if item["required"]), found)
        body = {"account": self.account.pk, "beside": [self.beside.pk], "looked_at": True}
        self.assertEqual(self.send("post", f"/strategies/{self.two.pk}/promote", body, self.other)[0], 404)
        status, made = self.send("post", f"/strategies/{self.two.pk}/promote", body)
        self.assertEqual(
            (status, made["beside"]),
            (200, [{"account": self.beside.pk, "name": "Paper B", "symbol": OTHER, "stands": False}]),
        )
        for account in (self.account, self.beside):
            self.assertEqual([row["id"] for row in queries.deployments(self.mara, account)], [made["id"]])

    def test_orders_go_where_their_contracts_are_traded(self) -> None:
        made = deployments.arm(self.mara, self.promoted(self.beside).pk)
        self.together("10:10")
        state = state_of(Deployment.objects.get(pk=made.pk))
        self.assertEqual({trade.symbol for trade in state.trades}, {"MK30", OTHER})
        for account, symbol in ((self.account, "MK30"), (self.beside, OTHER)):
            held = Holding.objects.get(account=account, deployment=made)
            codes = {code for order in held.orders.all() for code, _ in order.legs}
            self.assertTrue(codes and all(code.startswith(f"{symbol}/") for code in codes))
        outlook = queries.outlook_of(Deployment.objects.get(pk=made.pk))
        self.assertEqual({row["entry"] for row in outlook["trades"]}, {"index", "stock"})
        self.together("11:00")
        self.assertEqual(state_of(Deployment.objects.get(pk=made.pk)).trades, ())
        self.assertFalse(Holding.objects.filter(deployment=made, closed_at=None).exists())
        found = compare(Deployment.objects.get(pk=made.pk), self.venue().session)
        self.assertEqual([row for row in found["rows"] if not row["same"]], [])
        # what an account made is in its own ledger
        for account in (self.account, self.beside):
            self.assertEqual(
                sorted(row.kind for row in account.ledger.all()), ["commission", "commission", "premium", "premium"]
            )

    def test_halting_either_account_disarms_it(self) -> None:
        made = deployments.arm(self.mara, self.promoted(self.beside).pk)
        self.together("09:40")
        deployments.halt([self.beside], "person", "enough", False)
        made.refresh_from_db()
        self.assertFalse(made.armed)
        self.assertFalse(
            DeskOrder.objects.filter(deployment=made, state__in=DeskOrder.ALIVE, cancel_wanted=False).exists()
        )
        with self.assertRaisesRegex(Conflict, "Paper B is halted"):
            deployments.arm(self.mara, made.pk)
        self.assertEqual(venue_of(OTHER).session, self.venue().session)

    def test_a_market_that_stands_is_not_traded(self) -> None:
        made = deployments.arm(self.mara, self.promoted(self.beside).pk)
        with patch("desk.beside.PATIENCE_SECONDS", 0):
            self.go("10:10")
        made.refresh_from_db()
        self.assertEqual({trade.symbol for trade in state_of(made).trades}, {"MK30"})

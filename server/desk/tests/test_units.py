"""A stock at the desk: the underlying is dealt, options deliver it, dividends are paid, calls are taken away before them."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any

from config.errors import Refused
from config.tests.demo import document
from demo.load import load_singles
from desk import deployments, services
from desk.deployed import plan_of
from desk.models import Account, Deployment, DeskOrder, Holding, LedgerRow
from desk.positions import standings
from desk.tests.desk import DeskTestCase
from journal.models import JournalEntry
from market.models import Bar, Dividend, Underlying
from market.timelines import timeline
from practice_exchange.exchange import Exchange
from runs.models import Run
from strategies import services as strategies
from strell_core.engine.advance import advance
from strell_core.engine.state import EngineState
from strell_core.engine.stored import fill_of, load, order_of
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Observation
from strell_core.scenario.generator import Settings
from strell_core.strategy.document import normalise
from venue import clock
from venue.live import live, recorded

UNIT = "OSTL/unit"
SESSIONS = 12
"""Of the stock's history: enough for what its rules ask for."""


class UnitsTest(DeskTestCase):
    symbol = "OSTL"

    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        load_singles(Settings(sessions=90, intraday=25), SESSIONS, lambda what, done, total: None, processes=1)

    def ledger(self, kind: str, account: Account | None = None) -> Decimal:
        rows = LedgerRow.objects.filter(account=account or self.account, kind=kind)
        return sum((row.amount for row in rows), Decimal(0))

    def dividend(self, date: dt.date, amount: str) -> None:
        Dividend.objects.create(underlying=Underlying.objects.get(symbol="OSTL"), date=date, amount=Decimal(amount))

    def next_session(self) -> None:
        clock.next_session(self.mara, "OSTL")
        self.pass_seconds(1)

    def held(self) -> dict[str, int]:
        now = live("OSTL")
        return {h.contract.code: h.contracts for s in standings(self.account, now).holdings for h in s.open}

    def test_units_are_bought_and_sold_at_their_quote_without_commission(self) -> None:
        order = self.place([(UNIT, 1)], lots=3)
        self.pass_seconds()
        self.assertEqual(self.state(order), "filled")
        now = live("OSTL")
        unit = now.sided(ContractKey.unit("OSTL"))
        assert unit is not None
        self.assertEqual(unit.ask - unit.bid, 2)
        at = standings(self.account, now)
        self.assertEqual(self.ledger("commission"), 0)
        self.assertEqual(at.holdings[0].greeks["delta"], 300.0)
        # what is long is paid for: its value, and no more
        self.assertAlmostEqual(float(at.reserved), 300 * now.spot, delta=1)
        self.assertEqual(at.holdings[0].premium, 0)
        closing = services.place(self.account, services.closing_ticket(at.holdings[0].row))
        self.pass_seconds()
        self.assertEqual(self.state(closing), "filled")
        self.assertIsNotNone(Holding.objects.get(pk=at.holdings[0].row.pk).closed_at)

    def test_a_covered_call_needs_the_units_only_and_reads_back_so(self) -> None:
        call = self.contract("call", 1, days=8)
        status, seen = self.send(
            "post", f"/accounts/{self.account.pk}/ticket",
            {"legs": [{"contract": UNIT, "ratio": 1}, {"contract": call, "ratio": -1}], "lots": 1, "type": "market"},
        )  # fmt: skip
        self.assertEqual((status, seen["problems"]), (200, []), seen)
        self.assertEqual(seen["legs"][0]["label"], "OSTL itself")
        self.assertEqual(seen["legs"][0]["delta"], 1.0)
        self.assertIn("0.80 EUR of commission", " ".join(seen["sentences"]))
        self.assertLess(seen["capital"], 100 * live("OSTL").spot + 20)

    def test_an_index_has_no_units_and_the_broker_no_stock(self) -> None:
        with self.assertRaisesRegex(Refused, "traded on paper"):
            services.open_account(self.mara, "Broker", "practice", "OSTL", Decimal(50_000))
        index = services.open_account(self.mara, "Index", "paper", "MK30", Decimal(50_000))
        Exchange("MK30").tick()
        with self.assertRaisesRegex(Refused, "MK30 itself is not listed"):
            self.place([("MK30/unit", 1)], account=index)
        with self.assertRaisesRegex(Refused, "OSTL units is not listed"):
            # the desk's market deals in contracts
            self.place([("OSTL/unit/100", 1)])

    def test_the_eve_of_a_dividend_takes_a_call_in_the_money_away(self) -> None:
        self.dividend(dt.date(2026, 11, 20), "0.90")
        deep, far = self.contract("call", -6, days=8), self.contract("call", 2, days=60)
        covered = self.place([(UNIT, 1), (deep, -1)])
        safe = self.place([(UNIT, 1), (far, -1)])
        self.pass_seconds()
        self.assertEqual((self.state(covered), self.state(safe)), ("filled", "filled"))
        strike = Decimal(str(ContractKey.parse(deep).strike))
        self.close_session(every=60)
        self.assertEqual(self.held(), {UNIT: 1, far: -1})
        self.assertEqual(self.ledger("delivery"), 100 * strike)
        self.assertTrue(JournalEntry.objects.filter(kind="assigned", text__contains="go out at").exists())
        self.desk.round()
        self.assertEqual(self.ledger("delivery"), 100 * strike, "once")
        before = standings(self.account, live("OSTL")).holdings[0].realised
        self.next_session()
        self.assertEqual(self.ledger("dividend"), Decimal("90.00"), "of the units still held")
        self.assertEqual(standings(self.account, live("OSTL")).holdings[0].realised - before, 90)
        self.pass_seconds(5)
        self.assertEqual(self.ledger("dividend"), Decimal("90.00"), "once")

    def test_who_sold_units_owes_the_dividend_and_who_buys_on_the_day_gets_none(self) -> None:
        self.dividend(dt.date(2026, 11, 20), "0.5")
        self.place([(UNIT, -1)], lots=2)
        self.pass_seconds()
        self.close_session(every=60)
        self.next_session()
        self.assertEqual(self.ledger("dividend"), Decimal("-100.00"))
        self.place([(UNIT, 1)], lots=2)
        self.pass_seconds()
        self.assertEqual(self.ledger("dividend"), Decimal("-100.00"))

    def test_expiring_in_the_money_delivers_and_out_of_it_is_gone(self) -> None:
        put, call = self.contract("put", 3, days=1), self.contract("call", 5, days=1)
        own = self.contract("call", -3, days=1)
        for legs in ([(put, -1)], [(call, 1)], [(own, 1)]):
            order = self.place(legs)
            self.pass_seconds()
            self.assertEqual(self.state(order), "filled", legs)
        self.close_session(every=60)
        self.next_session()
        self.close_session(every=60)
        close = Bar.objects.get(underlying__symbol="OSTL", date=dt.date(2026, 11, 20)).close / 100
        strikes = [float(ContractKey.parse(code).strike) for code in (put, call, own)]
        self.assertTrue(strikes[0] > close and strikes[1] > close and strikes[2] < close)
        units = [n for code, n in self._all_held() if code == UNIT]
        self.assertEqual(units, [1, 1], "a put that was sold and a call that was held each brought units")
        self.assertEqual(self.ledger("delivery"), Decimal(str(-100 * (strikes[0] + strikes[2]))))

    def _all_held(self) -> list[tuple[str, int]]:
        return [
            (held.contract.code, held.contracts)
            for standing in standings(self.account, live("OSTL")).holdings
            for held in standing.open
        ]

    def covered_call(self) -> dict[str, Any]:
        rules = document("orchard-covered-call")
        rules["entries"][0]["when"][0]["time"] = "10:00"
        rules["entries"][0]["legs"][1]["expiry"] = {"pick": "nearest_days", "days": 1, "from": 0, "to": 3}
        rules["entries"][0]["legs"][1]["strike"] = {"pick": "nearest_delta", "delta": 0.7, "within": 0.3}
        rules["leave"][0]["time"] = "17:29"
        return rules

    def deploy(self, rules: dict[str, Any]) -> Deployment:
        services.set_limits(self.mara, self.account.pk, dict.fromkeys(self.account.limits))
        strategy = strategies.create(self.mara, rules)
        history = timeline("OSTL")
        Run.objects.create(
            strategy=strategy, revision=strategy.latest, number=1, start=history.dates[0], end=history.dates[-1],
            cash=Decimal(50_000), status=Run.Status.DONE,
        )  # fmt: skip
        made = deployments.promote(self.mara, strategy.pk, self.account.pk, 1, {}, True)
        return deployments.arm(self.mara, made.pk)

    def test_a_covered_call_is_armed_filled_and_carried_through_its_expiration(self) -> None:
        deployment = self.deploy(self.covered_call())
        self.go("10:10")
        self.close_session(every=12)
        entry = DeskOrder.objects.get(deployment=deployment)
        self.assertEqual((entry.state, entry.opens, len(entry.legs)), ("filled", True, 2), entry.reason)
        self.next_session()
        self.close_session(every=12)
        deployment.refresh_from_db()
        # the engine's cash is the account's, however it came about
        state = load(deployment.state, "OSTL")
        moved = self.ledger("premium") + self.ledger("commission") + self.ledger("delivery") + self.ledger("settlement")
        self.assertEqual(state.cash - Decimal(50_000), moved)
        held = {leg.contract.code: leg.contracts for trade in state.trades for leg in trade.legs}
        self.assertEqual(held, {code: n for code, n in self._all_held()})
        self.assertEqual(self.decided_again(deployment), state)

    def decided_again(self, deployment: Deployment) -> EngineState:
        """What a replay of the days says, told the same fills."""
        history = recorded("OSTL")
        plan, told = plan_of(deployment, history), {row.at: row for row in deployment.decisions.all()}
        again = EngineState(Decimal(50_000))
        begin = int(history.first[history.session_index(dt.date(2026, 11, 19))])
        for index, at in enumerate(history.times.tolist()[begin:], begin):
            if at > deployment.cursor:
                break
            row = told.get(at)
            if row and row.orders:
                again = EngineState(
                    **{**again.__dict__, "orders": (*again.orders, *(order_of(raw, "OSTL") for raw in row.orders))}
                )
            again = advance(
                plan, again, Observation(history, index), [fill_of(raw) for raw in row.fills] if row else []
            ).state
        return again

    def test_a_straddle_is_hedged_with_units_as_the_price_moves(self) -> None:
        legs = [
            {"rule": "leg", "side": "buy", "right": right, "strike": {"pick": "percent_from_spot", "percent": 0.0},
             "expiry": {"pick": "nearest_days", "days": 1, "from": 0, "to": 3}}
            for right in ("call", "put")
        ]  # fmt: skip
        looks = [
            {
                "rule": "every_minutes",
                "minutes": 10,
                "from": "10:00",
                "until": "15:00",
                "weekdays": ["mon", "tue", "wed", "thu", "fri"],
            }
        ]
        rules = normalise({
            "strell": 2, "name": "Hedged", "underlyings": ["OSTL"],
            "entries": [{"when": looks, "conditions": [{"rule": "open_limit", "limit": 1}], "legs": legs,
                         "adjust": [{"rule": "hedge", "band": 55.0, "to": 0.0, "id": "h"}], "size": [{"rule": "fixed_lots", "lots": 5}]}],
            "leave": [{"rule": "days_held", "days": 0, "time": "15:30"}],
            "limits": [{"rule": "capital", "entries": "allow", "below": "report"}],
        })  # fmt: skip
        deployment = self.deploy(rules)
        self.go("15:20", every=2)
        deployment.refresh_from_db()
        state = load(deployment.state, "OSTL")
        hedges = DeskOrder.objects.filter(deployment=deployment, changes=True, state="filled")
        self.assertGreaterEqual(hedges.count(), 2, "the price moves enough")
        self.assertTrue(all([code for code, _ in order.legs] == [UNIT] for order in hedges))
        held = {leg.contract.code: leg.contracts for trade in state.trades for leg in trade.legs}
        self.assertEqual(held, self.held())
        self.assertIn(UNIT, held)
        moved = self.ledger("premium") + self.ledger("commission")
        self.assertEqual(state.cash - Decimal(50_000), moved)
        self.assertEqual(self.decided_again(deployment), state)
        # an exit sells or buys back the units with the options, in one order
        self.go("15:50", every=2)
        deployment.refresh_from_db()
        self.assertEqual(self.held(), {})
        self.assertEqual(load(deployment.state, "OSTL").trades, ())
        closing = DeskOrder.objects.get(deployment=deployment, opens=False, state="filled")
        self.assertEqual({code for code, _ in closing.legs}, set(held))

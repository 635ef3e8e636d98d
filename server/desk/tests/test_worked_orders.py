"""What a sheet says of working its orders, at a market: limits that walk, legs one after another."""

from __future__ import annotations

from typing import Any

from config.tests.demo import document
from desk import deployments
from desk.compare import compare
from desk.deployed import state_of
from desk.models import Deployment, DeskOrder
from desk.positions import standing, standings
from desk.tests.desk import DeskTestCase
from strategies import services as strategies
from strell_core.market.instruments import ContractKey
from strell_core.strategy.document import normalise
from venue.live import live

EVERY_DAY = ["mon", "tue", "wed", "thu", "fri"]
PATIENCE = {"rule": "patience", "start": 0, "step": 50, "minutes": 2, "most": 100, "entry": "cross", "exit": "cross"}


def condor(*orders: dict[str, Any], leave: str = "10:30") -> dict[str, Any]:
    """A condor entered at 09:40 and left in the same session, its orders worked as ``orders`` say."""
    raw = {**document(), "name": "Worked"}
    entry = raw["entries"][0]
    entry["when"] = [{"rule": "decision_times", "weekdays": EVERY_DAY, "time": "09:40"}]
    entry["size"] = [{"rule": "fixed_lots", "lots": 2}]
    for sold in list(entry["legs"]):
        away = 60 if sold["right"] == "call" else -60
        pick = {"pick": "points_from_leg", "leg": sold["id"], "points": abs(away)}
        entry["legs"].append({"rule": "leg", "id": f"{sold['id']}w", "side": "buy", "ratio": 1, "right": sold["right"],
                              "strike": pick, "expiry": {"pick": "same_expiration"}})  # fmt: skip
    raw["leave"] = [{"rule": "days_held", "days": 0, "time": leave, "id": "out"}]
    raw["orders"] = list(orders)
    return normalise(raw)


class WorkedOrdersTest(DeskTestCase):
    def deploy(self, raw: dict[str, Any]) -> Deployment:
        strategy = strategies.create(self.mara, raw)
        self.finished_run(strategy)
        made = deployments.promote(self.mara, strategy.pk, self.account.pk, 1, {}, True)
        return deployments.arm(self.mara, made.pk)

    def sent(self, deployment: Deployment) -> list[tuple[str, str, int, list[int]]]:
        """Every order: purpose, state, lots and contracts a lot."""
        rows = DeskOrder.objects.filter(deployment=deployment).order_by("id")
        return [(row.intent, row.state, row.lots, [ratio for _, ratio in row.legs]) for row in rows]

    def both_agree(self, deployment: Deployment) -> None:
        """The desk's books and the engine's state say the same."""
        deployment.refresh_from_db()
        state, now = state_of(deployment), live("MK30")
        self.assertEqual(standings(self.account, now).cash, state.cash)
        held = {leg.contract.code: leg.contracts for trade in state.trades for leg in trade.legs}
        there = {
            item.contract.code: item.contracts
            for holding in deployment.holdings.filter(closed_at=None)
            for item in standing(holding, now).open
        }
        self.assertEqual(there, held)

    def test_longs_come_in_first_and_go_out_last(self) -> None:
        deployment = self.deploy(condor({"rule": "leg_by_leg", "how": "sides", "rest": "undo"}))
        self.go("09:40")
        self.assertEqual(self.sent(deployment), [("1-open", "working", 2, [1, 1])])
        self.pass_seconds()
        # what is sold next does not wait for the next snapshot
        self.assertEqual([row[1:] for row in self.sent(deployment)], [("filled", 2, [1, 1]), ("working", 2, [-1, -1])])
        deployment.refresh_from_db()
        self.assertEqual(state_of(deployment).trades, ())
        self.pass_seconds()
        self.go("09:45")
        self.assertEqual(self.sent(deployment)[1:], [("1-open", "filled", 2, [-1, -1])])
        self.both_agree(deployment)
        (trade,) = state_of(deployment).trades
        self.assertEqual((trade.lots, len(trade.legs), deployment.holdings.count()), (2, 4, 1))
        first, second = DeskOrder.objects.filter(deployment=deployment).order_by("id")
        self.assertEqual((first.changes, second.changes, second.holding_id), (False, True, first.holding_id))
        self.go("10:50")
        self.assertEqual(
            self.sent(deployment)[2:], [("1-close", "filled", 2, [1, 1]), ("1-close", "filled", 2, [-1, -1])]
        )
        self.both_agree(deployment)
        self.assertEqual((state_of(deployment).trades, state_of(deployment).orders), ((), ()))
        self.assertIsNotNone(deployment.holdings.get().closed_at)
        found = compare(deployment, self.venue().session)
        self.assertTrue(all(row["same"] for row in found["rows"]), found["first"])
        self.assertEqual([row["order"] for row in found["fills"]], ["1-open", "1-close"])
        # every leg was dealt, in two parts each way: the net price of a lot is told on both sides
        self.assertTrue(all(row["lived"] is not None and row["tested"] is not None for row in found["fills"]))
        self.assertTrue(all(abs(row["lived"] - row["tested"]) < 2 for row in found["fills"]), found["fills"])

    def test_one_leg_after_another_is_four_orders_each_way(self) -> None:
        deployment = self.deploy(condor({"rule": "leg_by_leg", "how": "each", "rest": "undo"}, leave="11:00"))
        self.go("10:20")
        self.assertEqual(
            [(lots, legs) for _, _, lots, legs in self.sent(deployment)], [(2, [1]), (2, [1]), (2, [-1]), (2, [-1])]
        )
        self.both_agree(deployment)
        self.go("12:30")
        self.assertEqual(
            [(lots, legs) for _, _, lots, legs in self.sent(deployment)[4:]], [(2, [1]), (2, [1]), (2, [-1]), (2, [-1])]
        )
        self.both_agree(deployment)
        self.assertEqual(state_of(deployment).trades, ())

    def test_legs_that_nobody_bids_for_are_not_sold_and_the_rest_is_undone(self) -> None:
        deployment = self.deploy(
            condor(
                {"rule": "leg_by_leg", "how": "sides", "rest": "undo"},
                {**PATIENCE, "start": 100, "minutes": 5, "entry": "give_up"},
            )
        )
        self.go("09:40")
        (order,) = DeskOrder.objects.filter(deployment=deployment)
        longs = [code for code, _ in order.legs]
        deployment.refresh_from_db()
        sold = [leg.contract.code for leg in state_of(deployment).orders[0].legs if leg.contracts < 0]
        # from now on nobody bids for what is to be sold
        for _ in range(8):
            self.quote(dict.fromkeys(sold, ("0", "90")), seconds=30)
        self.assertEqual(self.sent(deployment)[0][:2], ("1-open", "filled"))
        self.go("09:45", decide=False)
        self.quote(dict.fromkeys(sold, ("0", "90")))
        self.go("10:00")
        deployment.refresh_from_db()
        said = [raw["kind"] for row in deployment.decisions.order_by("at") for raw in row.reasons]
        self.assertIn("lapsed", said)
        last = self.sent(deployment)[-1]
        self.assertEqual((last[0], last[1], last[3]), ("1-close", "filled", [-1, -1]))
        closed = DeskOrder.objects.filter(deployment=deployment).latest("id")
        self.assertEqual(([code for code, _ in closed.legs], closed.type), (longs, "market"))
        self.both_agree(deployment)

    def test_a_limit_walks_by_market_time_and_in_the_end_takes_the_other_side(self) -> None:
        deployment = self.deploy(condor(PATIENCE))
        self.go("09:40")
        order = DeskOrder.objects.get(deployment=deployment)
        codes = [ContractKey.parse(code) for code, _ in order.legs]

        def sides() -> tuple[float, float]:
            """The mid and the other side of a lot, in quanta."""
            quotes = live("MK30").quotes(set(codes))
            lot = list(zip(codes, (ratio for _, ratio in order.legs), strict=True))
            mid = sum(n * (quotes[c].bid + quotes[c].ask) for c, n in lot) / 2
            return mid, sum(n * (quotes[c].ask if n > 0 else quotes[c].bid) for c, n in lot)

        still = {c.code: (q.bid / 20, q.ask / 20) for c, q in live("MK30").quotes(set(codes)).items()}
        mid, other = sides()
        self.assertEqual((order.state, order.limit), ("working", mid // 1))
        seen = [order.limit]
        for _ in range(14):
            # the market stands still while half minutes pass
            self.quote({code: (f"{low:.2f}", f"{high:.2f}") for code, (low, high) in still.items()}, seconds=30)
            order.refresh_from_db()
            if order.state == "filled":
                break
            if order.limit != seen[-1]:
                seen.append(order.limit)
        half = (mid + other) / 2
        self.assertEqual(seen, [mid // 1, half // 1, other][: len(seen)])
        self.assertGreaterEqual(len(seen), 2)
        self.assertEqual(order.state, "filled")
        self.both_agree(deployment) if deployment.cursor > order.placed_market else None

    def test_an_entry_whose_limit_is_not_reached_is_taken_back(self) -> None:
        deployment = self.deploy(condor({**PATIENCE, "start": -100, "step": 0, "minutes": 5, "entry": "give_up"}))
        self.go("10:20")
        self.assertEqual([row[:2] for row in self.sent(deployment)], [("1-open", "cancelled")])
        self.both_agree(deployment)
        self.assertEqual(state_of(deployment).orders, ())

"""What a sheet's adjustments do at a market: legs closed and opened in one order, for the capital there is."""

from __future__ import annotations

from typing import Any

from config.errors import Refused
from config.tests.demo import document
from desk import deployments, services
from desk.compare import compare
from desk.deployed import state_of
from desk.models import Deployment, DeskOrder
from desk.positions import standing, standings
from desk.tests.desk import DeskTestCase
from desk.tickets import Ticket
from journal.models import JournalEntry
from strategies import services as strategies
from strell_core.strategy.document import normalise
from venue.live import live

EVERY_DAY = ["mon", "tue", "wed", "thu", "fri"]


def rolling() -> dict[str, Any]:
    """A short strangle entered at 09:40 whose call is rolled at 10:00, whatever the market does."""
    raw = {**document(), "name": "Rolls"}
    entry = raw["entries"][0]
    entry["when"] = [{"rule": "decision_times", "weekdays": EVERY_DAY, "time": time} for time in ("09:40", "10:00")]
    entry["size"] = [{"rule": "fixed_lots", "lots": 1}]
    entry["adjust"] = [
        {"rule": "roll_strikes", "id": "roll", "left": {"measure": "price"}, "is": "above", "right": 1,
         "what": entry["legs"][0]["id"], "strikes": 2, "where": "away"}
    ]  # fmt: skip
    return normalise(raw)


class AdjustmentTest(DeskTestCase):
    def deploy(self) -> Deployment:
        raw = rolling()
        self.call, self.put = (leg["id"] for leg in raw["entries"][0]["legs"])
        strategy = strategies.create(self.mara, raw)
        self.finished_run(strategy)
        made = deployments.promote(self.mara, strategy.pk, self.account.pk, 1, {}, True)
        return deployments.arm(self.mara, made.pk)

    def legs(self, deployment: Deployment) -> dict[str, tuple[str, int]]:
        deployment.refresh_from_db()
        (trade,) = state_of(deployment).trades
        return {leg.leg_id: (leg.contract.code, leg.contracts) for leg in trade.legs}

    def test_a_leg_is_rolled_in_one_order_and_both_sides_agree(self) -> None:
        deployment = self.deploy()
        self.go("09:50")
        before = self.legs(deployment)
        premium = standing(deployment.holdings.get(), live("MK30")).premium
        self.go("10:10")
        after = self.legs(deployment)
        self.assertEqual(after[self.put], before[self.put])
        self.assertNotEqual(after[self.call], before[self.call])
        order = DeskOrder.objects.get(deployment=deployment, changes=True)
        self.assertEqual((order.state, order.opens, order.by), ("filled", True, "rule"))
        self.assertEqual(sorted(order.legs), sorted([[before[self.call][0], 1], [after[self.call][0], -1]]))
        # one position, of the legs its rules know, worth what its rules know
        holding = deployment.holdings.get()
        held = {item.contract.code: item.contracts for item in standing(holding, live("MK30")).open}
        self.assertEqual(held, dict(after.values()))
        state = state_of(deployment)
        self.assertEqual(standings(self.account, live("MK30")).cash, state.cash)
        self.assertEqual(order.holding_id, holding.pk)
        self.assertEqual(standing(holding, live("MK30")).premium, premium, "what its entry took in")
        said = JournalEntry.objects.get(deployment=deployment.pk, kind="moved").text
        self.assertRegex(said, r"^Rolls: adjusts trade 1 at 10:00 \(sentence \d+\): ")
        sent = JournalEntry.objects.filter(order=order.pk, kind="ordered").get().text
        self.assertTrue(sent.startswith("Changes its position by 1 lot of "), sent)
        date = self.venue().session
        rows = compare(deployment, date)["rows"]
        self.assertIn("moved", [row["kind"] for row in rows])
        self.assertTrue(all(row["same"] for row in rows))

    def test_before_it_acts_it_says_what_it_would_do(self) -> None:
        deployment = self.deploy()
        self.go("09:50")
        found = self.client.get(f"/api/deployments/{deployment.pk}/outlook").json()
        (trade,) = found["trades"]
        self.assertEqual((found["at"][-5:], trade["number"], trade["leaving"]), ("09:50", 1, None))
        (roll,) = trade["adjustments"]
        self.assertEqual((roll["truth"], roll["asked"]), ("true", False))
        before, (closed, opened) = self.legs(deployment), roll["does"]["legs"]
        self.assertEqual(
            (closed["contracts"], closed["closes"], opened["contracts"], opened["closes"]), (1, True, -1, False)
        )
        self.assertIn(closed["label"].split()[-2], before[self.call][0])
        # a call bought back and a farther one sold: less delta is short, and it costs
        self.assertGreater(roll["does"]["delta_after"], roll["does"]["delta_before"])
        self.assertLess(roll["does"]["cash"], 0)
        self.assertEqual(roll["does"]["refused"], "")
        held = {leg["strike"] for leg in roll["does"]["glyph"]["legs"]}
        self.assertEqual(len(held), 2)
        self.assertTrue(all(row["truth"] in ("true", "false", "unvalued") and row["text"] for row in trade["exits"]))
        self.go("10:10")
        rolled = self.legs(deployment)[self.call][0]
        self.assertIn(f"{opened['label'].split()[-2]}", rolled, "the strike it spoke of, ten minutes before")

    def test_what_a_limit_forbids_is_refused_and_the_position_stays(self) -> None:
        deployment = self.deploy()
        self.go("09:50")
        before = self.legs(deployment)
        services.set_limits(self.mara, self.account.pk, {**dict.fromkeys(self.account.limits), "notional": 1})
        self.go("10:10")
        self.assertEqual(self.legs(deployment), before)
        order = DeskOrder.objects.get(deployment=deployment, changes=True)
        self.assertEqual(order.state, "refused")
        self.assertEqual(state_of(deployment).orders, ())

    def at_work(self, deployment: Deployment) -> DeskOrder:
        """The change as it is just after it was sent."""
        self.go("09:50")
        self.go("10:00", decide=False)
        self.desk.round()
        order = DeskOrder.objects.get(deployment=deployment, changes=True)
        self.assertTrue(order.alive)
        return order

    def test_what_a_change_is_closing_a_person_does_not_close_as_well(self) -> None:
        deployment = self.deploy()
        order = self.at_work(deployment)
        holding = deployment.holdings.get()
        closes, opens = (next(leg for leg in order.legs if leg[1] == ratio) for ratio in (1, -1))
        for code, ratio in (closes, [opens[0], 1]):
            with self.assertRaisesRegex(Refused, "0 can be closed, not 1"):
                services.place(self.account, Ticket([(code, ratio)], 1, "market", holding=holding.pk))
        put = dict(self.legs(deployment).values())
        other = next(code for code in put if code != closes[0])
        self.assertEqual(
            services.place(self.account, Ticket([(other, 1)], 1, "market", holding=holding.pk)).opens, False
        )

    def test_halt_takes_a_change_that_is_at_work_back(self) -> None:
        deployment = self.deploy()
        order = self.at_work(deployment)
        before = self.legs(deployment)
        deployments.halt([self.account], "person", "enough", False)
        order.refresh_from_db()
        self.assertEqual(order.state, "cancelled")
        self.go("10:20")
        self.assertEqual(self.legs(deployment), before)

"""A strategy trades by itself: promoted, armed, deciding on recorded snapshots, compared, halted."""

from __future__ import annotations

import json
import time
from decimal import Decimal
from unittest.mock import patch

from django.core.management import call_command
from django.db import OperationalError, transaction

from config.errors import Conflict, Refused
from config.push import Ear
from config.tests.demo import document
from desk import deployments, queries, services
from desk.compare import compare
from desk.leader import Deposed
from desk.models import Account, Decision, Deployment, DeskOrder, Leader
from desk.positions import standing
from desk.process import Desk
from desk.tests.desk import DeskTestCase
from desk.tickets import Ticket, deployment_pnl
from journal.models import JournalEntry
from market.models import Underlying, Venue
from runs import services as runs
from runs import work as run_work
from strategies import services as strategies
from venue import clock
from venue.live import live

EVERY_DAY = ["mon", "tue", "wed", "thu", "fri"]


class DeploymentTestCase(DeskTestCase):
    def daily(self, time: str = "09:40", name: str = "Every day", **exits) -> Deployment:
        """A deployed and armed strangle that decides every day."""
        raw = {**document(), "name": name}
        raw["entries"][0]["when"][0].update(weekdays=EVERY_DAY, time=time)
        for rule in raw["leave"]:
            if rule["rule"] in exits:
                rule["percent"] = exits[rule["rule"]]
        strategy = strategies.create(self.mara, raw)
        self.finished_run(strategy)
        deployment = deployments.promote(self.mara, strategy.pk, self.account.pk, 1, {}, True)
        return deployments.arm(self.mara, deployment.pk)


class DeploymentTest(DeploymentTestCase):
    def test_it_enters_at_its_time_by_its_rules_and_says_why(self) -> None:
        deployment = self.daily()
        self.go("09:35")
        self.assertEqual(DeskOrder.objects.count(), 0)
        self.go("09:50")
        order = DeskOrder.objects.get()
        self.assertEqual((order.by, order.state, order.because), ("rule", "filled", "Every day, sentence 1"))
        kinds = list(
            JournalEntry.objects.filter(deployment=deployment.pk).order_by("id").values_list("kind", flat=True)
        )
        self.assertEqual(kinds, ["promoted", "armed", "entry", "ordered", "working", "filled", "filled"])
        entry = JournalEntry.objects.get(kind="entry")
        self.assertEqual((entry.who, entry.market_at), ("rule", self.exchange_time(9, 40)))
        holding = queries.desk(self.mara, self.account)["holdings"][0]
        self.assertEqual((holding["name"], holding["trade"], holding["next"]), ("Every day", 1, "its rules leave it"))

    def test_the_least_credit_of_its_sheet_holds_at_the_market_too(self) -> None:
        raw = {**document(), "name": "At least"}
        raw["entries"][0]["when"][0].update(weekdays=EVERY_DAY, time="09:40")
        raw["entries"][0]["checks"] = [{"id": "least", "rule": "net_premium", "kind": "credit", "points": 1}]
        strategy = strategies.create(self.mara, raw)
        self.finished_run(strategy)
        deployment = deployments.promote(self.mara, strategy.pk, self.account.pk, 1, {}, True)
        deployments.arm(self.mara, deployment.pk)
        with patch("desk.paper.match_all", return_value=0):
            self.go("09:45")
            order = DeskOrder.objects.get()
            self.assertEqual(order.state, "working")
            self.assertLess(order.limit, -20)
            # where the way from mid would bring next to nothing the limit stays at the credit of one point
            with patch("desk.carry_out._limit", return_value=-2):
                self.go("09:50")
            order.refresh_from_db()
            self.assertEqual(order.limit, -20)

    def test_its_exits_act_with_their_reason_and_it_compares_with_a_backtest(self) -> None:
        deployment = self.daily(premium_stop=1)
        self.go("12:00")
        closing = DeskOrder.objects.filter(opens=False).first()
        self.assertEqual((closing.by, closing.state, closing.type), ("rule", "filled", "market"))
        self.assertIn("sentence 7", closing.because)
        left = JournalEntry.objects.filter(kind="left").last()
        self.assertIn("reached", left.text)
        deployment.refresh_from_db()
        found = compare(deployment, self.venue().session)
        self.assertTrue(found["rows"])
        self.assertEqual(found["rows"][0]["kind"], "entry")
        self.assertTrue(found["rows"][0]["same"])
        if found["first"] is None:
            self.assertEqual(found["same"], found["decisions"])
        else:
            self.assertRegex(found["first"], r"^(At \d\d:\d\d|Order )")

    def test_what_was_closed_by_hand_its_rules_are_told(self) -> None:
        deployment = self.daily()
        self.go("09:45")
        holding = deployment.holdings.get()
        services.place(self.account, services.closing_ticket(holding))
        self.desk.round()
        self.go("09:55")
        deployment.refresh_from_db()
        self.assertEqual(json.loads(deployment.state)["trades"], [])
        self.assertTrue(Decision.objects.filter(deployment=deployment, orders__0__rule="by hand").exists())

    def test_a_cancelled_entry_is_given_up_by_its_rules(self) -> None:
        services.set_limits(self.mara, self.account.pk, {"lots": 1})
        deployment = self.daily()
        self.go("09:40", decide=False)
        self.exchange._waiting = None
        from desk import deploy

        deploy.decide_all(self.desk.epoch, self.venue())
        order = DeskOrder.objects.get()
        services.cancel(self.mara, order.pk)
        self.go("09:50")
        deployment.refresh_from_db()
        self.assertEqual(json.loads(deployment.state)["orders"], [])
        self.assertTrue(JournalEntry.objects.filter(deployment=deployment.pk, kind="ended").exists())
        self.assertEqual(DeskOrder.objects.count(), 1, "nothing is sent again")

    def test_a_refused_entry_leaves_its_reason_and_no_position(self) -> None:
        services.set_limits(self.mara, self.account.pk, {"notional": 1000})
        deployment = self.daily()
        self.go("09:50")
        order = DeskOrder.objects.get()
        self.assertEqual(order.state, "refused")
        self.assertIn("notional", order.reason)
        deployment.refresh_from_db()
        self.assertEqual((json.loads(deployment.state)["trades"], json.loads(deployment.state)["orders"]), ([], []))

    def test_a_deployment_has_limits_of_its_own(self) -> None:
        self.finished_run()
        for raw, words in (({"lots": 0}, "more than 0"), ({"speed": 1}, "no limit called")):
            with self.assertRaisesRegex(Refused, words):
                deployments.promote(self.mara, self.strategy.pk, self.account.pk, 1, raw, True)
        deployment = self.daily()
        Deployment.objects.filter(pk=deployment.pk).update(limits={"notional": "1000"})
        self.go("09:50")
        order = DeskOrder.objects.get()
        self.assertEqual(order.state, "refused")
        self.assertIn("Limit of the deployment: A notional", order.reason)

    def test_the_loss_of_its_own_positions_stops_a_deployment(self) -> None:
        deployment = self.daily()
        self.go("09:50")
        holding = deployment.holdings.get()
        now = live("MK30")
        own = deployment_pnl(deployment, now)
        self.assertEqual(own, standing(holding, now).mid)
        self.assertNotEqual(own, 0)

    def test_disarmed_it_decides_nothing_and_armed_again_it_does_not_catch_up(self) -> None:
        deployment = self.daily()
        deployments.disarm(self.mara, deployment.pk)
        self.go("09:50")
        self.assertEqual((DeskOrder.objects.count(), Decision.objects.count()), (0, 0))
        deployments.arm(self.mara, deployment.pk)
        self.go("10:00")
        self.assertEqual(DeskOrder.objects.count(), 0, "the decision time has passed")

    def test_promoting_needs_a_run_of_these_rules_and_a_look_at_it(self) -> None:
        raw = {**document(), "name": "Untested"}
        strategy = strategies.create(self.mara, raw)
        with self.assertRaisesRegex(Refused, "run a backtest"):
            deployments.promote(self.mara, strategy.pk, self.account.pk, 1, {}, True)
        self.finished_run(strategy)
        with self.assertRaisesRegex(Refused, "looked at the run"):
            deployments.promote(self.mara, strategy.pk, self.account.pk, 1, {}, False)
        for size in (0, 101):
            with self.assertRaisesRegex(Refused, "size"):
                deployments.promote(self.mara, strategy.pk, self.account.pk, size, {}, True)
        made = deployments.promote(self.mara, strategy.pk, self.account.pk, 2, {}, True)
        self.assertFalse(made.armed)
        with self.assertRaisesRegex(Conflict, "already"):
            deployments.promote(self.mara, strategy.pk, self.account.pk, 1, {}, True)

    def test_the_size_multiplies_the_lots_of_the_rules(self) -> None:
        deployment = self.daily()
        Deployment.objects.filter(pk=deployment.pk).update(size=2)
        services.set_limits(self.mara, self.account.pk, {"notional": None})
        Account.objects.update(cash_start=500_000)
        self.go("09:50")
        self.assertEqual(DeskOrder.objects.get().lots, 2)

    def test_a_deposed_desk_decides_nothing(self) -> None:
        self.daily()
        Leader.objects.update(epoch=self.desk.epoch + 1)
        self.go("09:35", decide=False)
        with self.assertRaises(Deposed):
            self.desk._follow(self.venue())
        self.assertEqual((Decision.objects.count(), DeskOrder.objects.count()), (0, 0))

    def test_what_goes_wrong_on_one_underlying_stops_none_of_the_others(self) -> None:
        followed: list[str] = []

        def follow(desk: Desk, venue: Venue) -> None:
            followed.append(venue.underlying.symbol)
            if venue.underlying.symbol == "MK30":
                raise KeyError("a chain that nobody can read")

        other, venue = Underlying.objects.get(symbol="MK30"), self.venue()
        other.pk, other.symbol = None, "ZZ"
        other.save()
        venue.pk, venue.name, venue.underlying = None, "Another", other
        venue.save()
        Account.objects.create(owner=self.mara, name="Beside", underlying=other, cash_start=1000)
        with patch.object(Desk, "_follow", follow), self.assertLogs("strell.desk", "ERROR") as said:
            self.desk.round()
            self.desk.round()
        self.assertEqual(followed, ["MK30", "ZZ", "ZZ"], "it is tried again a little later, not at once")
        self.assertIn("MK30 is not followed", said.output[0])

    def test_a_second_desk_waits_while_the_first_lives(self) -> None:
        with Ear() as first, Ear() as second:
            self.assertTrue(first.take("desk"))
            self.assertFalse(second.take("desk"))
            self.assertTrue(first.take("desk"), "the one that has it keeps it")
            first._connection.close()
            end = time.monotonic() + 20
            while not second.take("desk"):
                self.assertLess(time.monotonic(), end, "the lock is free when its connection is gone")
                time.sleep(0.05)


class HaltTest(DeploymentTestCase):
    def busy(self) -> tuple[Deployment, DeskOrder]:
        deployment = self.daily()
        self.go("09:45")
        legs = [(self.contract("call", 40), -1), (self.contract("call", 70), 1)]
        return deployment, self.place(legs, limit="-50.00")

    def test_halt_cancels_disarms_and_locks_until_the_next_session(self) -> None:
        deployment, order = self.busy()
        done = deployments.halt([self.account], "person", "too fast", False)
        self.assertEqual(done, {"orders": 1, "deployments": 1, "closing": 0})
        deployment.refresh_from_db()
        self.assertEqual((self.state(order), deployment.armed), ("cancelled", False))
        with self.assertRaisesRegex(Conflict, "halted until the next session"):
            deployments.arm(self.mara, deployment.pk)
        self.assertIn("halted", JournalEntry.objects.filter(kind="refused").first().text)
        legs = [(self.contract("call", 40), -1), (self.contract("call", 70), 1)]
        with self.assertRaisesRegex(Refused, "halted until the next session"):
            services.place(self.account, Ticket(legs, 1, "market"))
        closing = services.place(self.account, services.closing_ticket(deployment.holdings.get()))
        self.assertEqual(closing.state, "working", "closing stays possible")
        self.close_session()
        clock.next_session(self.mara, "MK30")
        self.assertTrue(deployments.arm(self.mara, deployment.pk).armed)

    def test_halt_is_tried_again_when_somebody_else_is_at_the_same_rows(self) -> None:
        really, tries = deployments._halt, 0

        def held_up(account: int, who: str, because: str, counts: dict[str, int]) -> None:
            nonlocal tries
            tries += 1
            counts["orders"] += 7
            if tries < 3:
                raise OperationalError("deadlock detected")
            counts["orders"] -= 7
            really(account, who, because, counts)

        with patch("desk.deployments._halt", held_up), patch("desk.deployments.time.sleep"):
            done = deployments.halt([self.account], "person", "tried", False)
        self.assertEqual((tries, done["orders"]), (3, 0))
        self.account.refresh_from_db()
        self.assertEqual(self.account.locked_in, self.venue().generation)
        with (
            patch("desk.deployments._halt", side_effect=OperationalError("away")),
            patch("desk.deployments.time.sleep"),
        ):
            self.assertRaises(OperationalError, deployments.halt, [self.account], "person", "tried", False)

    def test_halt_closes_positions_when_asked(self) -> None:
        deployment, _ = self.busy()
        done = deployments.halt([self.account], "person", "out", True)
        self.assertEqual(done["closing"], 1)
        self.desk.round()
        self.pass_seconds(30)
        self.pass_seconds(30)
        self.assertIsNotNone(deployment.holdings.get().closed_at)

    def test_halt_from_the_command_line(self) -> None:
        deployment, order = self.busy()
        from io import StringIO

        out = StringIO()
        call_command("halt", user="mara", because="from a shell", stdout=out)
        self.assertIn("Paper A (mara)", out.getvalue())
        deployment.refresh_from_db()
        self.assertEqual((self.state(order), deployment.armed), ("cancelled", False))


class JournalTest(DeploymentTestCase):
    def test_the_database_refuses_to_change_or_delete_an_entry(self) -> None:
        self.daily()
        entry = JournalEntry.objects.first()
        for change in (lambda: JournalEntry.objects.filter(pk=entry.pk).update(text="never"), entry.delete):
            with self.assertRaisesRegex(Exception, "append-only"), transaction.atomic():
                change()

    def test_it_is_filtered_and_exported(self) -> None:
        self.daily()
        self.go("09:45")
        status, page = self.send("get", "/journal?who=rule")
        self.assertEqual({row["who"] for row in page["rows"]}, {"rule"})
        self.assertEqual(status, 200)
        _, found = self.send("get", f"/journal?account={self.account.pk}&words=entered")
        self.assertEqual([row["kind"] for row in found["rows"]], ["entry"])
        self.assertEqual(self.send("get", "/journal?who=nobody")[0], 422)
        answer = self.client.get("/api/journal.csv?kind=filled")
        text = b"".join(answer.streaming_content).decode()
        self.assertEqual(text.count("\r\n"), 1 + JournalEntry.objects.filter(kind="filled").count())
        self.assertIn("market_at", text.splitlines()[0])
        self.assertEqual(self.send("get", "/journal", client=self.other)[1]["rows"], [])

    def test_runs_and_recorded_days_join_the_history(self) -> None:
        from market.timelines import fold_in, timeline

        self.go("09:30")
        self.close_session()
        venue = self.venue()
        self.assertTrue(venue.sealed)
        fold_in(venue.underlying)
        history = timeline("MK30")
        self.assertEqual(history.dates[-1], venue.session)
        run = runs.ask(self.mara, self.strategy.pk, history.dates[-5], history.dates[-1], Decimal(50_000), "steps")
        run_work.carry_out(run.pk)
        run.refresh_from_db()
        self.assertEqual(run.status, "done")


class DeskRoundTest(DeploymentTestCase):
    def test_a_round_after_a_round_changes_nothing(self) -> None:
        self.daily(premium_stop=1)
        self.go("11:00")
        before = (DeskOrder.objects.count(), JournalEntry.objects.count(), Decision.objects.count())
        for _ in range(3):
            self.desk.round()
            Desk(self.desk.epoch).round()
        self.assertEqual((DeskOrder.objects.count(), JournalEntry.objects.count(), Decision.objects.count()), before)

"""Trading on paper by hand: tickets, matching, changing, cancelling, closing, protection, refusals."""

from __future__ import annotations

from decimal import Decimal

from config.errors import Conflict, Refused
from desk import queries, services
from desk.models import DeskFill, DeskOrder, Holding, LedgerRow
from desk.positions import standing, standings
from desk.tests.desk import DeskTestCase
from desk.tickets import Ticket
from journal.models import JournalEntry
from market.models import Venue
from venue.live import live


class PaperTest(DeskTestCase):
    def spread(self) -> list[tuple[str, int]]:
        return [(self.contract("call", 40), -1), (self.contract("call", 70), 1)]

    def priced(self) -> list[tuple[str, int]]:
        near, far = (code for code, _ in self.spread())
        self.quote({near: ("10.00", "10.40"), far: ("4.00", "4.20")}, size=10)
        return [(near, -1), (far, 1)]

    def test_a_limit_waits_until_the_market_comes_to_it_and_not_before(self) -> None:
        (near, _), (far, _) = legs = self.priced()
        order = self.place(legs, limit="-6.00")
        self.assertEqual(order.state, "working")
        self.pass_seconds()
        self.quote({near: ("10.10", "10.50"), far: ("4.00", "4.15")})
        self.assertEqual(self.state(order), "working", "10.10 - 4.15 is 5.95")
        self.quote({near: ("10.30", "10.50"), far: ("4.00", "4.15")})
        self.assertEqual(self.state(order), "filled")
        fill = order.fills.get()
        self.assertEqual([leg[2] for leg in fill.legs], [206 * 2000, 83 * 2000], "at the better price, 6.15")
        rows = LedgerRow.objects.filter(account=self.account)
        self.assertEqual(sum(row.amount for row in rows), Decimal("6.15") * 50 - Decimal("1.60"))

    def test_market_orders_pay_the_spread_and_only_as_much_as_is_offered(self) -> None:
        (near, _), (far, _) = legs = self.priced()
        order = self.place(legs, lots=15)
        self.quote({near: ("10.00", "10.40"), far: ("4.00", "4.20")}, size=10)
        order.refresh_from_db()
        self.assertEqual((order.state, order.filled), ("partly filled", 10))
        self.quote({near: ("9.00", "9.40"), far: ("4.00", "4.20")}, size=10)
        self.assertEqual(self.state(order), "filled")
        at = standing(order.holding, live("MK30"))
        self.assertEqual(at.lots, 15)
        self.assertAlmostEqual(at.opened_price, -(10 * 5.80 + 5 * 4.80) / 15, places=3)

    def test_a_working_order_is_changed_and_cancelled(self) -> None:
        legs = self.priced()
        order = self.place(legs, limit="-7.00")
        services.change(self.mara, order.pk, "-5.80")
        self.assertEqual(self.state(order), "working")
        self.pass_seconds()
        self.quote({legs[0][0]: ("10.00", "10.40"), legs[1][0]: ("4.00", "4.20")}, size=10)
        self.assertEqual(self.state(order), "filled")
        other = self.place(legs, limit="-7.00")
        services.cancel(self.mara, other.pk)
        self.assertEqual(self.state(other), "cancelled")
        with self.assertRaisesRegex(Conflict, "cancelled already"):
            services.cancel(self.mara, other.pk)
        with self.assertRaises(Conflict):
            services.change(self.mara, other.pk, "-6.00")

    def test_another_order_under_the_same_client_id_is_refused_and_says_so(self) -> None:
        legs = self.priced()
        first = self.place(legs, limit="-7.00", client_id="mine")
        for other in ({"lots": 2}, {"limit": "-7.50"}, {"limit": None, "type": "market"}):
            with self.assertRaisesMessage(Refused, f"order {first.pk} was sent before"):
                self.place(legs, client_id="mine", **{"limit": "-7.00", **other})
        self.assertEqual(DeskOrder.objects.count(), 1)

    def test_placing_the_same_client_id_again_changes_nothing(self) -> None:
        legs = self.priced()
        first = self.place(legs, limit="-7.00", client_id="mine")
        again = self.place(legs, limit="-7.00", client_id="mine")
        self.assertEqual(first.pk, again.pk)
        self.assertEqual(DeskOrder.objects.count(), 1)

    def opened(self, lots: int = 2) -> Holding:
        legs = self.priced()
        order = self.place(legs, lots=lots)
        self.quote({legs[0][0]: ("10.00", "10.40"), legs[1][0]: ("4.00", "4.20")}, size=10)
        self.assertEqual(self.state(order), "filled")
        return order.holding

    def test_a_part_of_a_position_is_closed_and_then_the_rest(self) -> None:
        holding = self.opened(3)
        near, far = sorted(code for code, _, _ in holding.fills.first().legs)
        self.place([(near, 1), (far, -1)], lots=1, holding=holding.pk)
        self.quote({near: ("8.00", "8.40"), far: ("4.00", "4.20")}, size=10)
        at = standing(holding, live("MK30"))
        self.assertEqual(at.lots, 2)
        # sold for 5.80, one lot bought back for 4.40: 1.40 a lot
        self.assertEqual(at.realised, Decimal("70.00"))
        self.assertEqual(at.premium, Decimal("870.00"))
        with self.assertRaisesRegex(Refused, "can be closed, not 3"):
            services.place(self.account, services.closing_ticket(holding, 3))
        services.place(self.account, services.closing_ticket(holding))
        with self.assertRaisesRegex(Refused, "being closed already"):
            services.place(self.account, services.closing_ticket(holding))
        self.desk.round()
        self.quote({near: ("8.00", "8.40"), far: ("4.00", "4.20")}, size=10)
        holding.refresh_from_db()
        self.assertIsNotNone(holding.closed_at)
        account = standings(self.account, live("MK30"))
        self.assertEqual(account.equity, Decimal(50_000) + 3 * Decimal("70.00") - 6 * Decimal("1.60"))

    def test_a_wing_that_nobody_bids_for_is_given_away(self) -> None:
        holding = self.opened(2)
        near, far = sorted(code for code, _, _ in holding.fills.first().legs)
        gone = {near: ("0.90", "1.00"), far: ("0.00", "0.10")}
        self.quote(gone, size=10)
        at = standing(holding, live("MK30"))
        # 5.80 taken in, 1.00 to buy the short back, nothing for the wing
        self.assertEqual(at.closable, Decimal("480.00"))
        services.place(self.account, services.closing_ticket(holding))
        self.quote(gone, size=10)
        holding.refresh_from_db()
        self.assertIsNotNone(holding.closed_at)
        self.assertEqual(standing(holding, live("MK30")).realised, Decimal("480.00"))
        with self.assertRaisesRegex(Refused, "price on both sides"):
            self.place([(far, -1)])

    def test_cash_and_marks_are_equity_after_every_fill(self) -> None:
        holding = self.opened(2)
        at = standings(self.account, live("MK30"))
        mid = standing(holding, live("MK30")).mid
        self.assertEqual(at.equity, Decimal(50_000) + mid - at.costs)
        self.assertEqual(at.cash, Decimal(50_000) + Decimal("580.00") - Decimal("3.20"))

    def test_a_stop_held_on_the_server_closes_the_position_and_its_target_is_gone(self) -> None:
        holding = self.opened(2)
        services.protect(
            self.mara,
            holding.pk,
            {"target": {"value": "50", "unit": "percent"}, "stop": {"value": "200", "unit": "money"}},
        )
        near, far = sorted(code for code, _, _ in holding.fills.first().legs)
        self.quote({near: ("11.70", "12.10"), far: ("4.00", "4.20")}, size=10)
        self.assertIsNone(Holding.objects.get(pk=holding.pk).closed_at)
        self.quote({near: ("12.00", "12.20"), far: ("4.00", "4.20")}, size=10)
        holding.refresh_from_db()
        self.assertEqual(holding.protected_by, "stop")
        order = holding.orders.get(by="protection")
        self.quote({near: ("12.00", "12.20"), far: ("4.00", "4.20")}, size=10)
        self.assertEqual(self.state(order), "filled")
        self.desk.round()
        self.assertEqual(holding.orders.filter(by="protection").count(), 1)
        self.assertTrue(JournalEntry.objects.filter(kind="protection", text__contains="stop reached").exists())

    def test_a_target_is_judged_on_what_closing_gives(self) -> None:
        holding = self.opened(2)
        services.protect(self.mara, holding.pk, {"target": {"value": "100", "unit": "money"}})
        near, far = sorted(code for code, _, _ in holding.fills.first().legs)
        self.quote({near: ("8.60", "9.20"), far: ("4.20", "4.40")}, size=10)
        self.assertEqual(Holding.objects.get(pk=holding.pk).protected_by, "", "closing gives 0.80 a lot, 80")
        self.quote({near: ("8.60", "9.00"), far: ("4.20", "4.40")}, size=10)
        self.assertEqual(Holding.objects.get(pk=holding.pk).protected_by, "target")

    def test_protection_that_is_reached_already_or_makes_no_sense_is_refused(self) -> None:
        holding = self.opened(2)
        for raw, words in (
            ({"stop": {"value": "0", "unit": "money"}}, "more than 0"),
            ({"stop": {"value": "x", "unit": "money"}}, "needs a number"),
            ({"target": {"value": "5", "unit": "lots"}}, "money or percent"),
            ({"stop": {"value": "1", "unit": "money"}}, "reached already"),
        ):
            with self.subTest(words), self.assertRaisesRegex(Refused, words):
                services.protect(self.mara, holding.pk, raw)

    def test_day_orders_end_with_the_session_and_others_stay(self) -> None:
        legs = self.priced()
        day = self.place(legs, limit="-20.00")
        stays = self.place(legs, limit="-20.00", time_in_force="gtc")
        self.close_session()
        self.assertEqual((self.state(day), self.state(stays)), ("expired", "working"))
        with self.assertRaisesRegex(Refused, "is over"):
            services.place(self.account, Ticket(legs, 1, "market"))

    def test_expired_contracts_settle_in_cash_at_the_official_value(self) -> None:
        self.go("09:30")
        code = self.contract("call", -60, days=1)
        far = self.contract("call", 20, days=1)
        self.assertTrue(code.startswith("MK30/2026-11-20/"))
        order = self.place([(code, 1), (far, -1)])
        self.pass_seconds(5)
        self.assertEqual(self.state(order), "filled")
        self.close_session()
        self.assertIsNone(Holding.objects.get(pk=order.holding_id).closed_at)
        from venue import clock

        clock.next_session(self.mara, "MK30")
        self.close_session()
        holding = Holding.objects.get(pk=order.holding_id)
        self.assertIsNotNone(holding.closed_at)
        official = int(live("MK30").chain.settlement)
        strike = int(code.split("/")[3])
        settled = DeskFill.objects.get(kind="settlement", legs__0__0=code)
        self.assertEqual(settled.legs[0], [code, -1, max(0, official - strike * 100) * 400])
        self.desk.round()
        self.assertEqual(DeskFill.objects.filter(kind="settlement").count(), 2, "each once")

    def test_a_ticket_says_what_its_capital_is_for(self) -> None:
        self.go("10:00")
        near, far = self.contract("call", 40), self.contract("call", 70)

        def seen(*legs: tuple[str, int]) -> dict:
            body = {"legs": [{"contract": c, "ratio": r} for c, r in legs], "lots": 1, "type": "market"}
            return self.send("post", f"/accounts/{self.account.pk}/ticket", body)[1]

        spread, lone = seen((near, -1), (far, 1)), seen((near, -1))
        self.assertIn("spreads, the most they can lose at expiration", " ".join(spread["sentences"]))
        self.assertIn("15 % of the underlying", " ".join(lone["sentences"]))
        # width of 30 points less the credit at mid, half the spread and commission on top
        self.assertLess(spread["capital"], 30 * 50)
        self.assertGreater(lone["capital"], 0.10 * 3_000 * 50)


class RefusalTest(DeskTestCase):
    """Bad input gets a clear reason, is recorded, and changes nothing else."""

    def refused(self, words: str, ticket: Ticket, account=None) -> None:
        before = DeskOrder.objects.exclude(state="refused").count()
        with self.assertRaisesRegex(Refused, words):
            services.place(account or self.account, ticket)
        self.assertEqual(DeskOrder.objects.exclude(state="refused").count(), before)
        self.assertRegex(JournalEntry.objects.filter(kind="refused").first().text, words)

    def test_every_bad_order_is_refused_with_its_reason(self) -> None:
        near, far = self.contract("call", 40), self.contract("call", 70)
        legs = [(near, -1), (far, 1)]
        self.refused("between 1 and 10000, not 0", Ticket(legs, 0))
        self.refused("whole number, not 1.5", Ticket(legs, "1.5"))
        self.refused("whole number, not many", Ticket(legs, "many"))
        self.refused("off the tick of 0.05", Ticket(legs, 1, "limit", "-5.83"))
        self.refused("not a price", Ticket(legs, 1, "limit", "cheap"))
        self.refused("needs a price", Ticket(legs, 1, "limit"))
        self.refused("no order type", Ticket(legs, 1, "hope"))
        self.refused("day or gtc", Ticket(legs, 1, "market", None, "forever"))
        self.refused("not listed", Ticket([("2026-11-18/call/3100", 1)], 1, "market"))
        self.refused("not a contract", Ticket([("=cmd()", 1)], 1, "market"))
        self.refused("at least one leg", Ticket([], 1, "market"))
        self.refused("no such open position", Ticket(legs, 1, "market", holding=987))
        self.refused("too far beyond", Ticket(legs, 1, "limit", "90.00"))
        self.refused("limit of 20", Ticket(legs, 21, "market"))
        self.refused("of capital", Ticket([(near, -1)], 20, "market"))
        self.refused("target needs a number", Ticket(legs, 1, "market", protection={"target": {"value": "a"}}))

    def test_refused_orders_are_shown_with_their_reason(self) -> None:
        self.refused("not 0", Ticket([(self.contract("call", 40), -1)], 0))
        row = queries.desk(self.mara, self.account)["orders"][0]
        self.assertEqual((row["state"], row["lots"]), ("refused", 0))
        self.assertIn("whole number", row["reason"])

    def test_an_expired_contract_is_no_longer_dealt(self) -> None:
        self.go("09:30")
        self.close_session()
        from venue import clock

        clock.next_session(self.mara, "MK30")
        self.go("17:26", decide=False)
        code = next(c.code for c in live("MK30").chain.contracts if c.expiration == live("MK30").session)
        self.refused("no longer traded", Ticket([(code, 1)], 1, "limit", "1.00"))

    def test_old_quotes_stop_entries_and_not_closing(self) -> None:
        self.go("09:30")
        legs = [(self.contract("call", 40), -1), (self.contract("call", 70), 1)]
        order = self.place(legs)
        self.pass_seconds(5)
        self.assertEqual(self.state(order), "filled")
        Venue.objects.update(running=True, market_anchor=self.venue().reached + 60)
        self.refused("old; nothing is opened", Ticket(legs, 1, "market"))
        closing = services.place(self.account, services.closing_ticket(order.holding))
        self.assertEqual(closing.state, "working")

    def test_limits_of_the_day_stop_openings(self) -> None:
        legs = [(self.contract("call", 40), -1), (self.contract("call", 70), 1)]
        services.set_limits(self.mara, self.account.pk, {"orders_a_minute": 2})
        self.place(legs, limit="-50.00")
        self.place(legs, limit="-50.00")
        self.refused("2 orders in the last minute", Ticket(legs, 1, "limit", "-50.00"))
        services.set_limits(self.mara, self.account.pk, {"orders_a_minute": None, "day_loss": 100})
        self.account.refresh_from_db()
        self.account.opening_equity = Decimal(50_200)
        self.account.save()
        self.refused("nothing is opened", Ticket(legs, 1, "limit", "-50.00"))
        with self.assertRaisesRegex(Refused, "no limit called"):
            services.set_limits(self.mara, self.account.pk, {"speed": 3})

"""A person trades today's prices by hand, lets a strategy do it, uses the practice broker, and stops it all."""

from __future__ import annotations

import re
import shutil
import signal
import time
from decimal import Decimal
from typing import Any

from django.conf import settings
from playwright.sync_api import expect

from browser_tests.stage import PASSWORD, BrowserTestCase
from config.tests.demo import document
from desk import services
from desk.models import Account, DeskOrder, Holding
from market.calendars import calendar_of
from market.models import LiveChain, Venue
from strategies import services as strategies
from strell_core.orders.order import sides
from venue.clock import session_of, venue_of
from venue.live import live


class DeskStory(BrowserTestCase):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.user.is_staff = True
        cls.user.save()
        shutil.rmtree(settings.FIX_STATE, ignore_errors=True)
        cls.start_market("exchange", "desk", "broker", "gateway")
        end = time.monotonic() + 60
        while not LiveChain.objects.exists() and time.monotonic() < end:
            time.sleep(0.2)

    def setUp(self) -> None:
        super().setUp()
        venue = venue_of("MK30")
        calendar = calendar_of(venue.underlying.calendar)
        if venue.sealed or session_of(venue).close - venue.reached < 4 * 3600:
            # a fresh session, with all day ahead
            following = calendar.between(venue.session, venue.session.replace(month=12, day=23))[1]
            Venue.objects.filter(pk=venue.pk).update(
                session=following, generation=venue.generation + 1, sealed=False, jump_to=None,
                reached=calendar.session(following).open,
            )  # fmt: skip
        Venue.objects.update(
            running=True, rate=1.0, quiet=False, market_anchor=venue_of("MK30").reached, wall_anchor=time.time()
        )

    def later(self, minutes: int) -> str:
        """An exchange-local time so many minutes from now."""
        venue = venue_of("MK30")
        return calendar_of(venue.underlying.calendar).local(venue.reached + 60 * minutes).strftime("%H:%M")

    def price(self, name: str):
        return self.page.get_by_role("region", name="Chain").get_by_role("button", name=re.compile(f"^{name}"))

    def ticket(self):
        return self.page.get_by_role("region", name="Ticket")

    def pick_spread(self) -> None:
        """Sell a call near the money, buy one further out, from the chain."""
        chain = self.page.get_by_role("region", name="Chain")
        expect(chain.get_by_role("button").nth(20)).to_be_visible()
        rows = chain.get_by_role("row")
        rows.nth(17).get_by_role("button").nth(0).click()
        rows.nth(20).get_by_role("button").nth(1).click()
        expect(self.ticket()).to_contain_text("One order, 2 legs")

    def state_of(self, order: int, state: str) -> None:
        expect(self.page.locator(f"[data-order='{order}']")).to_have_text(state)

    def test_an_order_whose_answer_is_lost_goes_out_once(self) -> None:
        account = services.open_account(self.user, "Paper A", "paper", "MK30", Decimal(50_000))
        self.sign_in(f"/desk?account={account.pk}")
        self.pick_spread()
        ticket = self.ticket()
        place = ticket.get_by_role("button", name="Place on paper")
        expect(place).to_be_enabled()
        orders = re.compile(r"/api/accounts/\d+/orders$")

        def lost(route: Any) -> None:
            route.fetch()
            route.abort()

        self.page.route(orders, lost)
        place.click()
        expect(ticket.get_by_role("alert").first).to_contain_text("The answer was lost")
        self.assertEqual(DeskOrder.objects.filter(account=account).count(), 1)
        self.page.unroute(orders)
        place.click()
        self.told("Order")
        expect(ticket).to_have_count(0)
        self.assertEqual(DeskOrder.objects.filter(account=account).count(), 1)

    def test_by_hand_on_paper(self) -> None:
        self.sign_in("/desk")
        expect(self.page.get_by_text("No account yet.")).to_be_visible()
        form = self.page.get_by_role("form", name="New account")
        form.get_by_label("Name").fill("Paper A")
        form.get_by_label("Cash, EUR").fill("12")
        form.get_by_role("button", name="Open account").click()
        expect(form.get_by_role("alert")).to_contain_text("between 1 000")
        form.get_by_label("Cash, EUR").fill("50 000")
        form.get_by_role("button", name="Open account").click()
        band = self.page.get_by_role("status", name="Account")
        expect(band).to_contain_text("PAPER")
        expect(band).to_contain_text("not real money")

        # one ticket with both legs, worked at the own side
        self.pick_spread()
        ticket = self.ticket()
        expect(ticket.locator("[data-readback]")).to_contain_text("At worst")
        expect(ticket.locator("[data-readback]")).to_contain_text("fills when the other side comes to it, not before")
        for lots, words in (("0", "between 1 and 10000"), ("1.5", "whole number")):
            ticket.get_by_label("lots").fill(lots)
            expect(ticket.get_by_role("alert").first).to_contain_text(words)
            expect(ticket.get_by_role("button", name="Place on paper")).to_be_disabled()
        ticket.get_by_label("lots").fill("2")
        limit = ticket.get_by_label("Limit a lot")
        limit.fill("3.33")
        expect(ticket.get_by_role("alert").first).to_contain_text("off the tick")
        ticket.get_by_label("Credit or debit").select_option("credit")
        limit.fill("25.00")
        expect(ticket.get_by_role("alert")).to_have_count(0)
        self.page.keyboard.press("Control+Enter")
        order = self.last_order(1)
        self.state_of(order.pk, "working")

        # it waits, gets another price, fills
        row = self.page.get_by_role("table", name="Orders").get_by_role("row").nth(1)
        row.get_by_role("button", name="change").click()
        row.get_by_label("New price, credit").fill("0.05")
        row.get_by_role("button", name="set").click()
        self.told("too far beyond the other side")
        terms = services.terms_of(order)
        found = sides(terms.legs, live("MK30").quotes({leg.contract for leg in terms.legs}))
        row.get_by_label("New price, credit").fill(
            f"{-(found.other + max(2, (found.other - found.own) // 3)) * Decimal('0.05'):.2f}"
        )
        row.get_by_role("button", name="set").click()
        self.state_of(order.pk, "filled")
        positions = self.page.get_by_role("table", name="Positions")
        expect(positions).to_contain_text("by hand")

        # protection is held on the server: the browser may go
        positions.get_by_role("button", name="by hand").click()
        guard = self.page.get_by_role("form", name="Protection")
        guard.get_by_label("Target, a profit of").fill("100000")
        guard.get_by_label("Stop, a loss of").fill("90000")
        guard.get_by_role("button", name="Protect").click()
        self.told("one cancels the other")
        expect(positions).to_contain_text("one cancels the other")
        self.assertEqual(self.serious_faults(), [])
        self.page.goto("about:blank")
        holding = Holding.objects.get(account__owner=self.user)
        # the stop moves under the market while nobody looks
        holding.protection = {
            "target": {"value": "0.01", "unit": "percent"},
            "stop": {"value": "0.01", "unit": "money"},
        }
        holding.save()
        end = time.monotonic() + 30
        while Holding.objects.get(pk=holding.pk).closed_at is None and time.monotonic() < end:
            time.sleep(0.2)
        self.assertIsNotNone(Holding.objects.get(pk=holding.pk).closed_at)
        self.open("/journal")
        expect(self.page.get_by_role("table", name="Journal")).to_contain_text("reached")
        self.page.get_by_label("Who").select_option("person")
        expect(self.page.get_by_role("table", name="Journal")).not_to_contain_text("reached,")
        self.assertEqual(self.serious_faults(), [])

    def last_order(self, count: int) -> DeskOrder:
        end = time.monotonic() + 10
        placed = DeskOrder.objects.filter(account__owner=self.user).exclude(state="refused").order_by("-id")
        while placed.count() < count and time.monotonic() < end:
            time.sleep(0.05)
        self.assertGreaterEqual(placed.count(), count)
        return placed.first()

    def deployed(self, kind: str) -> Account:
        raw = {**document(), "name": "Soon"}
        raw["entries"][0]["when"][0].update(weekdays=["mon", "tue", "wed", "thu", "fri"], time=self.later(10))
        strategy = strategies.create(self.user, raw)
        self.ran(strategy)
        account = services.open_account(self.user, "Auto", kind, "MK30", Decimal(200_000))
        self.sign_in(f"/strategies/{strategy.pk}/paper")
        promote = self.page.get_by_role("form", name="Promote")
        expect(promote).to_contain_text("is of these very rules")
        promote.get_by_role("button", name="Promote").click()
        expect(promote.get_by_role("alert")).to_contain_text("looked at the run")
        promote.get_by_label("I looked at the run and its trades").check()
        promote.get_by_role("button", name="Promote").click()
        self.told("It is not armed yet")
        self.page.get_by_role("button", name="Arm", exact=True).click()
        return account

    def jump(self, minutes: int) -> None:
        self.page.get_by_label("Time to jump to").fill(self.later(minutes))
        self.page.get_by_role("button", name="Jump").click()

    def test_by_its_own_rules_on_paper_and_compared_with_a_backtest(self) -> None:
        account = self.deployed("paper")
        self.told("is armed in Auto")
        card = self.page.get_by_role("article", name="Deployment in Auto")
        expect(card).to_contain_text("armed")
        self.page.get_by_role("navigation", name="Pages").get_by_role("link", name="Desk").click()
        self.jump(25)
        orders = self.page.get_by_role("table", name="Orders")
        expect(orders).to_contain_text("Soon, sentence 1")
        self.page.get_by_label("Speed of the clock").select_option("10")
        expect(orders).to_contain_text("filled")
        expect(self.page.get_by_role("table", name="Positions")).to_contain_text("its rules leave it")
        self.page.get_by_role("region", name="Deployments").get_by_role("link", name="Soon").click()
        card.get_by_role("button", name=re.compile(r"^\w{3} \d+ \w{3}$")).click()
        beside = self.page.get_by_role("region", name="Beside a backtest")
        expect(beside).to_contain_text("entered trade 1")
        self.assertEqual(self.serious_faults(), [])

        # the desk is killed and comes back: everything is still there
        self.stop("desk", signal.SIGKILL)
        self.start_market("desk")
        # Halt by key stops it all
        self.page.keyboard.press("Alt+h")
        window = self.page.get_by_role("dialog", name="Halt all accounts")
        window.get_by_label("Close all positions").check()
        window.get_by_role("button", name="Halt now").click()
        self.told("1 deployment disarmed")
        card.get_by_role("button", name="Arm", exact=True).click()
        self.told("halted until the next session")
        self.open(f"/desk?account={account.pk}")
        expect(self.page.get_by_text("Halted until the next session")).to_be_visible()
        expect(self.page.get_by_text("No position.")).to_be_visible()

    def test_at_the_practice_broker_over_fix(self) -> None:
        account = self.deployed("practice")
        window = self.page.get_by_role("dialog", name="Arm at the broker")
        window.get_by_label("Password").fill("not this one")
        window.get_by_role("button", name="Arm").click()
        self.told("The password is wrong")
        window.get_by_label("Password").fill(PASSWORD)
        window.get_by_role("button", name="Arm").click()
        self.told("is armed in Auto")
        self.open(f"/desk?account={account.pk}")
        expect(self.page.get_by_role("status", name="Account")).to_contain_text("PRACTICE BROKER")
        expect(self.page.get_by_text("orders wait until it is up")).to_have_count(0)
        self.jump(15)
        orders = self.page.get_by_role("table", name="Orders")
        expect(orders).to_contain_text("Soon, sentence 1")
        self.page.get_by_label("Speed of the clock").select_option("10")
        expect(orders).to_contain_text("filled")
        # by hand, with a partial fill on demand
        self.page.get_by_label("Play a fault").select_option("partial fill")
        self.pick_spread()
        self.ticket().get_by_label("Order type").select_option("market")
        self.ticket().get_by_label("lots").fill("3")
        self.ticket().get_by_role("button", name="Send to the practice broker").click()
        order = self.last_order(2)
        self.state_of(order.pk, "filled")
        self.assertGreaterEqual(order.fills.count(), 2)
        self.assertEqual(self.serious_faults(), [])

    def test_tokens_are_shown_once_and_revoked(self) -> None:
        self.sign_in("/access")
        form = self.page.get_by_role("form", name="New token")
        form.get_by_role("button", name="Make a token").click()
        expect(form.get_by_role("alert")).to_contain_text("needs a name")
        form.get_by_label("For what").fill("evening script")
        form.get_by_role("button", name="Make a token").click()
        expect(self.page.get_by_text("Copy it now")).to_contain_text("strell_")
        self.assertEqual(self.serious_faults(), [])
        self.page.get_by_role("table", name="Tokens").get_by_role("button", name="Revoke").click()
        expect(self.page.get_by_text("No token.")).to_be_visible()

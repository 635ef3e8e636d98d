"""A person backtests, reads a trade, lives through it again, and finds everything after a restart."""

from __future__ import annotations

import contextlib
import re
import signal
import time

from django.db import connection, transaction
from playwright.sync_api import APIResponse, Error, Route, expect

from browser_tests.stage import LEASE_SECONDS, BrowserTestCase
from market.timelines import timeline
from replay import services as replays
from runs.models import Run


class BacktestStory(BrowserTestCase):
    def test_a_first_answer_that_is_overtaken_by_its_push_is_asked_for_again(self) -> None:
        self.sign_in(f"/strategies/{self.strategy.pk}/backtest")
        self.stop("worker", signal.SIGTERM)
        held: list[tuple[Route, APIResponse]] = []

        def hold(route: Route) -> None:
            if held:
                route.continue_()
            else:
                held.append((route, route.fetch()))

        self.page.route(re.compile(r"/api/runs/\d+\?without=decisions$"), hold)
        self.page.get_by_role("button", name="Run backtest").click()
        expect(self.page.get_by_text("waiting for a worker")).to_be_visible()
        until = time.monotonic() + 60
        while not held and time.monotonic() < until:
            self.page.wait_for_timeout(50)
        self.assertEqual(held[0][1].json()["status"], "queued")
        self.start_worker()
        expect(self.page.get_by_role("link", name=re.compile("^Backtest MAR"))).to_be_visible()
        route, answer = held[0]
        with contextlib.suppress(Error):  # the page no longer waits for it
            route.fulfill(response=answer)
        expect(self.page.get_by_role("region", name="Figures of the run")).to_contain_text("Final equity")

    def test_from_click_to_trade_to_replay_and_back_after_a_restart(self) -> None:
        self.sign_in(f"/strategies/{self.strategy.pk}/backtest")
        self.page.get_by_role("button", name="Run backtest").click()
        figures = self.page.get_by_role("region", name="Figures of the run")
        expect(figures).to_contain_text("Final equity")
        expect(self.page.get_by_role("img", name="Equity and drawdown with MK30")).to_be_visible()
        expect(self.page.get_by_text("65 single-snapshot sessions (decided on them), 25 intraday")).to_be_visible()
        expect(self.sentence(1)).to_contain_text(re.compile(r"\d+ of \d+"))
        table = self.page.get_by_role("table", name="Trades")
        rows = table.get_by_role("row")
        rows.nth(1).focus()
        self.page.keyboard.press("ArrowDown")
        self.page.keyboard.press("Enter")
        trade = self.page.get_by_role("region", name=re.compile(r"^Trade \d+"))
        expect(trade).to_contain_text("with 9 days to expiration")
        expect(trade.get_by_role("region", name="Legs at entry and exit")).to_contain_text("call")
        expect(self.sentence(1)).to_have_class(re.compile("bg-mark"))
        closing = int(re.search(r"\(sentence (\d+)\)", trade.inner_text()).group(1))
        expect(self.sentence(closing)).to_have_class(re.compile("bg-mark"))
        trade.get_by_role("button", name=re.compile("Leg ledger")).click()
        expect(trade.get_by_role("region", name="Leg ledger by time").get_by_role("row").nth(1)).to_be_visible()
        slide = trade.get_by_role("slider", name="Date of the payoff")
        slide.focus()
        self.page.keyboard.press("End")
        expect(trade.get_by_text("— on the date below")).to_be_visible()
        trade.get_by_role("button", name="Replay").click()
        expect(self.page.get_by_text("nothing here reaches a market")).to_be_visible()
        note = self.page.get_by_label("Note on the session")
        note.fill("Held one day too long.")
        expect(self.page.get_by_role("region", name="Note").get_by_text("saved")).to_be_visible()
        self.page.keyboard.press("Escape")
        address = self.page.url

        self.stop("web", signal.SIGKILL)
        self.stop("worker", signal.SIGKILL)
        expect(self.page.get_by_text("Connection lost; trying again.")).to_be_visible()
        self.start_web()
        self.start_worker()
        expect(self.page.get_by_text("Connection lost; trying again.")).to_be_hidden()
        self.page.goto(address)
        expect(self.page.get_by_label("Note on the session")).to_have_value("Held one day too long.")
        self.page.get_by_role("link", name="all sessions").click()
        expect(self.page.get_by_text("Held one day too long.")).to_be_visible()

    def test_periods_that_make_no_sense_are_refused_where_they_were_typed(self) -> None:
        self.sign_in(f"/strategies/{self.strategy.pk}/backtest")
        form = self.page.get_by_role("form", name="Next run")
        form.get_by_label("from").fill("2026-11-01")
        form.get_by_label("to", exact=True).fill("2026-10-01")
        form.get_by_role("button", name="Run backtest").click()
        expect(form.get_by_role("alert")).to_have_text("The end 1 Oct 2026 lies before the start 1 Nov 2026.")
        expect(form.get_by_label("to", exact=True)).to_have_attribute("aria-invalid", "true")
        expect(form.get_by_label("from")).to_have_value("1 Nov 2026")
        form.get_by_label("from").fill("2030-01-01")
        form.get_by_label("to", exact=True).fill("2030-02-01")
        form.get_by_role("button", name="Run backtest").click()
        expect(form.get_by_role("alert")).to_contain_text(
            "There is no data between 1 Jan 2030 and 1 Feb 2030: recorded is"
        )
        self.assertEqual(Run.objects.filter(strategy=self.strategy).count(), 0)

    def test_a_deleted_run_comes_back_and_another_strategys_is_never_shown(self) -> None:
        self.ran(self.strategy)
        self.sign_in(f"/strategies/{self.strategy.pk}/backtest")
        figures = self.page.get_by_role("region", name="Figures of the run")
        expect(figures).to_be_visible()
        self.page.get_by_role("button", name="Delete run 1").click()
        expect(self.page.get_by_text("No run yet.")).to_be_visible()
        self.page.get_by_role("button", name="Undo").click()
        expect(figures).to_be_visible()
        self.open(f"/strategies/{self.strategy.pk}/backtest?run=77")
        expect(self.page.get_by_text("This strategy has no run 77.")).to_be_visible()
        expect(figures).to_have_count(0)
        self.page.get_by_role("button", name="Show its latest").click()
        expect(figures).to_be_visible()
        self.open(f"/strategies/{self.strategy.pk}/backtest?sweep=88")
        expect(self.page.get_by_text("This strategy has no sweep 88.")).to_be_visible()
        self.page.get_by_role("button", name="Show its latest").click()
        expect(figures).to_be_visible()
        self.open(f"/strategies/{self.strategy.pk}/nowhere")
        expect(self.page.get_by_text("There is no stage called")).to_be_visible()

    def test_a_change_says_which_runs_it_outdates(self) -> None:
        self.ran(self.strategy)
        self.sign_in(f"/strategies/{self.strategy.pk}/backtest")
        self.sentence(6).get_by_role("button", name="50 %, change").click()
        self.page.get_by_role("dialog").get_by_label("Share of the credit").last.fill("60")
        self.page.keyboard.press("Enter")
        self.told("Revision 2 is kept. It outdates 1 run.")
        expect(self.page.get_by_role("link", name="1 run outdated")).to_be_visible()
        expect(self.page.get_by_text("of revision 1")).to_be_visible()

    def test_a_queued_run_shows_that_it_waits_and_can_be_cancelled(self) -> None:
        self.stop("worker", signal.SIGKILL)
        try:
            self.sign_in(f"/strategies/{self.strategy.pk}/backtest")
            self.page.get_by_role("button", name="Run backtest").click()
            under_way = self.page.get_by_role("region", name="Run 1 under way")
            expect(under_way).to_contain_text("waiting for a worker")
            expect(under_way.get_by_role("progressbar")).to_be_visible()
            under_way.get_by_role("button", name="Cancel").click()
            expect(self.page.get_by_text("This run is cancelled.")).to_be_visible()
        finally:
            self.start_worker()
        self.page.get_by_role("button", name="Go on").click()
        # the worker starts anew first
        expect(self.page.get_by_role("region", name="Figures of the run")).to_be_visible()

    def test_a_worker_killed_in_the_middle_of_a_run_loses_nothing(self) -> None:
        history = timeline("MK30")
        self.sign_in(f"/strategies/{self.strategy.pk}/backtest")
        with transaction.atomic():
            # the rows that a finished run writes are held, so the worker gets no further than "running"
            with connection.cursor() as cursor:
                cursor.execute("LOCK TABLE runs_runtrade IN EXCLUSIVE MODE")
            self.page.get_by_role("button", name="Run backtest").click()
            run = self.wait_for(Run.Status.RUNNING)
            time.sleep(1)
            self.stop("worker", signal.SIGKILL)
            self.kill_waiting_sessions()
        run.refresh_from_db()
        self.assertEqual((run.status, run.trades.count()), (Run.Status.RUNNING, 0))
        time.sleep(LEASE_SECONDS)
        self.start_worker()
        expect(self.page.get_by_role("region", name="Figures of the run")).to_be_visible()
        run.refresh_from_db()
        self.assertEqual((run.status, run.attempts), (Run.Status.DONE, 2))
        self.assertEqual(run.curve["dates"][-1], history.dates[-1].isoformat())

    def wait_for(self, status: str) -> Run:
        for _ in range(200):
            run = Run.objects.filter(strategy=self.strategy, status=status).first()
            if run is not None:
                return run
            time.sleep(0.05)
        raise AssertionError(f"no run became {status}")

    def kill_waiting_sessions(self) -> None:
        """The database notices a killed client only when it next speaks to it: end its session now."""
        with connection.cursor() as cursor:
            cursor.execute(
                "SELECT pg_terminate_backend(pid) FROM pg_stat_activity"
                " WHERE datname = current_database() AND wait_event_type = 'Lock' AND pid <> pg_backend_pid()"
            )


class ReplayStory(BrowserTestCase):
    def setUp(self) -> None:
        super().setUp()
        history = timeline("MK30")
        run = self.ran(self.strategy)
        rows = [t for t in run.trades.all() if not history.is_single[history.at_or_before(t.row["opened_at"])]]
        self.trade = rows[0]
        self.session = replays.from_trade(self.user, run.pk, self.trade.number)
        self.sign_in(f"/replays/{self.session.pk}")
        expect(self.clock()).to_have_text(self.trade.row["opened_shown"])

    def clock(self):
        return self.page.locator("[data-clock]")

    def test_keys_move_the_clock_and_everything_follows(self) -> None:
        start = self.clock().inner_text()
        chain = self.page.get_by_role("region", name="Chain").inner_text()
        self.page.keyboard.press(".")
        expect(self.clock()).not_to_have_text(start)
        expect(self.page.get_by_role("region", name="Chain")).not_to_have_text(chain)
        self.page.keyboard.press(",")
        expect(self.clock()).to_have_text(start)
        day = start[:-6]
        self.page.keyboard.press("Shift+.")
        expect(self.clock()).to_contain_text("09:05")
        expect(self.clock()).not_to_contain_text(day)
        self.page.keyboard.press("Shift+,")
        expect(self.clock()).to_have_text(f"{day} 09:05")
        self.page.keyboard.press("n")
        expect(self.clock()).to_have_text(start)
        self.page.keyboard.press("n")
        expect(self.page.get_by_role("region", name="Exits now")).to_contain_text(
            f"Sentence {self.trade.row['sentence']} would leave now"
        )
        self.page.keyboard.press("p")
        expect(self.clock()).to_have_text(start)

    def test_play_and_pause(self) -> None:
        start = self.clock().inner_text()
        self.page.get_by_label("Speed").select_option("10")
        self.page.locator("body").click(position={"x": 640, "y": 90})
        self.page.keyboard.press("Space")
        expect(self.page.get_by_role("button", name=re.compile("Pause"))).to_be_visible()
        expect(self.clock()).not_to_have_text(start)
        self.page.keyboard.press("Space")
        expect(self.page.get_by_role("button", name=re.compile("Play"))).to_be_visible()

    def test_a_date_typed_and_one_outside(self) -> None:
        self.page.get_by_label("go to").fill("2026-11-04T12:00")
        self.page.get_by_role("button", name="Go", exact=True).click()
        expect(self.clock()).to_have_text("Wed 4 Nov 2026 12:00")
        self.page.get_by_label("go to").fill("2033-11-04T12:00")
        self.page.get_by_role("button", name="Go", exact=True).click()
        self.told("There is no data at 4 Nov 2033 12:00")
        expect(self.clock()).to_have_text("Wed 4 Nov 2026 12:00")

    def test_the_time_bar_is_pulled(self) -> None:
        start = self.clock().inner_text()
        box = self.page.get_by_role("slider", name="Time").bounding_box()
        self.page.mouse.click(box["x"] + box["width"] * 0.6, box["y"] + 30)
        expect(self.clock()).not_to_have_text(start)

    def test_legs_are_traded_in_the_chain_and_taken_back(self) -> None:
        legs = self.page.get_by_role("region", name="Legs")
        expect(legs.get_by_role("row")).to_have_count(3)
        buy = self.page.get_by_role("button", name=re.compile(r"^Buy 1 .* put at")).first
        named = re.match(r"Buy 1 (.*) at", buy.get_attribute("aria-label")).group(1)
        buy.click()
        self.told(f"Bought 1 {named}.")
        expect(legs.get_by_role("row")).to_have_count(4)
        self.page.keyboard.press("Control+z")
        expect(legs.get_by_role("row")).to_have_count(3)
        legs.get_by_role("button", name=re.compile("^Close .* call")).click()
        expect(legs).to_contain_text("closed")
        legs.get_by_role("button", name="Close all").click()
        expect(self.page.get_by_text("No position.")).to_be_visible()
        self.page.reload()
        expect(self.page.get_by_text("No position.")).to_be_visible()

    def test_arrow_keys_walk_the_chain(self) -> None:
        cell = self.page.locator('[data-cell="2,1"]')
        cell.focus()
        self.page.keyboard.press("ArrowDown")
        self.page.keyboard.press("ArrowRight")
        expect(self.page.locator('[data-cell="3,2"]')).to_be_focused()


class AccessibilityStory(BrowserTestCase):
    def test_no_page_has_a_serious_fault_in_either_theme(self) -> None:
        run = self.ran(self.strategy)
        number = run.trades.order_by("-number").first().number
        session = replays.from_trade(self.user, run.pk, number)
        self.open("/")
        self.assertEqual(self.serious_faults(), [], "sign-in")
        self.sign_in()
        pages = {
            "/": "Work in progress",
            f"/strategies/{self.strategy.pk}/rules": "Sentences, one by one",
            f"/strategies/{self.strategy.pk}/backtest": "Left by",
            f"/strategies/{self.strategy.pk}/backtest?run={run.number}&trade={number}": "At entry",
            f"/strategies/{self.strategy.pk}/replay": "its clock stands at",
            f"/strategies/{self.strategy.pk}/text": "pick: nearest_delta",
            f"/replays/{session.pk}": "What the rules say now",
        }
        for theme in ("light", "dark"):
            self.page.evaluate(f"localStorage.setItem('strell-theme', '{theme}')")
            for path, words in pages.items():
                with self.subTest(f"{theme} {path}"):
                    self.open(path)
                    expect(self.page.get_by_text(words).first).to_be_visible()
                    self.assertEqual(self.serious_faults(), [])

"""A person asks what a run is worth: slices, luck, variants, runs side by side."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from browser_tests.stage import BrowserTestCase
from runs.models import Run
from sweeps.models import Sweep


class ResearchStory(BrowserTestCase):
    def test_a_slice_filters_everything_and_becomes_a_rule(self) -> None:
        run = self.ran(self.strategy)
        rows = list(run.trades.values_list("row", flat=True))
        wednesdays = sum(row["weekday"] == "Wed" for row in rows)
        self.sign_in(f"/strategies/{self.strategy.pk}/backtest")
        self.page.get_by_role("tab", name="Slices").click()
        weekday = self.page.get_by_role("region", name="By Weekday")
        weekday.get_by_role("button", name="Wednesday").press("Enter")
        chosen = self.page.get_by_role("region", name="Chosen trades")
        expect(chosen).to_contain_text(f"{wednesdays} trades")
        expect(self.page.get_by_text(f"{wednesdays} of {len(rows)}; open one to read it")).to_be_visible()
        self.page.get_by_label("Tell apart by a measure").select_option(label="At-the-money IV")
        expect(self.page.get_by_role("region", name="By At-the-money IV")).to_be_visible()
        self.assertEqual(self.serious_faults(), [])
        self.page.reload()
        expect(chosen).to_contain_text(f"{wednesdays} trades")
        self.page.get_by_role("tab", name="Curve and trades").click()
        table = self.page.get_by_role("table", name="Trades")
        expect(table).to_have_attribute("aria-rowcount", str(wednesdays + 1))
        chosen.get_by_role("button", name="Make it a rule").click()
        self.told("Revision 2 is kept. It outdates 1 run.")
        expect(self.sentence(1)).to_contain_text("On Wed at 15:45.")
        expect(chosen).to_have_count(0)
        self.page.get_by_role("button", name="Undo").click()
        expect(self.sentence(1)).to_contain_text("On Mon and Wed at 15:45.")

    def test_figures_lead_to_their_place_and_luck_is_told_in_words(self) -> None:
        run = self.ran(self.strategy)
        self.sign_in(f"/strategies/{self.strategy.pk}/backtest?look=luck")
        tried = self.page.get_by_role("region", name="What was tried")
        expect(tried).to_contain_text(
            "With one variant of this strategy tried, a result this good is expected by chance"
        )
        expect(self.page.get_by_role("region", name="Without the best trades")).to_contain_text(
            "All trades together made"
        )
        self.assertEqual(self.serious_faults(), [])
        self.page.get_by_role("tab", name="Months and causes").click()
        expect(self.page.get_by_role("region", name="Months")).to_contain_text("2026")
        expect(self.page.get_by_role("img", name="Sharpe ratio of 63 sessions")).to_be_visible()
        self.assertEqual(self.serious_faults(), [])
        figures = self.page.get_by_role("region", name="Figures of the run")
        worst = min(run.trades.values_list("row", flat=True), key=lambda row: row["pnl"])
        figures.get_by_role("button", name=re.compile(f"^−{abs(round(worst['pnl'])):,}$".replace(",", "\\s"))).click()
        expect(self.page.get_by_role("heading", name=f"Trade {worst['number']}")).to_be_visible()
        self.page.keyboard.press("Escape")
        figures.get_by_role("button", name=re.compile("sessions?$")).click()
        expect(self.page.get_by_role("img", name="Equity and drawdown with MK30")).to_be_visible()

    def test_a_sweep_from_its_dials_to_the_sheet_and_to_a_comparison(self) -> None:
        self.ran(self.strategy)
        self.sign_in(f"/strategies/{self.strategy.pk}/backtest")
        self.page.get_by_role("button", name="Sweep…").click()
        form = self.page.get_by_role("form", name="Next sweep")
        first = form.get_by_label("Value to vary", exact=True)
        expect(first).to_be_visible()
        first.select_option(label="3 · Delta, now 0.20")
        form.get_by_label("Vary together with Delta").select_option(label="4 · Delta, now 0.20")
        expect(form.get_by_label("Values of Delta")).to_have_value("0.1, 0.15, 0.2, 0.25, 0.3")
        form.get_by_label("Another value to vary").select_option(label="6 · Share of the credit, now 50 %")
        form.get_by_label("Values of Share of the credit").fill("40 to soon")
        form.get_by_role("button", name="Start the sweep").click()
        expect(form.get_by_role("alert")).to_contain_text("Share of the credit")
        expect(form.get_by_label("Values of Share of the credit")).to_have_attribute("aria-invalid", "true")
        form.get_by_label("Values of Share of the credit").fill("40 to 60 by 20")
        self.page.keyboard.press("Enter")
        sweep = self.page.get_by_role("region", name="Sweep 1")
        expect(sweep).to_contain_text("10 variants · done")
        expect(sweep.get_by_role("region", name="What choosing the best is worth")).to_contain_text(
            "With 10 variants tried"
        )
        self.assertEqual(self.serious_faults(), [])
        self.assertEqual(Sweep.objects.get().cells.exclude(figures=None).count(), 10)
        sweep.get_by_label("Show").select_option(label="Sharpe")
        sweep.get_by_role("button", name="with its neighbours").click()
        sweep.get_by_role("button", name=re.compile("^Delta 0.30, Share of the credit 60 %")).click()
        cell = sweep.get_by_role("region", name="Chosen variant")
        expect(cell).to_contain_text("Delta 0.30, Share of the credit 60 %")
        self.page.reload()
        cell.get_by_role("button", name="Open as a run").click()
        expect(self.page.get_by_role("region", name="Figures of the run")).to_be_visible()
        expect(self.page.get_by_text("delta 0.30, share of the credit 60 %", exact=True)).to_be_visible()
        self.assertEqual(
            Run.objects.get(number=2).figures["trades_count"],
            Sweep.objects.get().cells.get(at=[4, 1]).figures["trades_count"],
        )

        self.page.go_back()
        cell.get_by_role("button", name="Take into the sheet").click()
        self.told("Revision 2 is kept.")
        expect(self.sentence(3)).to_contain_text("delta 0.30")
        expect(self.sentence(4)).to_contain_text("delta 0.30")
        expect(self.sentence(6)).to_contain_text("At 60 % of the credit.")

    def test_runs_side_by_side(self) -> None:
        one, other = self.ran(self.strategy), self.ran(self.strategy)
        self.sign_in(f"/compare?run={one.pk}")
        expect(self.page.get_by_text("One more run, and there is something to compare.")).to_be_visible()
        picker = self.page.get_by_label("Run to add")
        expect(picker.get_by_role("option")).to_have_count(2)
        picker.select_option(index=1)
        figures = self.page.get_by_role("region", name="Figures side by side")
        expect(figures).to_contain_text("Harbour strangle, run 2")
        expect(self.page.get_by_text("The rules are the same")).to_be_visible()
        expect(self.page.get_by_text("Two runs that are as good as each other differ by as much in")).to_be_visible()
        self.assertEqual(self.serious_faults(), [])
        figures.get_by_role("button", name="make it the baseline").click()
        expect(self.page).to_have_url(re.compile(f"run={other.pk}&run={one.pk}$"))
        figures.get_by_role("button", name="Leave out Harbour strangle, run 1").click()
        expect(self.page.get_by_text("One more run, and there is something to compare.")).to_be_visible()

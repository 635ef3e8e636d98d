"""A person writes a sheet with nothing but keys, and rules that look at what they keep themselves."""

from __future__ import annotations

import datetime as dt

from playwright.sync_api import Route, expect

from browser_tests.stage import BrowserTestCase
from market.models import MarketEvent, Series, SeriesValue, Underlying
from market.refresh import refresh


class KeyboardStory(BrowserTestCase):
    """Nothing but keys, from the empty sheet of a starter to rules of every section."""

    def press(self, *keys: str) -> None:
        for key in keys:
            self.page.keyboard.press(key)

    def focused(self) -> str:
        """What has the focus, by the name that is read out."""
        name: str = self.page.evaluate(
            """() => {
                const at = document.activeElement
                if (at === document.body) return ""
                return at.getAttribute("aria-label") || at.labels?.[0]?.innerText || at.innerText || ""
            }"""
        )
        return name.replace("\n", " ")

    def tab_to(self, name: str, most: int = 12) -> None:
        """Go on with Tab until something of that name has the focus; it must be near."""
        for _ in range(most):
            if name in self.focused():
                return
            self.press("Tab")
        self.fail(f"{name} is more than {most} Tabs away, the focus is on {self.focused()!r}")

    def stands_on(self, name: str) -> None:
        """Wait until the focus is there."""
        self.page.wait_for_function(
            "name => (document.activeElement.getAttribute('aria-label') ?? '').startsWith(name)", arg=name
        )

    def add(self, words: str, sentence: str) -> None:
        """Add a sentence by what it is about; the focus stands on its first value then."""
        self.press("a")
        expect(self.page.get_by_placeholder("Search: delta, stop")).to_be_focused()
        self.page.keyboard.type(words)
        self.press("Enter")
        expect(self.page.get_by_role("dialog")).to_be_hidden()
        expect(self.page.locator("[data-sentence]").filter(has_text=sentence)).to_be_in_viewport()
        self.page.wait_for_function(
            "text => document.activeElement.closest('[data-sentence]')?.innerText.replace(/\\s+/g, ' ').includes(text)",
            arg=sentence,
        )

    def test_a_sheet_is_written_without_a_mouse(self) -> None:
        self.sign_in()
        self.tab_to("New strategy", 20)
        self.press("Enter")
        expect(self.page.get_by_role("dialog").get_by_label("Name")).to_be_focused()
        self.page.keyboard.type("By keys alone")
        expect(self.page.get_by_role("radio", name="Iron condor", exact=True)).to_be_visible()
        self.tab_to("Short put")
        for _ in range(40):
            if self.page.get_by_role("radio", name="Iron condor", exact=True).is_checked():
                break
            self.press("ArrowDown")
        self.tab_to("Write it", 4)
        self.press("Enter")
        expect(self.page.get_by_role("heading", name="By keys alone")).to_be_visible()

        # an order of the sheet, and a limit of another measure than the one it comes with
        self.add("leg by leg", "Limit orders deal what is bought first")
        self.press("Enter")
        expect(self.page.get_by_role("dialog").get_by_role("radio", checked=True)).to_be_focused()
        self.press("ArrowRight")
        expect(self.page.get_by_role("radio", name="one leg after another")).to_be_focused()
        self.press("Space")
        expect(self.page.get_by_role("radio", name="one leg after another")).to_be_checked()
        self.tab_to("Change")
        self.press("Enter")
        expect(self.page.get_by_text("one leg after another, what is bought first")).to_be_visible()
        self.stands_on("one leg after another, what is bought first, change")
        self.add("no entry while", "No entry while losses of the strategy today is at least 1")
        self.press("Enter")
        self.tab_to("Choose something else")
        self.press("Enter")
        self.page.keyboard.type("below its high")
        self.press("Enter")
        self.tab_to("Change")
        self.press("Enter")
        limit = self.page.locator("[data-sentence]").filter(has_text="No entry while")
        expect(limit).to_contain_text("equity below its high in % is at least 1")
        # the sentence reads otherwise now: what had the focus is gone, another value of it has it
        self.page.wait_for_function("() => document.activeElement.closest('[data-sentence]') !== null")
        self.tab_to("1, change", 4)
        self.press("Enter", "Control+a")
        self.page.keyboard.type("7.5")
        self.press("Enter")
        expect(limit).to_contain_text("is at least 7.5")

        # from sentence to sentence, moved and taken out again
        self.press("s")
        self.assertIn("change", self.focused())
        first = self.page.evaluate("() => document.activeElement.closest('[data-sentence]').dataset.sentence")
        self.press("ArrowDown")
        second = self.page.evaluate("() => document.activeElement.closest('[data-sentence]').dataset.sentence")
        self.press("ArrowUp")
        self.assertNotEqual(first, second)
        self.assertEqual(
            first, self.page.evaluate("() => document.activeElement.closest('[data-sentence]').dataset.sentence")
        )
        self.press("Control+z")
        expect(limit).to_contain_text("is at least 1")


class OwnFactsStory(BrowserTestCase):
    """Rules that look at what a person keeps: series, reports, the account's own past."""

    def added(self, section: str, words: str) -> None:
        self.page.get_by_role("button", name=f"Add a sentence to {section}").click()
        self.page.get_by_placeholder("Search: delta, stop").fill(words)
        self.page.keyboard.press("Enter")

    def test_a_series_and_reports_of_ones_own_decide(self) -> None:
        self.sign_in(f"/strategies/{self.strategy.pk}/rules?at=2026-11-05T15:45")
        self.added("Enter", "series of one")
        dialog = self.page.get_by_role("dialog")
        # without one of one's own it says what to do
        expect(dialog.get_by_role("option").first).to_contain_text("load one under Data first")
        self.page.keyboard.press("Escape")
        for name, value in (("BREADTH", 40.0), ("VIEW", 1.5)):
            series = Series.objects.create(owner=self.user, name=name)
            SeriesValue.objects.create(series=series, date=dt.date(2026, 11, 3), value=value)
        index = Underlying.objects.get(symbol="MK30")
        MarketEvent.objects.create(underlying=index, date=dt.date(2026, 11, 9), event="Quarterly report")
        refresh(index)
        self.addCleanup(refresh, index)
        self.addCleanup(MarketEvent.objects.filter(underlying=index).delete)
        # who types faster than the page is told of them gets the first one all the same
        held: list[Route] = []

        def keeps(route: Route) -> None:
            held.append(route)

        self.page.route("**/additions", keeps)
        self.page.reload()
        self.added("Enter", "series of one")
        self.page.wait_for_timeout(300)
        for route in held:
            route.continue_()
        self.page.unroute("**/additions")
        asked = self.page.locator("[data-sentence]").filter(has_text="the series \u201cBREADTH\u201d is")
        expect(asked).to_be_visible()
        asked.get_by_role("button", name="\u201cBREADTH\u201d, change").click()
        editor = self.page.get_by_role("dialog")
        editor.get_by_role("radio", name="VIEW").click()
        editor.get_by_role("button", name="Change").click()
        asked = self.page.locator("[data-sentence]").filter(has_text="the series \u201cVIEW\u201d is")
        expect(asked).to_be_visible()
        verdict = self.page.locator("li:not([data-sentence])").filter(has_text="VIEW")
        expect(verdict).to_contain_text("1.5")

        # two sessions before the report nothing is entered
        self.added("Enter", "stay out around reports")
        out = self.page.locator("[data-sentence]").filter(has_text="before a \u201creport\u201d until")
        expect(out).to_be_in_viewport()
        verdict = self.page.locator("li:not([data-sentence])").filter(has_text="before a \u201creport\u201d")
        expect(verdict).to_contain_text("to the next")
        expect(verdict).to_contain_text("false")
        out.get_by_role("button", name="2 sessions, change").click()
        self.page.get_by_role("dialog").get_by_role("textbox").fill("0")
        self.page.keyboard.press("Enter")
        expect(verdict).to_contain_text("true")

    def test_a_limit_on_the_accounts_past_is_asked_first(self) -> None:
        self.sign_in(f"/strategies/{self.strategy.pk}/rules?at=2026-11-04T15:45")
        expect(self.page.get_by_text("They enter.")).to_be_visible()
        self.added("Limits", "no entry while")
        limit = self.page.locator("[data-sentence]").filter(has_text="No entry while")
        verdict = self.page.locator("li:not([data-sentence])").filter(has_text="No entry while")
        expect(verdict).to_contain_text("bars nothing")
        limit.get_by_role("button", name="at least, change").click()
        editor = self.page.get_by_role("dialog")
        editor.get_by_role("radio", name="below", exact=True).click()
        editor.get_by_role("button", name="Change").click()
        expect(verdict).to_contain_text("false")
        expect(self.page.get_by_text("They enter.")).to_be_hidden()

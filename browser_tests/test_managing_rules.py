"""A person writes how a strategy manages what it holds: adjustments, rolls, exits into other entries, legs chosen together."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from browser_tests.stage import BrowserTestCase


class ManagingStory(BrowserTestCase):
    def added(self, section: str, words: str) -> None:
        self.page.get_by_role("button", name=f"Add a sentence to {section}", exact=True).click()
        self.page.keyboard.type(words)
        self.page.keyboard.press("Enter")

    def test_an_adjustment_with_looks_of_its_own_and_an_exit_into_another_entry(self) -> None:
        self.sign_in(f"/strategies/{self.strategy.pk}/rules")
        self.added("Adjust", "more or fewer lots")
        lots = self.page.get_by_role("listitem").filter(has_text="open 1 lot")
        expect(lots).to_contain_text("is at least 25, open 1 lot, at 3 in all.")
        lots.hover()
        lots.get_by_role("button", name=re.compile("^More for sentence")).click()
        self.page.get_by_role("menuitem", name="+ Look on something…").click()
        expect(lots).to_contain_text("at 3 in all, looked at as soon as a leg is gone.")
        lots.get_by_role("button", name="as soon as a leg is gone, change").click()
        self.page.get_by_role("dialog").get_by_role("radio", name="on every snapshot").click()
        self.page.get_by_role("dialog").get_by_role("button", name="Change").click()
        expect(lots).to_contain_text("looked at on every snapshot.")
        # what goes together with a next adjustment that is not there says so
        lots.hover()
        lots.get_by_role("button", name=re.compile("^More for sentence")).click()
        self.page.get_by_role("menuitem", name="+ With the next adjustment…").click()
        lots.get_by_role("button", name="and then the next adjustment, change").click()
        self.page.get_by_role("dialog").get_by_role("radio", name="only with the next adjustment").click()
        self.page.get_by_role("dialog").get_by_role("button", name="Change").click()
        expect(lots).to_contain_text("There is no next adjustment, so it never acts.")
        # an exit into the other entry, which is followed when that is renamed
        self.page.get_by_role("button", name="More for the entry").click()
        self.page.get_by_role("menuitem", name="Another entry, mirrored").click()
        expect(self.page.get_by_role("heading", name=re.compile("Enter: entry, mirrored"))).to_be_visible()
        self.added("Leave", "enter by another entry")
        turn = self.page.get_by_role("listitem").filter(has_text="then enter")
        expect(turn).to_contain_text("then enter “entry, mirrored” at once, at most 1 time in a row.")
        self.page.get_by_role("button", name="More for entry, mirrored").click()
        self.page.get_by_role("menuitem", name="Rename").click()
        self.page.get_by_label("Name of entry, mirrored").fill("falling")
        self.page.keyboard.press("Enter")
        expect(turn).to_contain_text("then enter “falling” at once")
        turn.get_by_role("button", name="“falling”, change").click()
        choices = self.page.get_by_role("dialog").get_by_role("radio")
        expect(choices).to_have_count(2)
        self.page.keyboard.press("Escape")
        self.assertEqual(self.serious_faults(), [])

    def test_a_roll_for_a_credit_as_often_as_wanted_and_legs_chosen_together(self) -> None:
        self.sign_in(f"/strategies/{self.strategy.pk}/rules")
        self.added("Adjust", "roll one leg out in time")
        roll = self.page.get_by_role("listitem").filter(has_text="to the expiration nearest")
        expect(roll).to_contain_text("is at most 7, roll leg 3 to the expiration nearest 14 days later.")

        def more(words: str) -> None:
            roll.hover()
            roll.get_by_role("button", name=re.compile("^More for sentence")).click()
            self.page.get_by_role("menuitem", name=f"+ {words}").click()

        more("For several snapshots in a row")
        expect(roll).to_contain_text("is at most 7 for 3 snapshots in a row, roll leg 3")
        # what goes with it needs something that it goes with
        more("Provided also that…")
        self.told("say first what is provided")
        more("Provided that…")
        expect(roll).to_contain_text("provided that then the structure's delta a lot is above 0")
        more("Provided also that…")
        expect(roll).to_contain_text("is above 0 and the credit of this adjustment is at least 0")
        more("More than once a session…")
        expect(roll).to_contain_text("the credit of this adjustment is at least 0, as often as it holds.")
        self.added("Legs", "legs chosen together")
        together = self.page.get_by_label("Sheet").get_by_role("listitem").filter(has_text="Choose the legs together")
        expect(together).to_contain_text(
            "so that the structure's delta a lot is nearest to 0, from the 3 strikes nearest"
        )
        expect(together).to_contain_text(re.compile(r"true"))
        # a tolerance is a share or a number
        self.sentence(3).get_by_role("button", name=re.compile("^0.15")).click()
        self.page.get_by_role("dialog").get_by_label("At most away").fill("40%")
        self.page.keyboard.press("Enter")
        expect(self.sentence(3)).to_contain_text("nearest to delta 0.20 (± 40 %)")
        self.assertEqual(self.serious_faults(), [])

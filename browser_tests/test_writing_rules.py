"""A person signs in, reads a strategy, changes it in place, makes mistakes and takes things back."""

from __future__ import annotations

import re
import tempfile
from pathlib import Path

from django.contrib.sessions.models import Session
from playwright.sync_api import expect

from browser_tests.stage import NAME, PASSWORD, BrowserTestCase
from config.tests.demo import document
from facts import copies
from market.refresh import refresh
from strategies import services as strategies


class SigningInStory(BrowserTestCase):
    def test_a_wrong_password_and_the_way_in_and_out(self) -> None:
        self.open(f"/strategies/{self.strategy.pk}/rules")
        self.page.get_by_label("Name").fill(NAME)
        self.page.get_by_label("Password").fill("wrong")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("alert")).to_have_text("Name or password is wrong.")
        self.page.get_by_label("Password").fill("quiet-harbour-9")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("heading", name="Harbour strangle")).to_be_visible()
        self.page.get_by_role("button", name=f"Signed in as {NAME}").click()
        self.page.get_by_role("menuitem", name="Sign out").click()
        expect(self.page.get_by_label("Password")).to_be_visible()

    def test_the_shelf_and_the_palette(self) -> None:
        self.sign_in()
        row = self.page.get_by_role("row", name=re.compile("Harbour strangle"))
        expect(row.get_by_role("img", name="short 1")).to_be_visible()
        expect(row).to_contain_text("no run yet: preview it first")
        self.page.keyboard.press("Control+k")
        self.page.keyboard.type("harbour backt")
        self.page.keyboard.press("Enter")
        expect(self.page).to_have_url(re.compile(rf"/strategies/{self.strategy.pk}/backtest"))
        expect(self.page.get_by_text("No run yet.")).to_be_visible()
        self.page.keyboard.press("?")
        expect(self.page.get_by_role("dialog", name="Keys")).to_be_visible()
        self.page.keyboard.press("Escape")
        self.page.keyboard.press("1")
        expect(self.page).to_have_url(re.compile("/rules"))

    def test_delete_and_undo(self) -> None:
        self.sign_in()
        self.page.get_by_role("button", name="More for Harbour strangle").click()
        self.page.get_by_role("menuitem", name="Delete").click()
        expect(self.page.get_by_text("Your strategies will stand here.")).to_be_visible()
        self.page.get_by_role("button", name="Undo").click()
        expect(self.page.get_by_role("link", name="Harbour strangle")).to_be_visible()

    def test_a_new_strategy_and_a_file(self) -> None:
        self.sign_in()
        self.page.get_by_role("button", name="New strategy").click()
        self.page.get_by_role("dialog").get_by_label("Name").fill("Lantern put")
        self.page.get_by_role("button", name="Write it").click()
        expect(self.page.get_by_role("heading", name="Lantern put")).to_be_visible()
        expect(self.sentence(3)).to_contain_text("Sell 1 put nearest to delta 0.20 (± 50 %)")
        with self.page.expect_download() as got:
            self.page.get_by_role("link", name="Save as a file").click()
        kept = Path(tempfile.mkdtemp()) / "kept.yaml"
        got.value.save_as(kept)
        self.page.get_by_role("link", name="Strell, to the shelf").click()
        self.page.get_by_label("Strategy file").set_input_files(kept)
        expect(self.page.get_by_role("heading", name="Lantern put")).to_be_visible()
        broken = kept.with_name("broken.yaml")
        broken.write_text(kept.read_text().replace("delta: 0.2", "delta: 3"))
        self.page.get_by_role("link", name="Strell, to the shelf").click()
        self.page.get_by_label("Strategy file").set_input_files(broken)
        self.told(re.compile(r"broken.yaml was not opened. Line \d+: Delta must lie between"))

    def test_a_condor_from_a_starter_takes_few_clicks_and_gets_a_money_stop(self) -> None:
        self.sign_in()
        self.page.get_by_role("button", name="New strategy").click()
        self.page.get_by_role("radio", name="Iron condor").click()
        expect(self.page.get_by_role("region", name="Iron condor")).to_contain_text("Hurt by.")
        self.page.get_by_role("button", name="Write it").click()
        expect(self.page.get_by_role("heading", name="Iron condor")).to_be_visible()
        expect(self.sentence(4)).to_contain_text("5 strikes further out of the money than leg 3")
        self.page.get_by_role("button", name="Add a sentence to Leave").click()
        self.page.get_by_placeholder("Search: delta, stop").fill("Drop from the best")
        self.page.keyboard.press("Enter")
        self.told("Revision 2 is kept.")
        expect(self.sentence(11)).to_contain_text("when the drop from the best P/L in money is at least 300.")
        self.sentence(11).get_by_role("button", name="money, change").click()
        self.page.get_by_role("button", name="Choose something else…").click()
        self.page.get_by_placeholder("Search: average, IV, P/L…").fill("Greek of a leg")
        self.page.keyboard.press("Enter")
        editor = self.page.get_by_role("dialog")
        editor.get_by_role("radio", name="leg 5").click()
        editor.get_by_role("button", name="Change").click()
        expect(self.sentence(11)).to_contain_text("when the delta of leg 5 is at least 300.")
        self.sentence(11).get_by_role("button", name="300, change").click()
        self.page.get_by_role("dialog").get_by_label("Number").fill("0.4")
        self.page.keyboard.press("Enter")
        expect(self.sentence(11)).to_contain_text("is at least 0.4.")

    def test_a_butterfly_walks_out_and_closes_otherwise_in_one_run_of_edits(self) -> None:
        rules = document("skerry-butterfly")
        strategies.create(self.user, rules)
        self.sign_in()
        self.page.get_by_role("link", name=rules["name"]).click()
        leg, roll = self.sentence(4), self.sentence(11)
        leg.get_by_role("button", name="30 days, change").click()
        editor = self.page.get_by_role("dialog")
        editor.get_by_role("button", name="walk out until the checks pass").click()
        editor.get_by_role("button", name="Change").click()
        expect(leg).to_contain_text(
            "the nearest expiration, 18 to 45 days away, with which the whole structure passes its checks"
        )
        roll.hover()
        roll.get_by_role("button", name="More for sentence 11").click()
        self.page.get_by_role("menuitem", name="+ Or else…").click()
        expect(roll).to_contain_text("or else close the position.")
        roll.get_by_role("button", name="or else close the position, change").click()
        editor.get_by_role("radio", name="or else close the position and enter again").click()
        editor.get_by_role("button", name="Change").click()
        expect(roll).to_contain_text("or else close the position and enter again.")
        # three changes in a row are one in its history, with what it was before
        self.page.get_by_role("button", name="Revision 4, show all").click()
        told = self.page.get_by_role("dialog", name="Revisions")
        expect(told.get_by_role("button", name="in 3 steps")).to_be_visible()
        told.get_by_role("button", name="in 3 steps").click()
        expect(told.get_by_role("listitem").filter(has_text="or else close the position.")).not_to_have_count(0)
        self.assertEqual(self.serious_faults(), [])

    def test_a_condition_gets_company_and_loses_it_again(self) -> None:
        self.sign_in()
        self.page.get_by_role("link", name="Harbour strangle").click()
        self.page.get_by_role("button", name="Add a sentence to Enter").click()
        self.page.get_by_placeholder("Search: delta, stop").fill("A condition")
        self.page.keyboard.press("Enter")
        line = self.page.locator("[data-sentence]").filter(has_text="Only if at-the-money IV")
        for what, reads in (
            ("+ For several snapshots in a row", "is above 15 for 3 snapshots in a row."),
            ("+ A further condition", "in a row and at-the-money IV over 30 days is above 15."),
            ("+ From then on, until…", "is above 15, from then on until at-the-money IV over 30 days is below 15."),
        ):
            line.hover()
            line.get_by_role("button", name=re.compile("More for sentence")).click()
            self.page.get_by_role("menuitem", name=what).click()
            expect(line).to_contain_text(reads)
        line.get_by_role("button", name="and, change").click()
        self.page.get_by_role("radio", name="or", exact=True).click()
        self.page.get_by_role("button", name="Change", exact=True).click()
        expect(line).to_contain_text("in a row or at-the-money IV over 30 days is above 15, from then on until")
        for value in ("for 3 snapshots in a row, change", "below, change"):
            line.get_by_role("button", name=value).click()
            self.page.get_by_role("button", name="Leave it out").click()
            expect(self.page.get_by_role("dialog")).to_have_count(0)
            expect(line.get_by_role("button", name=value)).to_have_count(0)
        expect(line).to_contain_text("is above 15 or at-the-money IV over 30 days is above 15.")

    def test_what_names_a_leg_that_is_taken_out_says_so(self) -> None:
        self.sign_in()
        self.page.get_by_role("button", name="New strategy").click()
        self.page.get_by_role("radio", name="Put credit spread").click()
        self.page.get_by_role("button", name="Write it").click()
        expect(self.page.get_by_role("heading", name="Put credit spread")).to_be_visible()
        self.sentence(3).hover()
        self.page.get_by_role("button", name="More for sentence 3").click()
        self.page.get_by_role("menuitem", name="Remove").click()
        self.told(
            re.compile("it can only go by a leg that stands before it|cannot choose its expiration by another leg")
        )


class RulesStory(BrowserTestCase):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in(f"/strategies/{self.strategy.pk}/rules?at=2026-11-04T15:45")
        expect(self.page.get_by_text("Wed 4 Nov 2026 15:45, a decision time. They enter.")).to_be_visible()

    def test_sentences_that_stand_in_each_others_way_say_so(self) -> None:
        self.page.get_by_role("button", name="Add a sentence to Legs").click()
        self.page.get_by_placeholder("Search: delta, stop").fill("opened later")
        self.page.keyboard.press("Enter")
        later = self.page.locator("[data-sentence]").filter(has_text="Later: Sell 1 put")
        expect(later).to_contain_text("Nothing opens it: add “Open a leg” to the adjustments.")
        self.page.get_by_role("button", name="Add a sentence to Adjust").click()
        self.page.get_by_placeholder("Search: delta, stop").fill("Open a leg")
        self.page.keyboard.press("Enter")
        line = self.page.locator("[data-sentence]").filter(has_text="When the contracts held of leg 3")
        expect(line).to_contain_text("open leg 5.")
        expect(later).not_to_contain_text("Nothing opens it")
        self.page.get_by_role("button", name="Add a sentence to Leave").click()
        self.page.get_by_placeholder("Search: delta, stop").fill("share of the credit")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_text(re.compile(r"^It says what sentence \d+ says\.$"))).to_be_visible()
        self.assertEqual(self.serious_faults(), [])

    def test_what_the_rules_would_pick(self) -> None:
        expect(self.sentence(3)).to_contain_text(re.compile(r"3\D?\d\d0 call"))
        candidates = self.page.get_by_role("region", name="Candidates")
        expect(candidates.get_by_role("row", name=re.compile("picked"))).to_have_count(1)
        expect(candidates).to_contain_text("Fri 13 Nov, 9 days; further: Mon 16 Nov (12)")
        figures = self.page.get_by_role("region", name="Figures of the structure")
        expect(figures).to_contain_text("unbounded")
        expect(figures).to_contain_text(re.compile(r"Credit\+\d"))
        self.page.get_by_role("button", name="next decision ›").click()
        expect(self.page.get_by_text("Mon 9 Nov 2026 15:45, a decision time.")).to_be_visible()

    def test_a_holiday_and_a_date_without_data(self) -> None:
        self.page.get_by_label("Date and time").fill("2026-10-14T15:45")
        expect(
            self.page.get_by_text("No session was open Wed 14 Oct 2026 15:45; the last snapshot before is this one.")
        ).to_be_visible()
        self.page.get_by_label("Date and time").fill("2031-10-14T15:45")
        expect(self.page.get_by_role("alert")).to_contain_text("There is no data at 14 Oct 2031 15:45: recorded is")

    def test_changing_a_value_makes_a_revision_and_can_be_undone(self) -> None:
        before = (
            self.page.get_by_role("region", name="Candidates")
            .get_by_role("row", name=re.compile("picked"))
            .inner_text()
        )
        self.sentence(3).get_by_role("button", name="0.20, change").click()
        editor = self.page.get_by_role("dialog", name="Change Strike of the call")
        editor.get_by_label("Delta").last.fill("0.35")
        self.page.keyboard.press("Enter")
        self.told("Revision 2 is kept.")
        expect(self.sentence(3)).to_contain_text("delta 0.35")
        picked = self.page.get_by_role("region", name="Candidates").get_by_role("row", name=re.compile("picked"))
        expect(picked).not_to_have_text(before)
        self.page.keyboard.press("Control+z")
        expect(self.sentence(3)).to_contain_text("delta 0.20")
        expect(self.page.get_by_role("button", name="Revision 3, show all")).to_be_visible()

    def test_a_delta_of_three_is_refused_in_place_and_stays_typed(self) -> None:
        self.sentence(3).get_by_role("button", name="0.20, change").click()
        editor = self.page.get_by_role("dialog", name="Change Strike of the call")
        field = editor.get_by_label("Delta").last
        field.fill("3")
        editor.get_by_role("button", name="Change").click()
        expect(editor.get_by_role("alert")).to_have_text("Delta must lie between 0.01 and 0.99, not 3")
        expect(field).to_have_value("3")
        expect(self.sentence(3)).to_contain_text("delta 0.20")
        field.fill("0,3")
        editor.get_by_role("button", name="Change").click()
        expect(self.sentence(3)).to_contain_text("delta 0.30")

    def test_a_session_that_ends_keeps_what_was_typed(self) -> None:
        self.sentence(6).get_by_role("button", name="50 %, change").click()
        editor = self.page.get_by_role("dialog", name=re.compile("^Change "))
        field = editor.get_by_label("Share of the credit").last
        field.fill("55")
        Session.objects.all().delete()
        field.press("Enter")
        door = self.page.get_by_role("dialog", name="Sign in again")
        expect(door).to_contain_text("Your session has ended")
        door.get_by_label("Name").fill(self.user.username)
        door.get_by_label("Password").fill(PASSWORD)
        door.get_by_label("Password").press("Enter")
        expect(door).to_have_count(0)
        expect(field).to_have_value("55")
        field.press("Enter")
        expect(self.sentence(6)).to_contain_text("At 55 % of the credit.")

    def test_text_that_was_not_kept_is_there_again(self) -> None:
        self.open(f"/strategies/{self.strategy.pk}/text")
        text = self.page.get_by_label("Strategy as text")
        expect(text).to_contain_text("Harbour strangle")
        text.click()
        self.page.keyboard.press("Control+End")
        self.page.keyboard.type("# remember the autumn")
        self.open(f"/strategies/{self.strategy.pk}/rules")
        self.open(f"/strategies/{self.strategy.pk}/text")
        expect(text).to_contain_text("remember the autumn")
        self.page.get_by_role("button", name="Begin with what is kept").click()
        expect(text).not_to_contain_text("remember the autumn")
        text.click()
        self.page.keyboard.press("Control+End")
        self.page.keyboard.type("# kept now")
        self.page.keyboard.press("Control+s")
        self.told("Revision")

    def test_another_pick_weekdays_and_time(self) -> None:
        self.sentence(4).get_by_role("button", name="0.20, change").click()
        editor = self.page.get_by_role("dialog", name="Change Strike of the put")
        editor.get_by_role("button", name="away from spot", exact=True).click()
        editor.get_by_role("button", name="Change").click()
        expect(self.sentence(4)).to_contain_text("Sell 1 put 3.0 % out of the money (± 5.0 %)")
        self.sentence(1).get_by_role("button", name="Mon and Wed, change").click()
        self.page.get_by_role("button", name="Fri").click()
        self.page.get_by_role("button", name="Change", exact=True).click()
        expect(self.sentence(1)).to_contain_text("On Mon, Wed and Fri at 15:45.")
        self.sentence(1).get_by_role("button", name="15:45, change").click()
        self.page.get_by_label("Time of day").fill("10:30")
        self.page.get_by_role("button", name="Change", exact=True).click()
        expect(self.sentence(1)).to_contain_text("at 10:30.")

    def test_sentences_are_added_switched_noted_moved_and_removed(self) -> None:
        self.page.get_by_role("button", name="Add a sentence to Enter").click()
        self.page.keyboard.type("rsi")
        self.page.keyboard.press("Enter")
        expect(self.sentence(3)).to_contain_text("Only if RSI over 14 sessions is below 30.0.")
        expect(self.page.get_by_role("region", name="Sentences, one by one")).to_contain_text("RSI")
        self.sentence(3).get_by_role("button", name="14, change").focus()
        self.page.keyboard.press("Alt+ArrowUp")
        expect(self.sentence(2)).to_contain_text("RSI")
        self.more(2, "Switch off")
        expect(self.sentence(2)).to_contain_text("off")
        self.more(2, "Add a note")
        self.page.get_by_label("Note on sentence 2").fill("too choosy in 2025")
        self.page.keyboard.press("Enter")
        expect(self.sentence(2)).to_contain_text("too choosy in 2025")
        self.more(2, "Mirror")
        expect(self.sentence(2)).to_contain_text("RSI over 14 sessions is above 30.0.")
        self.more(2, "Remove")
        expect(self.sentence(2)).to_contain_text("Only while fewer than")

    def test_a_sentence_is_dragged_within_its_section_only(self) -> None:
        exits = [self.sentence(n).inner_text() for n in (6, 7, 8)]
        handle = self.sentence(8).get_by_title("Drag to reorder")
        handle.drag_to(self.sentence(6))
        expect(self.sentence(6)).to_contain_text("1 day before expiration")
        expect(self.sentence(7)).to_contain_text(exits[0].splitlines()[1])
        self.sentence(6).get_by_title("Drag to reorder").drag_to(self.sentence(2))
        expect(self.sentence(2)).to_contain_text("Only while fewer than")

    def test_a_replay_starts_from_the_instant_looked_at(self) -> None:
        self.page.get_by_role("button", name="Replay from here").click()
        expect(self.page.locator("[data-clock]")).to_have_text("Wed 4 Nov 2026 15:45")
        expect(self.page.get_by_text("No position.")).to_be_visible()

    def more(self, number: int, what: str) -> None:
        self.sentence(number).hover()
        self.sentence(number).get_by_role("button", name=f"More for sentence {number}").click()
        self.page.get_by_role("menuitem", name=what, exact=True).click()

    def test_a_sentence_that_says_no_is_named_and_marked(self) -> None:
        self.page.get_by_role("button", name="Add a sentence to Legs").click()
        self.page.keyboard.type("net premium")
        self.page.keyboard.press("Enter")
        self.sentence(5).get_by_role("button", name="8.00, change").click()
        self.page.get_by_role("dialog").get_by_label("Points").last.fill("500")
        self.page.keyboard.press("Enter")
        expect(
            self.page.get_by_text(
                re.compile(r"Nothing is entered: sentence 5 says no \(credit .* needs at least 500\)")
            )
        ).to_be_visible()
        expect(self.sentence(5)).to_have_class(re.compile("bg-mark"))

    def test_the_text_form_marks_errors_at_their_line(self) -> None:
        self.page.get_by_role("link", name="As text").click()
        text = self.page.get_by_label("Strategy as text")
        expect(text).to_contain_text("pick: nearest_delta")
        text.click()
        self.page.keyboard.press("Control+End")
        self.page.keyboard.type("\nleaving: [soon]")
        self.page.get_by_role("button", name="Keep as a revision").click()
        expect(self.page.get_by_role("alert").first).to_contain_text("'leaving' is not a part of a strategy")
        expect(self.page.locator(".cm-lint-marker-error")).to_have_count(1)
        expect(text).to_contain_text("leaving: [soon]")
        self.page.keyboard.press("Control+Home")

    def test_revisions_can_be_gone_back_to(self) -> None:
        self.page.get_by_role("button", name="Rename").or_(self.page.get_by_title("Rename")).first.click()
        self.page.get_by_label("Name of the strategy").fill("Harbour strangle, wider")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("heading", name="Harbour strangle, wider")).to_be_visible()
        self.page.get_by_role("button", name="Revision 2, show all").click()
        self.page.get_by_role("button", name="written").click()
        expect(self.page.get_by_text("Its sentences are those of the latest.")).to_be_visible()
        self.page.get_by_label("Note on revision 1").fill("as it began")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("button", name="written as it began")).to_be_visible()
        self.assertEqual(self.serious_faults(), [])
        self.page.get_by_role("button", name="go back").click()
        expect(self.page.get_by_role("heading", name="Harbour strangle", exact=True)).to_be_visible()


class TwoUnderlyingsStory(BrowserTestCase):
    def choose_by_keys(self, menu: str, what: str) -> None:
        """Opens a menu and goes to an entry by its first letters, as fast as the page follows and no faster."""
        self.page.get_by_role("button", name=menu).focus()
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("menuitem").first).to_be_focused()
        self.page.keyboard.type(what)
        expect(self.page.get_by_role("menuitem", name=re.compile(f"^{what}"))).to_be_focused()
        self.page.keyboard.press("Enter")

    def test_a_second_entry_trades_a_second_underlying(self) -> None:
        refresh(copies.copy(self.user, "MK30", "TWIN"))
        self.sign_in(f"/strategies/{self.strategy.pk}/rules")
        self.page.get_by_role("button", name="Underlyings: MK30").click()
        window = self.page.get_by_role("dialog", name="Underlyings")
        window.get_by_label("Add an underlying").select_option("TWIN")
        expect(window).to_contain_text("looked at only")
        # the first Escape takes away what was told, the next one closes the window
        self.told("Revision 2 is kept.")
        self.page.keyboard.press("Escape")
        self.page.keyboard.press("Escape")
        expect(window).to_be_hidden()
        expect(self.page.get_by_role("button", name="Underlyings: MK30")).to_be_focused()
        # one more entry, by keyboard alone
        self.page.get_by_role("button", name="More for the entry").focus()
        self.page.keyboard.press("Enter")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("heading", name="Enter: entry 2, on MK30")).to_be_visible()
        self.choose_by_keys("More for entry 2", "Trade")
        expect(self.page.get_by_role("heading", name="Enter: entry 2, on TWIN")).to_be_visible()
        self.choose_by_keys("More for entry 2", "Rename")
        expect(self.page.get_by_label("Name of entry 2")).to_be_focused()
        self.page.keyboard.press("Control+a")
        self.page.keyboard.type("twin")
        self.page.keyboard.press("Enter")
        expect(self.page.get_by_role("heading", name="Enter: twin, on TWIN")).to_be_visible()
        # what it would pick is of what it trades
        self.page.get_by_role("button", name=re.compile("^twin: ")).click()
        expect(self.page.get_by_label("Picked structure")).to_contain_text("TWIN")
        # what an entry trades is not taken away under it
        self.page.get_by_role("button", name="Underlyings: MK30, TWIN").click()
        expect(window.get_by_role("button", name="Remove TWIN")).to_be_disabled()
        self.page.keyboard.press("Escape")
        self.page.get_by_role("button", name="More for twin").click()
        self.page.get_by_role("menuitem", name="Remove this entry").click()
        expect(self.page.get_by_role("heading", name="Enter, on MK30")).to_be_visible()
        self.page.get_by_role("button", name="Underlyings: MK30, TWIN").click()
        window.get_by_role("button", name="Remove TWIN").click()
        expect(self.page.get_by_role("button", name="Underlyings: MK30", exact=True)).to_be_visible()


class StripStory(BrowserTestCase):
    def test_every_decision_follows_a_change(self) -> None:
        self.sign_in(f"/strategies/{self.strategy.pk}/rules")
        strip = self.page.get_by_role("region", name="Decision times")
        expect(strip).to_contain_text("Every decision time of revision 1")
        entries = strip.locator("b", has_text="entries")
        before = entries.inner_text()
        self.sentence(2).get_by_role("button").first.click()
        editor = self.page.get_by_role("dialog")
        editor.locator("input[inputmode=decimal]").first.fill("3")
        self.page.keyboard.press("Enter")
        expect(strip).to_contain_text("Every decision time of revision 2")
        expect(entries).not_to_have_text(before)
        # back again it is what it was
        self.page.keyboard.press("Control+z")
        expect(strip).to_contain_text("Every decision time of revision 3")
        expect(entries).to_have_text(before)

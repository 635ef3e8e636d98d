"""A person looks at a market: takes legs from the chain, pulls price, date and volatility, reads the curves."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from browser_tests.stage import BrowserTestCase


class MarketStory(BrowserTestCase):
    def test_a_basket_from_the_chain(self) -> None:
        page = self.page
        self.sign_in("/market")
        chain = page.get_by_role("region", name="Chain")
        basket = page.get_by_role("region", name="Basket")
        expect(basket).to_contain_text("The basket is empty.")
        expect(page.get_by_role("region", name="Volatility")).to_contain_text("Free of arbitrage")

        # a bid sells, an ask buys; the keyboard moves between prices
        first = chain.get_by_role("button", name=re.compile("^Sell 1 .* put")).nth(3)
        first.focus()
        page.keyboard.press("Enter")
        expect(basket.get_by_label(re.compile("^Contracts of"))).to_have_value("−1")
        page.keyboard.press("ArrowUp")
        page.keyboard.press("ArrowRight")
        page.keyboard.press("Enter")
        expect(basket.get_by_label(re.compile("^Contracts of"))).to_have_count(2)
        expect(basket).to_contain_text("implied by the quotes")
        stands = basket.get_by_role("status")
        expect(stands).to_contain_text("It stands at")

        # pulled by the keyboard: the sentence says where and when
        page.get_by_role("slider", name="Price").focus()
        for _ in range(20):
            page.keyboard.press("ArrowLeft")
        expect(stands).to_contain_text(re.compile("At .* it would stand at"))
        page.get_by_label("What the curve shows").select_option("vanna")
        expect(page.get_by_role("img", name="What if")).to_be_visible()
        page.get_by_role("button", name="back to now").click()
        expect(stands).to_contain_text("It stands at")
        page.get_by_role("button", name="By price and date").click()
        expect(page.get_by_role("table", name="P/L by price and date")).to_be_visible()

        # a second expiration has a volatility of its own
        chosen = chain.get_by_role("button", pressed=True)
        before = chosen.inner_text()
        page.get_by_label("Any expiration").select_option(index=12)
        expect(chosen).not_to_have_text(before)
        chain.get_by_role("button", name=re.compile("^Buy 1 .* call")).nth(8).click()
        page.get_by_role("button", name="pull each expiration by itself").click()
        expect(page.get_by_role("slider", name=re.compile("^Volatility of"))).to_have_count(2)
        expect(basket).to_contain_text("the nearest expiration")
        page.get_by_role("button", name="add MK30").click()
        expect(basket.get_by_label(re.compile("^Contracts of"))).to_have_count(4)

        # a number that is none is put back, an emptied basket comes back, and a reload keeps it
        count = basket.get_by_label("Contracts of the underlying")
        count.fill("many")
        count.press("Enter")
        expect(count).to_have_value("+1")
        page.get_by_role("button", name="clear").click()
        expect(basket).to_contain_text("The basket is empty.")
        page.get_by_role("button", name="Undo").click()
        expect(basket.get_by_label(re.compile("^Contracts of"))).to_have_count(4)
        page.reload()
        expect(basket.get_by_label(re.compile("^Contracts of"))).to_have_count(4)
        self.assertEqual(self.serious_faults(), [])

    def test_through_time(self) -> None:
        page = self.page
        self.sign_in("/market/MK30")
        at = page.get_by_label("Date and time")
        last = at.input_value()
        page.keyboard.press(",")
        expect(at).not_to_have_value(last)
        page.keyboard.press(".")
        expect(at).to_have_value(last)
        page.get_by_role("button", name="A session back").click()
        expect(at).not_to_have_value(re.compile(f"^{last[:10]}"))
        page.get_by_role("button", name="By term").click()
        expect(page.get_by_role("img", name="Volatility by term")).to_be_visible()
        page.get_by_role("button", name="by the curve").click()
        chain = page.get_by_role("region", name="Chain")
        expect(chain.get_by_role("columnheader", name="Ends in").first).to_be_visible()
        page.get_by_role("button", name="all strikes").click()
        expect(chain.get_by_role("row").nth(30)).to_be_attached()
        self.open("/market/MK30?at=1999-01-01T10:00")
        expect(page.get_by_role("alert").first).to_contain_text("recorded is")
        self.open("/market/NOPE")
        expect(page.get_by_role("alert").first).to_contain_text("There is no data for NOPE")

    def test_a_basket_goes_on_as_rules_and_into_a_replay(self) -> None:
        page = self.page
        self.sign_in("/market/MK30")
        chain = page.get_by_role("region", name="Chain")
        for which in ("call", "put"):
            chain.get_by_role("button", name=re.compile(f"^Sell 1 .* {which}")).nth(9 if which == "call" else 5).click()
        further = page.get_by_role("group", name="Go on with the basket")

        # volatilities that move with the price: the sentence says another amount at another price
        stands = page.get_by_role("region", name="Basket").get_by_role("status")
        page.get_by_role("slider", name="Price").focus()
        for _ in range(25):
            page.keyboard.press("ArrowLeft")
        expect(stands).to_contain_text("it would stand at")
        before = stands.inner_text()
        page.get_by_role("button", name="volatilities stay at their strikes").click()
        expect(page.get_by_role("button", name="volatilities move with the price")).to_be_visible()
        expect(stands).not_to_have_text(before)

        # what a strategy cannot hold is said before
        page.get_by_role("button", name="add MK30").click()
        expect(further.get_by_role("button", name="Write as rules")).to_be_disabled()
        page.get_by_role("button", name="Take off the underlying").click()
        address = page.url
        further.get_by_role("button", name="Write as rules").click()
        expect(page.get_by_text("picks just these legs here").first).to_be_visible()
        expect(page.get_by_role("heading", name=re.compile("^MK30 as of"))).to_be_visible()
        expect(page.get_by_text("They enter.")).to_be_visible()

        page.goto(address)
        page.get_by_role("button", name="Replay from here").click()
        expect(page.get_by_role("button", name="Close all")).to_be_visible()
        expect(page.get_by_role("button", name=re.compile(r"^Close \d"))).to_have_count(2)
        self.assertEqual(self.serious_faults(), [])

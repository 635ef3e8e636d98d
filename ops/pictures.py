"""The pictures of docs/screenshots, taken from a running demo: `./strell pictures [NAME …]`.

Views are found by what stands on them, as a person finds them; a view that is not there any more ends the run.
"""

from __future__ import annotations

import os
import re
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, expect, sync_playwright

FOLDER = Path(__file__).resolve().parents[1] / "docs" / "screenshots"
BASE = f"http://127.0.0.1:{os.environ.get('STRELL_PORT', '8470')}"
FLAGS = [
    "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking", "--disable-component-update",
    "--disable-sync",
]  # fmt: skip
SIZE = {"width": 1280, "height": 800}
VENDOR = """quote date;underlying;expiry;strike;call/put;bid;ask;underlying price
03.11.2026;OSTL;20.11.2026;46;C;1,05;1,15;46,40
03.11.2026;OSTL;20.11.2026;46;P;0,60;0,70;46,40
03.11.2026;OSTL;20.11.2026;47;C;0,55;0,65;46,40
03.11.2026;OSTL;20.11.2026;47;P;1,10;1,25;46,40
03.11.2026;OSTL;20.11.2026;48;X;0,25;0,35;46,40
"""


def shot(page: Page, name: str) -> None:
    """Take it when nothing moves any more."""
    page.wait_for_load_state("networkidle")
    page.wait_for_timeout(1200)
    page.screenshot(path=FOLDER / f"{name}.png")
    print(name)


def strategy(page: Page, name: str, stage: str) -> None:
    page.goto(BASE)
    page.get_by_role("link", name=name, exact=True).click()
    expect(page.get_by_role("heading", name=name)).to_be_visible()
    page.goto(re.sub(r"/\w+$", f"/{stage}", page.url))


def shelf(page: Page) -> None:
    page.goto(BASE)
    expect(page.get_by_role("link", name="Harbour strangle", exact=True)).to_be_visible()
    shot(page, "shelf")


def rules(page: Page) -> None:
    strategy(page, "Harbour strangle", "rules")
    expect(page.get_by_text("Sentences, one by one")).to_be_visible()
    shot(page, "rules")
    page.get_by_role("button", name="0.20, change").first.click()
    shot(page, "editor")
    page.keyboard.press("Escape")
    page.get_by_role("link", name="As text").click()
    expect(page.get_by_label("Strategy as text")).to_be_visible()
    shot(page, "text")


def backtest(page: Page) -> None:
    strategy(page, "Harbour strangle", "backtest")
    expect(page.get_by_role("region", name="Figures of the run")).to_be_visible()
    shot(page, "backtest")
    page.get_by_role("table", name="Trades").get_by_role("row").nth(1).click()
    expect(page.get_by_role("region", name="Legs at entry and exit")).to_be_visible()
    shot(page, "trade")


def research(page: Page) -> None:
    strategy(page, "Harbour strangle", "backtest")
    page.get_by_role("tab", name="Slices").click()
    page.get_by_role("region", name="By Weekday").get_by_role("button", name="Wednesday").click()
    expect(page.get_by_role("region", name="Chosen trades")).to_be_visible()
    shot(page, "slices")
    page.get_by_label("Sweep", exact=True).select_option(index=1)
    expect(page.get_by_text("is expected by chance in")).to_be_visible(timeout=120_000)
    page.get_by_role("table", name="Variants").get_by_role("button").nth(20).click()
    shot(page, "sweep")


def compare(page: Page) -> None:
    page.goto(f"{BASE}/compare?run=1&run=2")
    expect(page.get_by_role("region", name="Figures side by side")).to_be_visible()
    shot(page, "compare")


def replay(page: Page) -> None:
    page.goto(f"{BASE}/replays/1")
    expect(page.get_by_text("What the rules say now")).to_be_visible()
    shot(page, "replay")
    page.evaluate("localStorage.setItem('strell-theme', 'dark')")
    page.reload()
    expect(page.get_by_text("What the rules say now")).to_be_visible()
    shot(page, "replay-dark")
    page.evaluate("localStorage.setItem('strell-theme', 'light')")


def desk(page: Page) -> None:
    page.goto(f"{BASE}/desk")
    pause = page.get_by_role("button", name="Pause")
    if pause.count():
        pause.first.click()
    chain = page.get_by_role("region", name="Chain").get_by_role("row")
    expect(chain.nth(20)).to_be_visible()
    shot(page, "desk")
    chain.nth(17).get_by_role("button").nth(0).click()
    chain.nth(20).get_by_role("button").nth(1).click()
    expect(page.get_by_role("region", name="Ticket")).to_contain_text("One order, 2 legs")
    shot(page, "ticket")


def stock(page: Page) -> None:
    page.goto(f"{BASE}/desk")
    own = page.get_by_role("button", name="Orchard paper")
    page.get_by_role("button", name="+ account").wait_for()
    if own.count():
        own.click()
    else:
        page.get_by_role("button", name="+ account").click()
        form = page.get_by_role("form", name="New account")
        form.get_by_label("Name").fill("Orchard paper")
        form.get_by_label("Trades").select_option("OSTL")
        form.get_by_role("button", name="Open account").click()
    page.get_by_role("region", name="The underlying itself").get_by_role("button", name=re.compile("^Buy 1")).click()
    calls = page.get_by_role("region", name="Chain").get_by_role("button", name=re.compile("^Sell 1 .* call at "))
    calls.nth(calls.count() // 2).click()
    expect(page.get_by_role("region", name="Ticket")).to_contain_text("One order, 2 legs")
    shot(page, "ticket-stock")


def paper(page: Page) -> None:
    strategy(page, "Tide condor", "paper")
    shot(page, "paper")


def journal(page: Page) -> None:
    page.goto(f"{BASE}/journal")
    shot(page, "journal")


def market(page: Page) -> None:
    page.goto(f"{BASE}/market/MK30")
    for side, right, share in (
        ("Sell", "call", 0.7),
        ("Buy", "call", 0.85),
        ("Sell", "put", 0.3),
        ("Buy", "put", 0.15),
    ):
        price = page.get_by_role("button", name=re.compile(rf"^{side} 1 .* {right} at "))
        expect(price.first).to_be_visible()
        price.nth(int(share * price.count())).click()
    shot(page, "market")


def data(page: Page) -> None:
    page.goto(f"{BASE}/data/MK30")
    shot(page, "data")
    with tempfile.TemporaryDirectory() as place:
        file = Path(place) / "vendor.csv"
        file.write_text(VENDOR)
        page.locator("input[type=file]").first.set_input_files(file)
        expect(page.get_by_text("How values are written")).to_be_visible()
        shot(page, "intake")


VIEWS: dict[str, Callable[[Page], None]] = {
    view.__name__: view
    for view in (shelf, rules, backtest, research, compare, replay, desk, stock, paper, journal, market, data)
}


def main(wanted: list[str]) -> None:
    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path=os.environ["STRELL_CHROMIUM"], args=FLAGS)
        page = browser.new_page(viewport=SIZE)  # type: ignore[arg-type]
        page.goto(BASE)
        page.get_by_label("Name").fill("demo")
        page.get_by_label("Password").fill("harbour-lantern")
        page.keyboard.press("Enter")
        expect(page.get_by_role("link", name="Harbour strangle", exact=True)).to_be_visible(timeout=30_000)
        for name in wanted or list(VIEWS):
            VIEWS[name](page)
        browser.close()


if __name__ == "__main__":
    main(sys.argv[1:])

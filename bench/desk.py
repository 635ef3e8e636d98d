"""The desk in the browser, while it runs: start ./strell demo (or up) first, then ./strell bench desk.

Order to working: from the key that sends a ticket to the word "working" on the screen, in headless
Chromium. Quotes: five sockets watching 500 contracts each, how late a push comes after the market
published it, in the first and the second half of the time.
"""

from __future__ import annotations

import asyncio
import json
import os
import statistics
import time
import urllib.error
import urllib.request
from typing import Any

from bench.timing import table

PORT = int(os.environ.get("STRELL_PORT", "8470"))
ADDRESS = f"http://127.0.0.1:{PORT}"
ORDERS, SOCKETS, CONTRACTS, SECONDS = 25, 5, 500, 30
WATCH = """(button) => new Promise((done) => {
  performance.clearResourceTimings();
  const seen = new Set([...document.querySelectorAll("[data-order]")].map((e) => e.dataset.order));
  const began = performance.now();
  const look = () => [...document.querySelectorAll("[data-order]")].some(
    (e) => !seen.has(e.dataset.order) && e.textContent === "working");
  const observer = new MutationObserver(() => {
    if (!look()) return;
    observer.disconnect();
    const shown = performance.now() - began;
    const sent = performance.getEntriesByType("resource").find((entry) => entry.name.endsWith("/orders"));
    done([shown, sent ? sent.startTime - began : -1, sent ? sent.duration : -1]);
  });
  observer.observe(document.body, { subtree: true, childList: true, characterData: true });
  setTimeout(() => { observer.disconnect(); done(null); }, 10000);
  button.click();
})"""


def run() -> None:
    try:
        urllib.request.urlopen(f"{ADDRESS}/health", timeout=3)
    except (urllib.error.URLError, OSError):
        print(f"\n(nothing runs at {ADDRESS}: start ./strell demo to measure the desk)")
        return
    from playwright.sync_api import sync_playwright

    with sync_playwright() as play:
        browser = play.chromium.launch(
            executable_path=os.environ["STRELL_CHROMIUM"], args=["--no-sandbox", "--disable-gpu", "--disable-quic"]
        )
        context = browser.new_context(viewport={"width": 1280, "height": 800})
        page = context.new_page()
        page.goto(ADDRESS)
        page.get_by_label("Name").fill("demo")
        page.get_by_label("Password").fill("harbour-lantern")
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("link", name="Desk").click()
        page.get_by_role("region", name="Chain").get_by_role("button").nth(20).wait_for()
        rows = [(name, f"{value:.0f}") for name, value in _orders(page)]
        cookies = "; ".join(f"{c['name']}={c['value']}" for c in context.cookies())
        chain = page.evaluate("fetch('/api/market/MK30/live').then(r => r.json())")
        contracts: list[str] = []
        for expiration in chain["expirations"]:
            found = page.evaluate(f"fetch('/api/market/MK30/live?expiration={expiration['date']}').then(r => r.json())")
            contracts += [row[side]["contract"] for row in found["rows"] for side in ("call", "put")]
            if len(contracts) >= CONTRACTS:
                break
        table(f"Order to working, {ORDERS} orders, headless Chromium", ("what", "ms"), rows)
        browser.close()
    figures = asyncio.run(_sockets(cookies, contracts[:CONTRACTS]))
    table(
        f"Quotes of {min(CONTRACTS, len(contracts))} contracts to {SOCKETS} sockets, {SECONDS} s",
        ("what", "figure"),
        figures,
    )


def _orders(page: Any) -> list[tuple[str, float]]:
    taken = []
    chain = page.get_by_role("region", name="Chain")
    for _ in range(ORDERS):
        chain.get_by_role("row").nth(17).get_by_role("button").nth(0).click()
        chain.get_by_role("row").nth(20).get_by_role("button").nth(1).click()
        ticket = page.get_by_role("region", name="Ticket")
        ticket.get_by_label("Credit or debit").select_option("credit")
        page.wait_for_timeout(700)
        ticket.get_by_label("Limit a lot").fill("29.00")
        button = ticket.get_by_role("button", name="Place on paper")
        page.wait_for_function("b => !b.disabled", arg=button.element_handle())
        taken.append(button.evaluate(WATCH))
        page.get_by_role("button", name="Cancel order").first.click()
        page.wait_for_timeout(2200)
    seen = [value for value in taken if value is not None]
    good = sorted(value[0] for value in seen)
    return [
        ("until the request leaves, median", statistics.median(value[1] for value in seen)),
        ("the request, median", statistics.median(value[2] for value in seen)),
        ("all, median", statistics.median(good)), ("90 of 100 within", good[int(0.9 * len(good))]), ("slowest", good[-1]),
        ("not seen within 10 s", len(taken) - len(good)),
    ]  # fmt: skip


async def _sockets(cookies: str, contracts: list[str]) -> list[tuple[str, str]]:
    import websockets

    late: list[tuple[float, float]] = []
    sizes: list[int] = []

    async def one() -> None:
        address = f"ws://127.0.0.1:{PORT}/ws"
        async with websockets.connect(address, additional_headers={"Cookie": cookies, "Origin": ADDRESS}) as socket:
            await socket.send(json.dumps({"watch": {"symbol": "MK30", "contracts": contracts}}))
            end, first = time.time() + SECONDS, True
            while time.time() < end:
                try:
                    text = await asyncio.wait_for(socket.recv(), 5)
                except TimeoutError:
                    continue
                message = json.loads(text)
                if message["topic"] == "quotes" and not first:
                    late.append((time.time(), 1000 * (time.time() - message["published"])))
                    sizes.append(len(text))
                first = first and message["topic"] != "quotes"

    await asyncio.gather(*(one() for _ in range(SOCKETS)))
    half = late[0][0] + SECONDS / 2
    early, rest = [ms for at, ms in late if at < half], [ms for at, ms in late if at >= half]
    return [
        ("pushes a second and socket", f"{len(late) / SOCKETS / SECONDS:.1f}"),
        ("kilobytes a push, median", f"{statistics.median(sizes) / 1000:.1f}"),
        ("late, first half, median ms", f"{statistics.median(early):.0f}"),
        ("late, second half, median ms", f"{statistics.median(rest):.0f}"),
        ("late, 99 of 100 within ms", f"{sorted(ms for _, ms in late)[int(0.99 * len(late))]:.0f}"),
    ]  # fmt: skip

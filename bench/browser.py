"""Headless Chromium at a running demo, for what is measured as a person sees it."""

from __future__ import annotations

import os
import statistics
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

from bench.timing import table


@contextmanager
def signed_in(address: str) -> Iterator[Any]:
    """A page of the demo's person, once the application stands."""
    from playwright.sync_api import sync_playwright

    with sync_playwright() as play:
        browser = play.chromium.launch(
            executable_path=os.environ["STRELL_CHROMIUM"], args=["--no-sandbox", "--disable-gpu"]
        )
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(address)
        page.get_by_label("Name").fill("demo")
        page.get_by_label("Password").fill("harbour-lantern")
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("link", name="Desk").wait_for()
        yield page
        browser.close()


def spread(title: str, measured: Mapping[str, Sequence[float]]) -> None:
    """A table of milliseconds: the median, nine of ten, the slowest."""
    rows = [
        (name, f"{statistics.median(found):.0f}", f"{sorted(found)[int(0.9 * len(found))]:.0f}", f"{max(found):.0f}")
        for name, found in measured.items()
    ]
    table(title, ("what", "median ms", "90 of 100", "slowest"), rows)

"""Large results in the browser, while it runs: start ./strell demo first, then ./strell bench large.

A run of 5 000 trades, made of the demo strangle's own again and again, is opened and filtered; a sweep of 1 000 variants is drawn. On a
copy of the strategy, which is taken away again.
"""

from __future__ import annotations

import copy
import datetime as dt
import os
import random
import statistics
from typing import Any

from bench.person import BASE, health
from bench.timing import table

ADDRESS = os.environ.get("STRELL_ADDRESS", BASE)
TRADES, ACROSS, DOWN, TIMES = 5_000, 40, 25, 9
SEEN = """(() => {
  const look = () => {
    const found = document.querySelector('[role="table"][aria-rowcount="%d"]');
    if (found && found.querySelectorAll('[role="row"]').length > 5) window.__seen = performance.now();
    else requestAnimationFrame(look);
  };
  look();
})()"""
CHANGED = """([act, wanted]) => new Promise((done) => {
  const began = performance.now();
  const look = () => eval(wanted) ? requestAnimationFrame(() => done(performance.now() - began)) : requestAnimationFrame(look);
  eval(act);
  look();
})"""


def run() -> None:
    if health(ADDRESS) is None:
        print(f"\n(nothing runs at {ADDRESS}: start ./strell demo to measure large results)")
        return
    import django

    django.setup()
    from django.contrib.auth.models import User

    from runs.models import Run
    from strategies import services as strategies

    user = User.objects.get(username="demo")
    original = user.strategies.filter(deleted_at=None).order_by("pk").first()
    done = original.runs.filter(status=Run.Status.DONE, values={}).order_by("number").first()
    strategy = strategies.duplicate(user, original.pk, False)
    try:
        number, sweep = _many_trades(strategy, done), _many_cells(strategy, done)
        measured = _in_the_browser(strategy.pk, number, sweep)
    finally:
        strategy.sweeps.all().delete()
        strategy.delete()
    rows = [
        (name, f"{statistics.median(found):.0f}", f"{max(found):.0f}", f"{bar}")
        for (name, bar), found in measured.items()
    ]
    table(f"Large results, {TIMES} times each, headless Chromium", ("what", "median ms", "slowest", "bar"), rows)


def _many_trades(strategy: Any, done: Any) -> int:
    """A run of the strategy with 5 000 trades; its number."""
    from runs.models import Run, RunTrade

    made = copy.copy(done)
    made.pk, made._state = None, copy.copy(done._state)
    made._state.adding = True
    made.strategy, made.revision, made.number = strategy, strategy.latest, 1
    rounds = -(-TRADES // done.trades.count())
    made.decisions = done.decisions * rounds
    made.save(force_insert=True)
    rows = list(done.trades.values("row", "trade", "kept"))
    RunTrade.objects.bulk_create(
        (
            RunTrade(run=made, number=number + 1, row={**rows[number % len(rows)]["row"], "number": number + 1}, trade=rows[number % len(rows)]["trade"])
            for number in range(TRADES)
        ),
        batch_size=500,
    )  # fmt: skip
    return int(Run.objects.get(pk=made.pk).number)


def _many_cells(strategy: Any, done: Any) -> int:
    """A finished sweep of 1 000 variants; its number."""
    from strell_core.results.variant import TOLD
    from sweeps.models import Cell, Sweep

    dials = [
        {"paths": ["leave/0/percent"], "values": list(range(31, 31 + ACROSS))},
        {"paths": ["leave/1/percent"], "values": list(range(100, 100 + 5 * DOWN, 5))},
    ]
    sweep = Sweep.objects.create(
        strategy=strategy, revision=strategy.latest, number=1, start=done.start, end=done.end, cash=done.cash, dials=dials,
        status=Sweep.Status.DONE, finished_at=dt.datetime.now(dt.UTC),
    )  # fmt: skip
    chance = random.Random(1)
    figures = {name: done.figures.get(name) for name in TOLD}

    def own() -> dict[str, Any]:
        return {
            name: value * chance.uniform(0.5, 1.5) if isinstance(value, float) else value
            for name, value in figures.items()
        }

    now = dt.datetime.now(dt.UTC)
    Cell.objects.bulk_create(
        (
            Cell(sweep=sweep, place=DOWN * x + y, at=[x, y], figures=own(), done_at=now, done_by="bench")
            for x in range(ACROSS)
            for y in range(DOWN)
        ),
        batch_size=500,
    )
    return 1


def _in_the_browser(strategy: int, run: int, sweep: int) -> dict[tuple[str, str], list[float]]:
    from playwright.sync_api import sync_playwright

    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path="/usr/bin/chromium", args=["--no-sandbox", "--disable-gpu"])
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(ADDRESS)
        page.get_by_label("Name").fill("demo")
        page.get_by_label("Password").fill("harbour-lantern")
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("link", name="Desk").wait_for()
        here = f"{ADDRESS}/strategies/{strategy}/backtest"
        opened = []
        for _ in range(TIMES):
            page.add_init_script(SEEN % (TRADES + 1))
            page.goto(f"{here}?run={run}")
            opened.append(float(page.wait_for_function("() => window.__seen", timeout=30_000).json_value()))
        page.get_by_role("tab", name="Slices").click()
        page.get_by_role("region", name="By Weekday").wait_for()
        button = "[...document.querySelectorAll('[aria-label=\"By Weekday\"] button')].find((b) => b.textContent.startsWith('Wednesday'))"
        rows = "document.querySelector('[role=table]').getAttribute('aria-rowcount')"
        filtered = []
        for turn in range(TIMES):
            wanted = f"{rows} {'!==' if turn % 2 == 0 else '==='} '{TRADES + 1}'"
            filtered.append(float(page.evaluate(CHANGED, [f"{button}.click()", wanted])))
            page.wait_for_timeout(300)
        page.goto(f"{here}?sweep={sweep}")
        show = page.get_by_label("Show", exact=True)
        show.wait_for()
        page.wait_for_timeout(1000)
        drawn = []
        for turn in range(TIMES):
            name = ("sharpe", "mar")[turn % 2]
            act = (
                "(() => { const s = [...document.querySelectorAll('select')].find((x) => [...x.options].some((o) => o.value === 'mar'));"
                f"window.__before = document.querySelector('[aria-label^=\"Sweep 1\"]').innerText; Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set.call(s, '{name}');"
                "s.dispatchEvent(new Event('change', { bubbles: true })); })()"
            )
            drawn.append(
                float(
                    page.evaluate(
                        CHANGED,
                        [act, "document.querySelector('[aria-label^=\"Sweep 1\"]').innerText !== window.__before"],
                    )
                )
            )
            page.wait_for_timeout(300)
        browser.close()
    return {
        (f"a run of {TRADES} trades, from its address to its table", "1000"): opened,
        ("a slice chosen or left of it, until the table shows it", "150"): filtered,
        (f"a map of {ACROSS * DOWN} variants by another figure", "300"): drawn,
    }  # fmt: skip

"""Large results in the browser: start ./strell demo first, then ./strell bench large.

A strategy that enters every ten minutes makes a run of some 5 000 trades; a sweep of the same has 1 000 variants. Both are
asked for like any other and taken away again. Measured is from the click, or the address, to what was asked for being
drawn: the run opened with nothing of it kept, its trades narrowed down by a slice, the sweep's map opened and coloured by
another figure.
"""

from __future__ import annotations

import time
from typing import Any

from bench.browser import signed_in, spread
from bench.person import ADDRESS, Person, health

TIMES = 15
START, END = "2026-06-01", "2026-11-18"
BUSY = {
    "name": "Every ten minutes", "underlyings": ["MK30"],
    "entries": [
        {
            "when": [
                {"rule": "every_minutes", "weekdays": ["mon", "tue", "wed", "thu", "fri"], "minutes": 10, "from": "09:15",
                 "until": "17:00"}
            ],
            "legs": [
                {"rule": "leg", "side": side, "ratio": 1, "right": right, "strike": {"pick": "nearest_delta", "delta": delta},
                 "expiry": {"pick": "nearest_days", "days": 10, "from": 5, "to": 18} if (side, right) == ("sell", "call")
                 else {"pick": "same_expiration"}}
                for side, right, delta in (
                    ("sell", "call", 0.2), ("sell", "put", 0.2), ("buy", "call", 0.05), ("buy", "put", 0.05)
                )
            ],
            "size": [{"rule": "fixed_lots", "lots": 1}],
        }
    ],
    "leave": [
        {"rule": "credit_target", "percent": 4}, {"rule": "premium_stop", "percent": 4},
        {"rule": "days_held", "days": 0, "time": "17:10"},
    ],
    "limits": [{"rule": "capital", "entries": "allow", "below": "report"}],
}  # fmt: skip
"""Iron condors of some minutes."""
GOING = """(path) => {
  history.pushState(null, "", path);
  window.dispatchEvent(new PopStateEvent("popstate"));
}"""
WATCH = """([there, act]) => {
  const found = new Function("return " + there), go = new Function("return " + act);
  window.__drawn = null;
  const began = performance.now();
  const seen = new MutationObserver(() => {
    if (!found()) return;
    seen.disconnect();
    const told = () => { window.__drawn = performance.now() - began; };
    requestAnimationFrame(() => scheduler.postTask(told, { priority: "user-blocking" }));
  });
  seen.observe(document.body, { subtree: true, childList: true, characterData: true, attributes: true });
  go();
}"""
"""From an act until what it should bring is there and was painted."""


def until_drawn(page: Any, act: str, there: str) -> float:
    page.evaluate(WATCH, [there, act])
    return float(page.wait_for_function("() => window.__drawn", timeout=20_000).json_value())


def finished(person: Person, path: str) -> Any:
    """What was asked for, once it is done."""
    end = time.monotonic() + 900
    while (found := person.ask("GET", path))["status"] != "done":
        if found["status"] not in ("queued", "running") or time.monotonic() > end:
            raise SystemExit(f"{path} is {found['status']}: {found.get('message')}")
        time.sleep(1)
    return found


def run() -> None:
    if health(ADDRESS) is None:
        print(f"\n(nothing runs at {ADDRESS}: start ./strell demo to measure large results)")
        return
    person = Person(ADDRESS, "demo", "harbour-lantern")
    made = person.ask("POST", "/api/strategies", {"document": BUSY})
    try:
        asked = {"start": START, "end": END, "cash": 100_000_000}
        run = person.ask("POST", f"/api/strategies/{made['id']}/runs", asked)
        trades = len(finished(person, f"/api/runs/{run['id']}")["trades"])
        calm = person.ask("POST", f"/api/strategies/{made['id']}/duplicate?mirror=false")
        dials = [
            {"paths": ["leave/0/percent"], "text": "4 to 52 by 2"}, {"paths": ["leave/1/percent"], "text": "5 to 200 by 5"},
        ]  # fmt: skip
        few = {"start": "2026-11-02", "end": END, "cash": 100_000_000, "dials": dials}
        sweep = person.ask("POST", f"/api/strategies/{calm['id']}/sweeps", few)
        cells = len(finished(person, f"/api/sweeps/{sweep['id']}")["cells"])
        print(f"\na run of {trades} trades, a sweep of {cells} variants", flush=True)
        with signed_in(ADDRESS) as page:
            spread(
                f"Large results, {TIMES} times each, headless Chromium",
                {**of_run(page, made["id"]), **of_sweep(page, calm["id"])},
            )
    finally:
        for strategy in (row for row in person.ask("GET", "/api/strategies") if row["name"].startswith(BUSY["name"])):
            person.ask("DELETE", f"/api/strategies/{strategy['id']}")


def opened(page: Any, path: str, there: str) -> float:
    """From the shelf, the application just started, to a path of it."""
    page.goto(ADDRESS)
    page.get_by_role("link", name="Tide condor").first.wait_for()
    page.wait_for_timeout(1000)
    return until_drawn(page, f"({GOING})('{path}')", there)


def of_run(page: Any, strategy: int) -> dict[str, list[float]]:
    path = f"/strategies/{strategy}/backtest?run=1"
    rows = "document.querySelector('[role=table] [role=row][data-index]') && document.querySelector('[aria-label=Equity] canvas')"
    out = {"the run is opened: figures, curve, trades": [opened(page, path, rows) for _ in range(TIMES)]}
    page.goto(f"{ADDRESS}{path}&look=slices")
    page.get_by_role("region", name="By Weekday").wait_for()
    page.wait_for_timeout(2000)
    narrowed = []
    for day in range(TIMES):
        cell = f"document.querySelectorAll('[aria-label=\"By Weekday\"] tbody button')[{day % 5}]"
        for there in (True, False):
            chosen = f"{'' if there else '!'}document.querySelector('[aria-label=\"Chosen trades\"]')"
            narrowed.append(until_drawn(page, f"{cell}.click()", chosen))
            page.wait_for_timeout(700)
    return {
        **out,
        "its trades are narrowed down to a weekday for the first time, and widened again": narrowed[:10],
        "and again": narrowed[10:],
    }


def of_sweep(page: Any, strategy: int) -> dict[str, list[float]]:
    path = f"/strategies/{strategy}/backtest?sweep=1"
    tiles = "document.querySelectorAll('[aria-label=Variants] button').length >= 1000"
    out = {"the sweep's map is opened": [opened(page, path, tiles) for _ in range(TIMES)]}
    shown = "document.querySelector('[aria-label=\"Sweep 1\"] button.pill')"
    coloured = [
        until_drawn(page, f"{shown}.click()", f"{shown}.getAttribute('aria-pressed') == '{turn}'")
        for turn in ("true", "false") * (TIMES // 2)
    ]
    return {**out, "the map shows something else": coloured}


if __name__ == "__main__":
    run()

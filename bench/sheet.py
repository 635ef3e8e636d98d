"""The sheet in the browser, while it runs: start ./strell demo first, then ./strell bench sheet.

A request that computes nothing; what the rules would do, decision by decision; from the key that changes a value to what
the rules would now do being drawn, on a copy of the demo's strangle, which is taken away again; and from a click on the
shelf, with nothing kept from before, to every decision time of the condor's last run over three years being drawn.
"""

from __future__ import annotations

from typing import Any

from bench.browser import signed_in, spread
from bench.person import ADDRESS, Person, health

TIMES = 25
ASKED = """async ([path, n]) => {
  const out = [];
  for (let i = 0; i < n; i++) {
    const began = performance.now();
    await (await fetch(path)).text();
    out.push(performance.now() - began);
  }
  return out;
}"""
BACK = """async ([path, n]) => {
  const out = [];
  let at = (await (await fetch(path)).json()).neighbours.before;
  for (let i = 0; i < n; i++) {
    const began = performance.now();
    const found = await (await fetch(`${path}?at=${at}`)).json();
    out.push(performance.now() - began);
    at = found.neighbours.before ?? at;
  }
  return out;
}"""
DRAWN = """() => {
  window.__drawn = null;
  const picked = document.querySelector("table");
  document.addEventListener("keydown", (event) => {
    if (event.key !== "Enter") return;
    const began = performance.now();
    const seen = new MutationObserver(() => {
      seen.disconnect();
      requestAnimationFrame(() => { window.__drawn = performance.now() - began; });
    });
    seen.observe(picked, { subtree: true, childList: true, characterData: true, attributes: true });
  }, { capture: true, once: true });
}"""
TOLD = """() => {
  window.__told = null;
  const title = () => document.querySelector('section[aria-label="Decision times"] b').textContent;
  const before = title();
  document.addEventListener("keydown", (event) => {
    if (event.key !== "Enter") return;
    const began = performance.now();
    const seen = new MutationObserver(() => {
      if (title() === before) return;
      seen.disconnect();
      requestAnimationFrame(() => { window.__told = performance.now() - began; });
    });
    seen.observe(document.body, { subtree: true, childList: true, characterData: true });
  }, { capture: true, once: true });
}"""
STRIP = """(name) => {
  const began = performance.now();
  const strip = () => document.querySelector('section[aria-label="Decision times"] svg');
  window.__drawn = null;
  const seen = new MutationObserver(() => {
    if (!strip()) return;
    seen.disconnect();
    requestAnimationFrame(() => { window.__drawn = performance.now() - began; });
  });
  seen.observe(document.body, { subtree: true, childList: true });
  [...document.querySelectorAll("a")].find((link) => link.textContent.includes(name)).click();
}"""


def run() -> None:
    if health(ADDRESS) is None:
        print(f"\n(nothing runs at {ADDRESS}: start ./strell demo to measure the sheet)")
        return
    person = Person(ADDRESS, "demo", "harbour-lantern")
    first = min(person.ask("GET", "/api/strategies"), key=lambda row: row["id"])
    copy = person.ask("POST", f"/api/strategies/{first['id']}/duplicate?mirror=false")
    try:
        measured = _in_the_browser(copy["id"])
    finally:
        person.ask("DELETE", f"/api/strategies/{copy['id']}")
    spread(f"The sheet, {TIMES} times each, headless Chromium", measured)


def _in_the_browser(strategy: int) -> dict[str, list[float]]:
    with signed_in(ADDRESS) as page:
        out = {
            "a request that computes nothing": page.evaluate(ASKED, ["/api/me", TIMES]),
            "what the rules would do": page.evaluate(BACK, [f"/api/strategies/{strategy}/preview", TIMES]),
        }
        page.goto(f"{ADDRESS}/strategies/{strategy}/rules")
        page.get_by_text("answered in").wait_for()
        edits = [_edited(page, turn) for turn in range(TIMES)]
        out["from changing a delta to what the rules would do now"] = [drawn for drawn, _ in edits]
        out["from changing a delta to every decision time over three years"] = [told for _, told in edits]
        out["from changing a profit target to every decision time over three years"] = [
            _changed(page, "%", f"{(30, 60)[turn % 2] + turn}") for turn in range(TIMES)
        ]
        out["from the shelf to every decision time of a run over three years"] = [_strip(page) for _ in range(TIMES)]
    return out


def _strip(page: Any) -> float:
    page.goto(ADDRESS)
    page.get_by_role("link", name="Tide condor").first.wait_for()
    page.wait_for_timeout(1000)
    page.evaluate(STRIP, "Tide condor")
    return float(page.wait_for_function("() => window.__drawn", timeout=5000).json_value())


def _edited(page: Any, turn: int) -> tuple[float, float]:
    """Milliseconds from the key to the preview, and to the strip of decisions, being drawn."""
    page.evaluate(DRAWN)
    told = _changed(page, "0.", f"0.{20 + turn % 10}" if turn % 2 else f"0.{35 + turn % 10}")
    return float(page.wait_for_function("() => window.__drawn", timeout=5000).json_value()), told


def _changed(page: Any, shown: str, value: str) -> float:
    """The first value that reads so, changed; milliseconds until the strip is of the new revision."""
    page.wait_for_timeout(1500)
    page.locator("[data-sentence] .value").filter(has_text=shown).first.click()
    page.get_by_role("dialog").locator("input[inputmode=decimal]").first.fill(value)
    page.evaluate(TOLD)
    page.keyboard.press("Enter")
    return float(page.wait_for_function("() => window.__told", timeout=10_000).json_value())


if __name__ == "__main__":
    run()

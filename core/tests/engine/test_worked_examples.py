"""The worked examples of docs/engine-semantics.md, run as they stand on the page."""

from __future__ import annotations

import re
import unittest
from decimal import Decimal
from pathlib import Path
from typing import Any

import yaml

from strell_core.engine.plan import make_plan
from strell_core.engine.run import History, run_blocks, run_steps
from strell_core.market.calendars import marrowick
from strell_core.market.prices import parts_to_price
from strell_core.scenario.generator import MK30
from strell_core.strategy.document import normalise, parse
from tests.engine.plain_recording import Recording
from tests.engine.reference import Reference
from tests.handmade import session_chains, timeline_of

PAGE = Path(__file__).resolve().parents[3] / "docs" / "engine-semantics.md"
BLOCK = re.compile(r"```yaml example\n(.*?)```", re.S)
CASH = Decimal(50_000)


class PlainLoader(yaml.SafeLoader):
    """YAML whose dates and times stay texts."""


PlainLoader.yaml_implicit_resolvers = {
    first: [(tag, pattern) for tag, pattern in found if tag != "tag:yaml.org,2002:timestamp"]
    for first, found in yaml.SafeLoader.yaml_implicit_resolvers.items()
}


def examples() -> list[dict[str, Any]]:
    return [yaml.load(text, Loader=PlainLoader) for text in BLOCK.findall(PAGE.read_text())]


def whole(strategy: dict[str, Any]) -> dict[str, Any]:
    """The example's sentences with what it leaves out."""
    times = {"rule": "decision_times", "weekdays": ["mon"], "time": "15:45"}
    filled = {"enter": [times], "leave": [], "orders": [], **strategy}
    if not any(rule["rule"] == "open_limit" for rule in filled["enter"]):
        filled["enter"] = [*filled["enter"], {"rule": "open_limit", "limit": 1}]
    return normalise({"name": "example", "underlying": "MK30", "size": [{"rule": "fixed_lots", "lots": 1}], **filled})


def local(at: int) -> str:
    return marrowick().local(at).strftime("%Y-%m-%d %H:%M")


class WorkedExamplesTest(unittest.TestCase):
    def kinds(self, document: dict[str, Any]) -> dict[str, str]:
        own = {s["id"]: s["rule"] for s in (*document["leave"], *document["limits"], *document["orders"])}
        return own | {"settlement": "settlement"}

    def of_engine(
        self, history: History, document: dict[str, Any], wanted: list[dict[str, Any]]
    ) -> list[dict[str, Any]]:
        kinds = self.kinds(document)
        out = []
        for t, want in zip(history.closed, wanted, strict=True):
            found: dict[str, Any] = {
                "entered": local(t.opened_at), "decided": local(t.left_at), "closed": local(t.closed_at),
                "by": kinds[t.rule], "pnl": float(t.pnl),
            }  # fmt: skip
            if "also" in want:
                found["also"] = [kinds[rule] for rule in t.also]
            if "legs" in want:
                prices = {
                    leg.contract.code.removeprefix("MK30/"): [
                        float(parts_to_price(p, MK30.quantum)) for p in (leg.opened_parts, leg.closed_parts)
                    ]
                    for leg in t.legs
                }
                found["legs"] = prices
            out.append(found)
        return out

    def check(self, example: dict[str, Any]) -> None:
        document = whole(example["strategy"])
        chains = session_chains(example["snapshots"], example.get("settlements"))
        timeline = timeline_of(chains)
        plan = make_plan(parse(document), timeline)
        wanted = example["trades"]
        for method in (run_steps, run_blocks):
            history = method(plan, timeline, 0, len(timeline.times), CASH)
            self.assertEqual(self.of_engine(history, document, wanted), wanted, method.__name__)
            if "decisions" in example:
                decisions = [
                    f"{local(r.at)} {r.kind}" for r in history.reasons if r.kind in ("entry", "no entry", "skipped")
                ]
                self.assertEqual(decisions, example["decisions"])
            if "open" in example:
                self.assertEqual(len(history.state.trades), example["open"])
        closes = {session.date: session.close for session in marrowick().sessions}
        reference = Reference(document, Recording(chains, closes, MK30.rate), CASH)
        reference.run()
        kinds = self.kinds(document)
        plain = [
            {
                "entered": local(t["opened"]),
                "decided": local(t["left"]),
                "closed": local(t["closed"]),
                "by": kinds[t["rule"]],
                "pnl": float(t["cash"]),
            }
            for t in reference.closed
        ]
        self.assertEqual(
            plain, [{key: want[key] for key in ("entered", "decided", "closed", "by", "pnl")} for want in wanted]
        )

    def test_every_example_on_the_page(self) -> None:
        found = examples()
        self.assertGreaterEqual(len(found), 13)
        for example in found:
            with self.subTest(example["title"]):
                self.check(example)

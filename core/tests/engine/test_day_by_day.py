"""What is decided while a session is being recorded, on the history and what came since, is what the whole history decides
(semantics rules 2 and 15)."""

import dataclasses
import unittest
from decimal import Decimal

from django.test import tag

from strell_core.engine.plain import to_plain
from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_steps
from strell_core.engine.stored import dump
from strell_core.formats import cubes
from strell_core.market.chains import SessionChain
from strell_core.market.continued import continued
from strell_core.market.timeline import Timeline
from strell_core.scenario.generator import MK30
from strell_core.strategy.document import normalise, parse
from tests.demo import SHORT, chains, marrowick
from tests.drawn import at_least, drawn
from tests.engine.test_forty import documents

SESSIONS = 2
CASH = Decimal(250_000)

LOOKS_BACK = normalise({
    "strell": 2, "name": "Looks back", "underlyings": ["MK30"],
    "entries": [{
        "id": "entry", "when": [{"rule": "every_minutes", "minutes": 30, "from": "10:00", "until": "16:00", "weekdays": ["mon", "tue", "wed", "thu", "fri"]}],
        "conditions": [
            {"rule": "open_limit", "limit": 20},
            {"rule": "condition", "left": {"measure": "skew"}, "is": "above",
             "right": {"measure": "scaled", "of": {"measure": "statistic", "which": "median", "of": {"measure": "skew"}, "sessions": 40}, "times": 0.5}},
            {"rule": "condition", "left": {"measure": "rsi", "sessions": 9, "bars": "15"}, "is": "at least", "right": 35},
        ],
        "legs": [{
            "rule": "leg", "side": "sell", "right": "put", "ratio": 1,
            "strike": {"pick": "nearest_delta", "delta": 0.2}, "expiry": {"pick": "nearest_days", "days": 10, "from": 5, "to": 18},
        }],
        "size": [{"rule": "fixed_lots", "lots": 1}],
    }],
    "leave": [
        {"rule": "condition", "as": "loss", "left": {"measure": "price"}, "is": "below",
         "right": {"measure": "scaled", "of": {"measure": "at_entry", "of": {"measure": "price"}}, "times": 0.998}},
        {"rule": "condition", "as": "profit", "left": {"measure": "move_since_entry"}, "is": "above", "right": 0.2},
    ],
})  # fmt: skip
"""A sheet whose every sentence rests on what was recorded before today."""


def begun(chain: SessionChain, snapshots: int) -> SessionChain:
    """A session's first snapshots."""
    return dataclasses.replace(
        chain, times=chain.times[:snapshots], spot=chain.spot[:snapshots], forward=chain.forward[:, :snapshots],
        bid=chain.bid[:, :snapshots], ask=chain.ask[:, :snapshots], iv=chain.iv[:, :snapshots],
    )  # fmt: skip


def growing(known: list[SessionChain], coming: list[SessionChain]) -> list[Timeline]:
    """What is known at every snapshot of the coming sessions."""
    base, out = cubes.in_memory(known, MK30, marrowick(), "past"), []
    for chain in coming:
        for count in range(1, len(chain.times) + 1):
            unfinished = count < len(chain.times)
            now = cubes.in_memory([begun(chain, count)], MK30, marrowick(), f"{count}", unfinished=unfinished)
            out.append(continued(base, now))
        base = continued(base, cubes.in_memory([chain], MK30, marrowick(), f"{chain.date}"))
    return out


@tag("long")
class DayByDayTest(unittest.TestCase):
    def test_forty_strategies_over_two_sessions(self) -> None:
        sessions = list(chains(SHORT))
        whole = cubes.in_memory(sessions, MK30, marrowick(), "whole")
        begin, end = int(whole.first[-1 - SESSIONS]), int(whole.first[-1])
        timelines = growing(sessions[:-SESSIONS], sessions[-SESSIONS:])
        self.assertEqual(len(timelines), end - begin)
        sheets = {**dict(drawn(documents().items(), 0.4)), "looks back": LOOKS_BACK}
        decided = {}
        for name, document in sheets.items():
            if document["underlyings"] != ["MK30"]:
                continue
            with self.subTest(name):
                plan = make_plan(parse(document), whole)
                once = run_steps(plan, whole, begin, end, CASH)
                state, reasons, intents = None, [], []
                for index, timeline in enumerate(timelines, begin):
                    part = run_steps(plan, timeline, index, index + 1, CASH, state=state)
                    state = part.state
                    reasons += part.reasons
                    intents += part.intents
                self.assertEqual(to_plain(reasons), to_plain(once.reasons))
                self.assertEqual(to_plain(intents), to_plain(once.intents))
                self.assertEqual(dump(state), dump(once.state))
                decided[name] = len(intents)
        self.assertGreater(sum(decided.values()), at_least(60, 0.4))
        self.assertGreater(decided["looks back"], 3)

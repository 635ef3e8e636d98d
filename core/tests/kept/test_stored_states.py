"""Engine states of every version are read, and an engine goes on from them as the one that wrote them did."""

from __future__ import annotations

import json
import unittest
from decimal import Decimal

import numpy as np

from strell_core.engine.plain import to_plain
from strell_core.engine.plan import make_plan
from strell_core.engine.record import Record
from strell_core.engine.run import run_blocks, run_steps
from strell_core.engine.state import EngineState
from strell_core.engine.stored import StoredStateError, closed_trade, dump, load, order_of
from strell_core.strategy.document import parse
from tests.demo import short_history
from tests.engine.test_forty import documents
from tests.engine.variations import variations
from tests.kept.decisions import HERE, NOT_LIMITED

SAMPLES = json.loads((HERE / "format1" / "states.json").read_text())


def _at(state: EngineState) -> tuple[object, ...]:
    """What a state holds and waits for, whatever it earned before."""
    return (
        state.next_trade,
        [(t.number, t.legs_held, t.opening) for t in state.trades],
        [(o.id, o.type) for o in state.orders],
    )


class StoredStateTest(unittest.TestCase):
    def test_states_of_version_1_go_on_as_if_never_written(self) -> None:
        """To the end as a run that was never written does, where today's rules would have come to that state; and
        as steps do from it, where they would not: rules that were kept may be ones that have changed."""
        timeline, reached = short_history(), 0
        for name, sample in SAMPLES.items():
            with self.subTest(name):
                raw = json.loads(sample["state"])
                state = load(sample["state"], "MK30")
                self.assertEqual([order.purpose for order in state.orders], [order["kind"] for order in raw["orders"]])
                self.assertEqual(
                    {leg.contract.underlying for trade in state.trades for leg in trade.legs} or {"MK30"}, {"MK30"}
                )
                self.assertEqual(load(dump(state), "MK30"), state, "and is written in the present version")
                plan = make_plan(parse({**variations()[name.split(":")[0]], "limits": [NOT_LIMITED]}), timeline)
                begin = int(np.searchsorted(timeline.times, sample["at"], side="right"))
                end = len(timeline.times)
                rest = run_blocks(plan, timeline, begin, end, Decimal(50_000), state=state)
                self.assertTrue(rest.closed or rest.state.trades, "nothing came of it")
                steps = run_steps(plan, timeline, begin, end, Decimal(50_000), state=state)
                self.assertEqual(to_plain(rest.closed), to_plain(steps.closed))
                self.assertEqual(dump(rest.state), dump(steps.state))
                today = run_blocks(plan, timeline, 0, begin, Decimal(50_000)).state
                if _at(today) != _at(state):
                    continue
                reached += 1
                whole = run_blocks(plan, timeline, 0, end, Decimal(50_000))
                for mine, first in zip(reversed(rest.closed), reversed(whole.closed), strict=False):
                    self.assertEqual(to_plain(mine), to_plain(first))
                self.assertEqual(rest.state.cash - state.cash, whole.state.cash - today.cash)
        self.assertGreaterEqual(reached, len(SAMPLES) - 3)

    def test_version_3_remembers_nothing_of_how_trades_ended(self) -> None:
        now = {
            key: value
            for key, value in json.loads(dump(EngineState(Decimal(7)))).items()
            if key not in ("outcomes", "record", "rests")
        }
        state = load(json.dumps({**now, "version": 3}), "MK30")
        self.assertEqual((state.cash, state.outcomes, state.record, state.rests), (Decimal(7), (), Record(), ()))

    def test_version_4_did_not_count_adjustments_but_kept_what_they_closed(self) -> None:
        timeline = short_history()
        plan = make_plan(parse(documents()["52-butterfly-that-follows-the-market"]), timeline)
        history, cut = None, 0
        for cut in range(len(timeline.dates) // 2, len(timeline.dates)):
            history = run_blocks(plan, timeline, 0, int(timeline.first[cut]), Decimal(250_000))
            if any(trade.adjustments > 1 for trade in history.state.trades):
                break
        assert history is not None
        now = json.loads(dump(history.state))
        self.assertEqual(now["version"], 5)
        trades = [{k: v for k, v in trade.items() if k != "adjustments"} for trade in now["trades"]]
        self.assertGreater(max(trade["adjustments"] for trade in now["trades"]), 1)
        self.assertEqual(load(json.dumps({**now, "version": 4, "trades": trades}), "MK30"), history.state)

    def test_what_no_version_wrote_is_refused(self) -> None:
        for text in ("", "{}", "[]", '{"version": 9}', '{"version": 2, "cash": "x"}', '{"version": "two"}'):
            with self.assertRaises(StoredStateError, msg=text):
                load(text, "MK30")

    def test_trades_and_orders_of_version_1(self) -> None:
        sample = next(s for name, s in SAMPLES.items() if name.endswith("leaving"))
        raw = next(o for o in json.loads(sample["state"])["orders"] if o["kind"] == "close")
        order = order_of(raw, "MK30")
        self.assertEqual((order.type, order.urgency, order.whole, order.entry), ("market", "now", True, "entry"))
        self.assertEqual(order_of(to_plain(order), "MK30"), order)
        timeline = short_history()
        plan = make_plan(parse(variations()["strangle"]), timeline)
        trade = run_blocks(plan, timeline, 0, len(timeline.times), Decimal(50_000)).closed[0]
        old = {key: value for key, value in to_plain(trade).items() if key not in ("entry", "reentries")}
        old["legs"] = [{**leg, "contract": leg["contract"].removeprefix("MK30/")} for leg in old["legs"]]
        self.assertEqual(closed_trade(old, "MK30"), trade)

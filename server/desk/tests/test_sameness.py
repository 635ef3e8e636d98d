"""Backtest, replay and a paper deployment say the same on the same snapshots, byte for byte (semantics rule 15)."""

from __future__ import annotations

import dataclasses
import json
from decimal import Decimal

from django.test import tag

from desk import deployments, services
from desk.compare import DECISIONS, compare
from desk.deployed import plan_of
from desk.models import Decision, Deployment
from desk.tests.desk import DeskTestCase
from market.timelines import fold_in, timeline
from runs.models import Run
from strategies import services as strategies
from strell_core.engine.advance import advance
from strell_core.engine.plain import to_plain
from strell_core.engine.run import run_blocks, run_steps
from strell_core.engine.state import EngineState
from strell_core.engine.stored import dump, fill_of, load, order_of
from strell_core.market.market import Observation
from strell_core.market.timeline import Timeline
from tests.drawn import WHOLE, at_least, drawn
from tests.engine.test_day_by_day import LOOKS_BACK
from tests.engine.test_forty import documents
from tests.engine.variations import variations
from venue import clock
from venue.live import recorded

SESSIONS = 10 if WHOLE else 6
TOGETHER = (6, 27, 54, 9, 103)
"""Snapshots between two looks of the desk, session by session: how many are decided on together changes nothing."""


def plain(value: object) -> str:
    return json.dumps(to_plain(value), sort_keys=True)


@tag("long")
class SamenessTest(DeskTestCase):
    def deploy(self) -> list[Deployment]:
        account = services.open_account(self.mara, "Everything", "paper", "MK30", Decimal(900_000_000))
        services.set_limits(self.mara, account.pk, dict.fromkeys(account.limits))
        out = []
        managed = [document for name, document in documents().items() if name[:2] in ("61", "66")]
        for document in (*drawn(variations().values(), 0.4), LOOKS_BACK, *managed):
            strategy = strategies.create(self.mara, document)
            history = timeline("MK30")
            Run.objects.create(
                strategy=strategy, revision=strategy.latest, number=1, start=history.dates[0], end=history.dates[-1],
                cash=Decimal(50_000), status=Run.Status.DONE,
            )  # fmt: skip
            made = deployments.promote(self.mara, strategy.pk, account.pk, 1, {}, True)
            out.append(deployments.arm(self.mara, made.pk))
        return out

    def lived_again(
        self, deployment: Deployment, history: Timeline, begin: int, end: int, restore: bool
    ) -> tuple[list[tuple[str, str]], str]:
        """What ``advance`` says on a history's snapshots, told the same fills; with the state after."""
        told = {row.at: row for row in deployment.decisions.all()}
        plan = plan_of(deployment, history)
        first = deployment.decisions.order_by("at").first()
        state: EngineState = load(first.before, "MK30")
        said = []
        for index in range(begin, end):
            row = told.get(int(history.times[index]))
            fills = [fill_of(raw) for raw in row.fills] if row else []
            if row and row.orders:
                state = dataclasses.replace(
                    state, orders=(*state.orders, *(order_of(raw, "MK30") for raw in row.orders))
                )
            made = advance(plan, state, Observation(history, index), fills)
            state = load(dump(made.state), "MK30") if restore else made.state
            said.append((plain(made.reasons), plain(made.intents)))
        return said, dump(state)

    def test_fifteen_strategies_over_ten_sessions(self) -> None:
        armed = self.deploy()
        first_day = self.venue().session
        for number in range(SESSIONS):
            if number:
                clock.next_session(self.mara, "MK30")
            self.close_session(every=TOGETHER[number % len(TOGETHER)])
        live = recorded("MK30")
        since, until = live.span(first_day, live.dates[-1])
        times = live.times[since:].tolist()
        self.assertEqual(len(live.dates) - live.session_index(first_day), SESSIONS)
        fold_in(self.venue().underlying)
        history = timeline("MK30")
        begin, end = history.span(first_day, live.dates[-1])
        self.assertEqual(history.times[begin:end].tolist(), times)
        entries = exits = 0
        for place, deployment in enumerate(armed):
            with self.subTest(deployment.revision.document["name"]):
                deployment.refresh_from_db()
                rows = {row.at: row for row in Decision.objects.filter(deployment=deployment)}
                lived = []
                for at in times:
                    row = rows.get(at)
                    lived.append((plain(row.reasons), plain(row.intents)) if row else ("[]", "[]"))
                entries += sum('"kind": "entry"' in reasons for reasons, _ in lived)
                exits += sum('"kind": "left"' in reasons for reasons, _ in lived)
                for stage, where, a, b, restore in (
                    ("replay", live, since, until, False), ("backtest", history, begin, end, True),
                ):  # fmt: skip
                    said, state = self.lived_again(deployment, where, a, b, restore)
                    self.assertEqual(said, lived, stage)
                    self.assertEqual(state, deployment.state, stage)
                plan = plan_of(deployment, history)
                steps, blocks = (
                    run(plan, history, begin, end, Decimal(50_000)) for run in (run_steps, run_blocks)
                )  # fmt: skip
                self.assertEqual((plain(steps.reasons), dump(steps.state)), (plain(blocks.reasons), dump(blocks.state)))
                # what its page sets beside a backtest is all that was said that day
                date = live.dates[place % SESSIONS - SESSIONS]
                reasons = [reason for row in rows.values() if row.session == date for reason in row.reasons]
                said = sum(reason["kind"] in DECISIONS for reason in reasons)
                beside = compare(deployment, date)["rows"]
                self.assertEqual(sum(row["lived"] is not None for row in beside), said)
        self.assertGreater(entries, at_least(20, 0.4), "the test is about something")
        self.assertGreaterEqual(exits, at_least(4, 0.4))

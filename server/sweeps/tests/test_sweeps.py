"""Sweeps: asking, every cell a run, cancelling and going on, workers that die."""

from __future__ import annotations

import dataclasses
import datetime as dt
import threading
import time
from decimal import Decimal
from typing import Any
from unittest.mock import patch

import numpy as np
from procrastinate.contrib.django.models import ProcrastinateJob

from config.tests.demo import DemoTestCase
from runs import work as run_work
from runs.models import Run, Variant
from strell_core.market.market import Market
from strell_core.results import variant
from sweeps import services, work
from sweeps.models import Cell, Part, Sweep

DELTAS = ["entries/0/legs/0/strike/delta", "entries/0/legs/1/strike/delta"]
TARGET = "leave/0/percent"


class SweepTestCase(DemoTestCase):
    def body(self, *dials: tuple[list[str], str], **more: Any) -> dict[str, Any]:
        return {
            "start": "2026-09-01", "end": "2026-11-18", "dials": [{"paths": paths, "text": text} for paths, text in dials],
            **more,
        }  # fmt: skip

    def ask(self, *dials: tuple[list[str], str], **more: Any) -> Sweep:
        status, made = self.send("post", f"/strategies/{self.strategy.pk}/sweeps", self.body(*dials, **more))
        self.assertEqual(status, 200, made)
        return Sweep.objects.get(pk=made["id"])

    def carried_out(self, sweep: Sweep) -> dict[str, Any]:
        for part in sweep.parts.all():
            work.carry_out(part.pk)
        return self.send("get", f"/sweeps/{sweep.pk}")[1]


class AskTest(SweepTestCase):
    def test_what_can_be_varied(self) -> None:
        _, found = self.send("get", f"/strategies/{self.strategy.pk}/dials")
        delta = next(place for place in found if place["path"] == DELTAS[0])
        self.assertEqual((delta["sentence"], delta["text"], delta["kind"]), (3, "0.20", "number"))
        time = next(place for place in found if place["path"] == "entries/0/when/0/time")
        self.assertEqual((time["sentence"], time["value"]), (1, "15:45"))

    def test_what_makes_no_sense_is_told_where_it_stands(self) -> None:
        for body, path, words in (
            (self.body(), "dials", "One to 4"),
            (self.body(([TARGET], "soon")), "dials/0/values", "soon"),
            (self.body(([TARGET], "")), "dials/0/values", "write values"),
            (self.body((["nowhere"], "1")), "dials/0", "not in the sheet"),
            (self.body(([TARGET], "40"), ([TARGET], "50")), "dials/1", "varied once"),
            (self.body(([DELTAS[0], TARGET], "0.2")), "dials/0/paths", "of one kind"),
            (self.body(([DELTAS[0], "nowhere"], "0.2")), "dials/0/paths", "of one kind"),
            (self.body(([DELTAS[0]], "0.01 to 0.50"), ([DELTAS[1]], "0.01 to 0.50")), "dials", "2 500 variants are too many"),
            (self.body(([TARGET], "40"), start="2030-01-01", end="2030-02-01"), "start", "There is no data"),
            (self.body(([TARGET], "40, 50, 60"), drawn=0), "count", "One to"),
        ):  # fmt: skip
            status, told = self.send("post", f"/strategies/{self.strategy.pk}/sweeps", body)
            self.assertEqual((status, told["problems"][0]["path"]), (422, path), told)
            self.assertIn(words, told["message"])
        self.assertEqual(Sweep.objects.count(), 0)

    def test_too_many_at_once(self) -> None:
        with patch.object(services, "MAX_ACTIVE", 1):
            self.ask(([TARGET], "40"))
            status, told = self.send("post", f"/strategies/{self.strategy.pk}/sweeps", self.body(([TARGET], "40")))
        self.assertEqual(status, 409)
        self.assertIn("cancel it", told["message"])

    def test_values_that_are_called_the_same_are_told_apart_by_their_sentences(self) -> None:
        sweep = self.ask(([DELTAS[0]], "0.10, 0.20"), ([DELTAS[1]], "0.15, 0.20"), ([TARGET], "40, 60"))
        _, found = self.send("get", f"/sweeps/{sweep.pk}")
        labels = ["Delta (3)", "Delta (4)", "Share of the credit"]
        self.assertEqual([dial["label"] for dial in found["dials"]], labels)

    def test_its_parts_are_enqueued_with_its_rows(self) -> None:
        with patch.object(services, "PART", 2):
            sweep = self.ask((DELTAS, "0.10, 0.20, 0.30"), ([TARGET], "40, 60"))
        self.assertEqual(list(sweep.parts.values_list("first", "last")), [(0, 2), (2, 4), (4, 6)])
        jobs = ProcrastinateJob.objects.filter(task_name="sweeps.execute")
        self.assertEqual({job.args["part_id"] for job in jobs}, set(sweep.parts.values_list("pk", flat=True)))


class CellsTest(SweepTestCase):
    def test_every_cell_is_the_run_that_it_opens_as(self) -> None:
        sweep = self.ask((DELTAS, "0.10, 0.20"), ([TARGET], "40, 80"))
        found = self.carried_out(sweep)
        self.assertEqual((found["status"], found["cells_done"], found["cells_count"]), ("done", 4, 4))
        self.assertEqual([dial["label"] for dial in found["dials"]], ["Delta", "Share of the credit"])
        self.assertEqual((found["dials"][0]["sentences"], found["dials"][0]["now"]), ([3, 4], 1))
        for cell in found["cells"]:
            status, made = self.send("post", f"/sweeps/{sweep.pk}/cells/{cell['place']}/run")
            self.assertEqual((status, made["status"]), (200, "queued"))
            run_work.carry_out(made["id"])
            run = Run.objects.get(pk=made["id"])
            self.assertEqual({name: run.figures[name] for name in cell["figures"]}, cell["figures"])
            again = self.send("post", f"/sweeps/{sweep.pk}/cells/{cell['place']}/run")[1]
            self.assertEqual(again["id"], made["id"], "the same run")
            self.assertIn("delta 0.", again["variant"])
        self.assertEqual(Variant.objects.filter(strategy=self.strategy).count(), 4, "all were tried")
        self.assertEqual(self.send("get", f"/strategies/{self.strategy.pk}")[1]["track"]["last_run"], None)
        whole = self.send("get", f"/runs/{made['id']}")[1]
        self.assertFalse(whole["outdated"])
        self.assertIn("80 %", " ".join("".join(t["text"] for t in s["tokens"]) for s in whole["sheet"]))
        if whole["trades"]:
            status, told = self.send(
                "post", "/replays", {"run": made["id"], "trade": whole["trades"][0]["number"], "cash": "50000"}
            )
            self.assertEqual(status, 422)
            self.assertIn("Take its values into the sheet", told["message"])

    def test_neighbours_and_luck(self) -> None:
        sweep = self.ask((DELTAS, "0.10 to 0.30 by 0.05"))
        found = self.carried_out(sweep)
        sharpe = [cell["figures"]["sharpe"] for cell in found["cells"]]
        self.assertAlmostEqual(found["cells"][2]["near"]["sharpe"], sum(sharpe[1:4]) / 3)
        self.assertAlmostEqual(found["cells"][0]["near"]["sharpe"], sum(sharpe[:2]) / 2)
        self.assertEqual((found["luck"]["variants"], found["luck"]["sharpe"]), (5, max(sharpe)))
        self.assertIsNone(found["luck"]["overfit"], "too short to cut into parts")
        daily = np.frombuffer(bytes(sweep.cells.first().daily), "<f4")
        self.assertAlmostEqual(
            50_000 * float(np.prod(1 + daily.astype(float))), found["cells"][0]["figures"]["final_equity"], delta=1
        )

    def test_walking_forward_through_its_variants(self) -> None:
        sweep = self.ask(([TARGET], "30, 50, 70"))
        self.assertEqual(self.send("get", f"/sweeps/{sweep.pk}/walk")[0], 422, "not done yet")
        self.carried_out(sweep)
        status, found = self.send("get", f"/sweeps/{sweep.pk}/walk?train=40&test=8")
        self.assertEqual(status, 200, found)
        history = self.history()
        own = [date.isoformat() for date in history.dates if date >= dt.date(2026, 9, 1)]
        self.assertEqual((found["dates"], len(found["equity"])), (own[40:], len(own) - 40))
        self.assertEqual([found["steps"][0][name] for name in ("train_from", "test_from")], [own[0], own[40]])
        places = {step["place"] for step in found["steps"]}
        self.assertLessEqual(places, {0, 1, 2})
        self.assertEqual(len(found["beside"]), len(found["equity"]), "the sheet's own values are one of them")
        daily = np.frombuffer(bytes(sweep.cells.get(place=1).daily), "<f4")
        self.assertAlmostEqual(found["beside"][-1], 100 * float(np.prod(1 + daily[40:].astype(float))), places=2)
        for query, words in (
            ("train=500&test=8", "too few"),
            ("train=3", "At least 40"),
            ("train=40&test=0", "At least 5"),
        ):
            status, answer = self.send("get", f"/sweeps/{sweep.pk}/walk?{query}")
            self.assertEqual(status, 422)
            self.assertIn(words, answer["message"])
        Sweep.objects.filter(pk=sweep.pk).update(start=dt.date(2026, 9, 8))
        self.assertIn("have changed", self.send("get", f"/sweeps/{sweep.pk}/walk?train=40&test=8")[1]["message"])

    def test_rules_that_cannot_be_run_say_why_and_stop_nobody_else(self) -> None:
        sweep = self.ask((["entries/0/legs/0/expiry/days"], "10, 300"))
        found = self.carried_out(sweep)
        self.assertEqual(found["status"], "done")
        self.assertIn("300 days lie outside of", found["cells"][1]["problem"])
        status, told = self.send("post", f"/sweeps/{sweep.pk}/cells/1/run")
        self.assertEqual(status, 422)
        self.assertIn("cannot be run", told["message"])
        self.assertEqual(self.send("post", f"/sweeps/{sweep.pk}/cells/7/run")[0], 404)

    def test_an_error_of_ours_is_told_at_its_cell(self) -> None:
        sweep = self.ask(([TARGET], "40, 60"))
        with patch.object(work, "_outcome", side_effect=ZeroDivisionError), self.assertLogs("strell.sweeps", "ERROR"):
            found = self.carried_out(sweep)
        self.assertIn("worker's log", found["cells"][0]["problem"])
        self.assertIsNone(found["luck"])

    def test_some_by_chance_and_what_has_no_neighbours(self) -> None:
        sweep = self.ask((["entries/0/legs/0/side"], "Sell, Buy"), ([TARGET], "20 to 90 by 10"), drawn=3)
        found = self.carried_out(sweep)
        self.assertEqual((found["cells_done"], found["drawn"]), (3, 3))
        self.assertEqual([dial["steps"] for dial in found["dials"]], [False, True])


class PartsTest(SweepTestCase):
    def test_cancelled_it_stops_and_goes_on_where_it_was(self) -> None:
        with patch.object(services, "PART", 2):
            sweep = self.ask(([TARGET], "40 to 90 by 10"))
        first, second, _ = sweep.parts.all()
        real = work._compute

        def cancelled(known: Any, cell: Cell) -> Any:
            self.send("post", f"/sweeps/{sweep.pk}/cancel")
            return real(known, cell)

        with patch.object(work, "_compute", cancelled), patch.object(work, "STORE_EVERY", 0):
            work.carry_out(first.pk)
        work.carry_out(second.pk)
        self.assertEqual(sweep.cells.exclude(done_at=None).count(), 1)
        _, found = self.send("get", f"/sweeps/{sweep.pk}")
        self.assertEqual((found["status"], found["cells_done"]), ("cancelled", 1))
        kept = sweep.cells.first().done_at
        self.assertEqual(self.send("post", f"/sweeps/{sweep.pk}/go-on")[1]["status"], "running")
        self.assertEqual(self.send("post", f"/sweeps/{sweep.pk}/go-on")[0], 409)
        self.assertEqual(self.carried_out(sweep)["status"], "done")
        self.assertEqual(sweep.cells.first().done_at, kept, "what was there is not computed again")

    def test_a_part_whose_job_died_with_a_worker_before_it_began_is_asked_for_again(self) -> None:
        sweep = self.ask(([TARGET], "40, 50"))
        part = sweep.parts.get()
        self.assertEqual(work.recover(), 0, "its job is there")
        # procrastinate lets nobody change a job but itself: as if a worker had taken this one, and was killed
        ProcrastinateJob.objects.all().delete()
        self.assertEqual(work.recover(), 1)
        self.assertEqual(ProcrastinateJob.objects.get(task_name="sweeps.execute").args, {"part_id": part.pk})
        self.assertEqual(work.recover(), 0, "once")
        self.assertEqual(self.carried_out(sweep)["status"], "done")
        self.assertEqual(work.recover(), 0)

    def test_a_dead_workers_part_is_taken_up_after_its_last_cell(self) -> None:
        sweep = self.ask(([TARGET], "40, 50, 60"))
        part = sweep.parts.get()
        computed: list[int] = []
        real = work._compute

        def dies(known: Any, cell: Cell) -> Any:
            if len(computed) == 1:
                raise KeyboardInterrupt
            computed.append(cell.place)
            return real(known, cell)

        with patch.object(work, "_compute", dies), self.assertRaises(KeyboardInterrupt):
            work.carry_out(part.pk)
        self.assertEqual(work.recover(), 0, "its lease holds")
        Part.objects.update(lease_until=dt.datetime.now(dt.UTC) - dt.timedelta(seconds=1))
        ProcrastinateJob.objects.all().delete()
        self.assertEqual(work.recover(), 1)
        self.assertEqual(ProcrastinateJob.objects.get(task_name="sweeps.execute").args, {"part_id": part.pk})
        with patch.object(work, "_compute", lambda known, cell: (computed.append(cell.place), real(known, cell))[1]):
            work.carry_out(part.pk)
        self.assertEqual(computed, [0, 1, 2])
        part.refresh_from_db()
        self.assertEqual((part.status, part.attempts), ("done", 2))
        work.carry_out(part.pk)
        self.assertEqual(computed, [0, 1, 2], "a second time there is nothing to do")

    def test_a_worker_that_came_late_changes_nothing(self) -> None:
        """Its lease ran out, another took the part: what is stored stays."""
        sweep = self.ask(([TARGET], "40"))
        part = sweep.parts.get()
        real = work._outcome

        def overtaken(known: Any, document: dict[str, Any]) -> Any:
            with patch.object(work, "_outcome", real):
                Part.objects.update(status=Part.Status.QUEUED)
                work.carry_out(part.pk)
            kept.append(Cell.objects.get().done_at)
            return real(known, document)

        kept: list[Any] = []
        with patch.object(work, "_outcome", overtaken):
            work.carry_out(part.pk)
        self.assertEqual(Cell.objects.get().done_at, kept[0])
        part.refresh_from_db()
        self.assertEqual((part.status, part.attempts), ("done", 2))

    def test_parts_of_one_sweep_share_and_where_that_errs_the_engine_is_right(self) -> None:
        with patch.object(services, "PART", 3):
            sweep = self.ask(([TARGET], "20 to 70 by 10"))
        with patch.object(variant.Variants, "run", autospec=True, side_effect=variant.Variants.run) as ran:
            self.carried_out(sweep)
        self.assertEqual(len({id(call.args[0]) for call in ran.call_args_list}), 1)
        kept = {cell.place: (cell.figures, bytes(cell.daily)) for cell in sweep.cells.all()}

        def wrong(plan: Any, told: Any, *asked: Any) -> Any:
            return dataclasses.replace(real(plan, told, *asked), open_trades=7)

        real = variant._brief
        sweep.cells.update(done_at=None, figures=None, daily=b"")
        sweep.parts.update(status=Part.Status.QUEUED)
        Sweep.objects.update(status=Sweep.Status.RUNNING)
        work._KEPT.clear()
        with patch.object(variant, "_brief", wrong), self.assertLogs("strell.sweeps", "ERROR") as said:
            self.carried_out(sweep)
        self.assertEqual(len(said.output), 1)
        self.assertIn("open_trades differ from the engine's, which is used", said.output[0])
        again = {cell.place: (cell.figures, bytes(cell.daily)) for cell in sweep.cells.all()}
        self.assertEqual(again, kept)

    def test_parts_side_by_side_share_too_and_take_turns(self) -> None:
        sweep = self.ask(([TARGET], "40"))
        market, found, inside, most = Market(self.history()), set(), [], []

        def computes() -> None:
            for _ in range(20):
                with work._shared(sweep, market, 0, len(market.main.times)) as cells:
                    found.add(id(cells))
                    inside.append(cells)
                    most.append(len(inside))
                    time.sleep(0.001)
                    inside.pop()

        both = [threading.Thread(target=computes) for _ in range(2)]
        for thread in both:
            thread.start()
        for thread in both:
            thread.join()
        self.assertEqual((len(found), len(most), max(most)), (1, 40, 1))

    def test_a_deleted_one_comes_back_for_a_day(self) -> None:
        sweep = self.ask(([TARGET], "40"))
        self.assertEqual(self.send("delete", f"/sweeps/{sweep.pk}")[0], 409, "it is under way")
        self.carried_out(sweep)
        self.assertEqual(self.send("delete", f"/sweeps/{sweep.pk}")[0], 204)
        self.assertEqual(self.send("get", f"/sweeps/{sweep.pk}")[0], 404)
        self.assertEqual(self.send("get", f"/strategies/{self.strategy.pk}/sweeps")[1], [])
        self.assertEqual(self.send("post", f"/sweeps/{sweep.pk}/restore", client=self.other)[0], 404)
        self.assertEqual(self.send("post", f"/sweeps/{sweep.pk}/restore")[1]["cells_done"], 1)
        self.send("delete", f"/sweeps/{sweep.pk}")
        self.assertEqual(services.forget(), 0)
        Sweep.objects.update(deleted_at=dt.datetime.now(dt.UTC) - dt.timedelta(days=2))
        self.assertEqual(services.forget(), 1)

    def test_of_another_nothing_is_seen(self) -> None:
        sweep = services.ask(
            self.mara, self.strategy.pk, dt.date(2026, 9, 1), dt.date(2026, 9, 30), Decimal(50_000), [([TARGET], "40")]
        )
        for method, path in (
            ("get", ""), ("post", "/cancel"), ("post", "/go-on"), ("delete", ""), ("post", "/cells/0/run"),
        ):  # fmt: skip
            self.assertEqual(self.send(method, f"/sweeps/{sweep.pk}{path}", client=self.other)[0], 404)

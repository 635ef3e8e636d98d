"""Decisions of a sheet as it stands: those of its run, before anybody runs it."""

import copy
import fcntl
import tempfile
from pathlib import Path
from typing import Any
from unittest.mock import patch

import numba

from config.tests.demo import DemoTestCase
from runs import strip
from runs.warm import is_compiling
from strategies import services as strategies


class StripTest(DemoTestCase):
    def setUp(self) -> None:
        super().setUp()
        strip._told.clear()

    def strip(self) -> tuple[int, Any]:
        return self.send("get", f"/strategies/{self.strategy.pk}/strip")

    def edited(self, percent: int) -> None:
        changed = copy.deepcopy(self.strategy.latest.document)
        changed["leave"][0]["percent"] = percent
        strategies.revise(self.mara, self.strategy.pk, changed, self.strategy.latest.number)

    def test_it_says_what_the_run_says_and_follows_every_change(self) -> None:
        strip._kept.clear()
        for percent in (50, 35, 70):
            self.edited(percent)
            status, found = self.strip()
            self.assertEqual((status, found["revision"]), (200, self.strategy.latest.number))
            run = self.send("get", f"/runs/{self.finished_run().pk}")[1]
            self.assertEqual(found["decisions"], run["decisions"])
            self.assertEqual((found["start"], found["end"]), (run["start"], run["end"]))
        self.assertEqual(len(strip._kept), 1, "one market, whatever the sheet says")

    def test_what_only_the_engine_can_tell(self) -> None:
        changed = copy.deepcopy(self.strategy.latest.document)
        changed["limits"] = [
            {"rule": "no_entry", "left": {"measure": "losses_in_a_row"}, "is": "at least", "right": 1.0}
        ]
        strategies.revise(self.mara, self.strategy.pk, strategies.checked(changed), 1)
        _, found = self.strip()
        run = self.send("get", f"/runs/{self.finished_run().pk}")[1]
        self.assertEqual(found["decisions"], run["decisions"])

    def test_what_is_held_back_is_not_told(self) -> None:
        held = self.history().dates[-20]
        self.assertEqual(self.send("put", f"/strategies/{self.strategy.pk}/held-back", {"since": f"{held}"})[0], 200)
        _, found = self.strip()
        self.assertLess(found["end"], f"{held}")
        self.assertLess(found["decisions"][-1]["local"], f"{held}")

    def test_what_takes_too_long_is_left_to_a_backtest(self) -> None:
        strip._kept.clear()
        with patch.object(strip, "LONGEST_SECONDS", 0.0):
            status, told = self.strip()
        self.assertEqual((status, "run a backtest" in told["message"]), (422, True))
        self.assertEqual(self.strip()[0], 200)

    def test_while_functions_are_compiled_after_an_update_it_says_so(self) -> None:
        with tempfile.TemporaryDirectory() as folder, patch.object(numba.config, "CACHE_DIR", folder):
            self.assertFalse(is_compiling(), "nobody ever did")
            with (Path(folder) / "compiling").open("w") as lock:
                fcntl.flock(lock, fcntl.LOCK_EX)
                self.assertTrue(is_compiling())
                status, told = self.strip()
                self.assertEqual((status, "in a minute" in told["message"]), (422, True))
            self.assertFalse(is_compiling(), "whoever did has ended")

    def test_it_is_its_owners_and_an_old_question_is_not_computed(self) -> None:
        self.assertEqual(self.send("get", f"/strategies/{self.strategy.pk}/strip", client=self.other)[0], 404)
        real = strip._period

        def later(*about: Any) -> Any:
            strip._newest[self.mara.pk, self.strategy.pk] = object()
            return real(*about)

        with patch.object(strip, "_period", later):
            self.assertEqual(self.strip()[0], 409)
        self.assertEqual(self.strip()[0], 200)

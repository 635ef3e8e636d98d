"""What people say of runs: names, notes, tags; archived ones, and the one that others are compared with."""

from __future__ import annotations

from config.tests.demo import DemoTestCase
from runs.models import Run


class WordsTest(DemoTestCase):
    def say(self, run: Run, **words):
        return self.send("patch", f"/runs/{run.pk}", words)

    def test_what_is_said_stays_and_what_is_not_said_too(self) -> None:
        run = self.finished_run()
        status, said = self.say(
            run, name="  wide wings ", note="Before the fee change.", tags=["wide", " keep ", "wide"]
        )
        self.assertEqual(
            (status, said["name"], said["note"], said["tags"]),
            (200, "wide wings", "Before the fee change.", ["wide", "keep"]),
        )
        said = self.say(run, archived=True)[1]
        self.assertEqual((said["name"], said["archived"]), ("wide wings", True))
        (listed,) = self.send("get", f"/strategies/{self.strategy.pk}/runs")[1]
        self.assertEqual((listed["name"], listed["archived"], listed["figures"]), ("wide wings", True, said["figures"]))
        self.assertEqual(self.send("get", "/runs/latest")[1], [], "what is archived is not offered")
        self.assertEqual(self.say(run, archived=False, name="")[1]["name"], "")
        self.assertEqual([row["id"] for row in self.send("get", "/runs/latest")[1]], [run.pk])

    def test_one_run_of_a_strategy_is_the_baseline(self) -> None:
        first, second = self.finished_run(), self.finished_run()
        self.say(first, baseline=True)
        self.assertTrue(self.say(second, baseline=True)[1]["baseline"])
        rows = self.send("get", f"/strategies/{self.strategy.pk}/runs")[1]
        self.assertEqual([row["number"] for row in rows if row["baseline"]], [second.number])
        self.say(second, baseline=False)
        self.assertFalse(Run.objects.filter(baseline=True).exists())

    def test_a_run_without_a_result_is_no_baseline(self) -> None:
        run = self.finished_run()
        Run.objects.filter(pk=run.pk).update(status=Run.Status.CANCELLED)
        status, answer = self.say(run, baseline=True)
        self.assertEqual(status, 409)
        self.assertIn("has no result to compare with", answer["message"])
        self.assertEqual(self.say(run, name="stopped early")[0], 200)

    def test_what_is_too_much_is_refused_and_changes_nothing(self) -> None:
        run = self.finished_run()
        self.say(run, name="mine")
        for words in (
            {"name": "x" * 81},
            {"note": "x" * 5001},
            {"tags": ["t"] * 13},
            {"tags": ["x" * 31]},
            {"tags": [" "]},
            {"title": "x"},
        ):
            self.assertEqual(self.say(run, **words)[0], 422, words)
        self.assertEqual(self.send("patch", f"/runs/{run.pk}", {"name": "yours"}, client=self.other)[0], 404)
        run.refresh_from_db()
        self.assertEqual(run.name, "mine")

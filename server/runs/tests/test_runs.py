"""Backtests: asking, results, cancelling, and surviving a worker that dies."""

from __future__ import annotations

import copy
import csv
import datetime as dt
import io
import tempfile
from decimal import Decimal
from pathlib import Path
from unittest.mock import patch

from django.core.management import CommandError, call_command
from django.db import connection
from django.test import SimpleTestCase
from procrastinate.contrib.django.models import ProcrastinateJob

from config.tests.demo import EXAMPLES, DemoTestCase, document
from market.models import SessionChainRow, Underlying
from runs import services, work
from runs.models import Run, RunTrade
from runs.queries import DECIDING_SHARE, doing
from runs.schemas import TradeRow
from strategies import services as strategies
from strell_core.engine.run import run_blocks
from strell_core.strategy.document import normalise


class AskTest(DemoTestCase):
    def ask(self, **body):
        whole = {"start": "2026-09-01", "end": "2026-11-18", **body}
        return self.send("post", f"/strategies/{self.strategy.pk}/runs", whole)

    def test_the_job_is_enqueued_with_its_row(self) -> None:
        status, run = self.ask()
        self.assertEqual((status, run["status"], run["number"]), (200, "queued", 1))
        job = ProcrastinateJob.objects.get(task_name="runs.execute")
        self.assertEqual(job.args, {"run_id": run["id"]})
        self.assertEqual([r["id"] for r in self.send("get", "/runs")[1]], [run["id"]])

    def test_requests_that_make_no_sense(self) -> None:
        for body, path, words in (
            ({"start": "2026-11-01", "end": "2026-10-01"}, "end", "lies before the start"),
            ({"start": "2031-01-01", "end": "2031-02-01"}, "start", "There is no data between"),
            ({"start": "2020-01-01", "end": "2020-02-01"}, "start", "recorded is"),
            ({"start": "2026-10-10", "end": "2026-10-11"}, "start", "no session between"),
            ({"cash": 10}, "cash", "Starting cash"),
            ({"method": "magic"}, "method", "blocks or steps"),
        ):
            status, answer = self.ask(**body)
            self.assertEqual((status, answer["problems"][0]["path"]), (422, path), body)
            self.assertIn(words, answer["message"])
        for body in ({"start": "soon"}, {"cash": "much"}, {"end": None}):
            self.assertEqual(self.ask(**body)[0], 422)
        self.assertEqual(Run.objects.count(), 0)

    def test_too_many_at_once(self) -> None:
        with patch.object(services, "MAX_ACTIVE", 2):
            self.ask()
            self.ask()
            status, body = self.ask()
        self.assertEqual(status, 409)
        self.assertIn("cancel it", body["message"])


class ResultTest(DemoTestCase):
    def test_each_decision_says_whose_it_is_where_there_are_several_entries(self) -> None:
        rules = document()
        other = copy.deepcopy(rules["entries"][0])
        other["id"], other["when"][0]["time"] = "later", "16:30"
        rules["entries"][0]["id"] = "first"
        for part in ("when", "conditions", "legs", "checks", "size"):
            for rule in other[part]:
                rule["id"] = f"{rule['id']}-b"
        for leg in other["legs"]:
            for pick in (leg["strike"], leg["expiry"]):
                if "leg" in pick:
                    pick["leg"] = f"{pick['leg']}-b"
        rules["entries"].append(other)
        run = self.finished_run(strategies.create(self.mara, normalise(rules)))
        found = self.send("get", f"/runs/{run.pk}")[1]["decisions"]
        self.assertEqual({row["entry"] for row in found}, {"first", "later"})
        self.assertEqual({row["local"][-5:] for row in found if row["entry"] == "later"} - {"17:30"}, {"16:30"})
        alone = self.send("get", f"/runs/{self.finished_run().pk}")[1]["decisions"]
        self.assertEqual({row["entry"] for row in alone}, {""})
        (first, *_) = self.send("get", f"/runs/{run.pk}")[1]["trades"]
        self.assertEqual(set(first), set(TradeRow.model_fields), "what was kept is what the API says")
        csv_rows = self.client.get(f"/api/runs/{run.pk}/decisions.csv").content.decode().splitlines()
        self.assertIn("entry", csv_rows[0])

    def test_a_trade_s_history_is_whole_on_its_page_and_in_the_file(self) -> None:
        run = self.finished_run()
        rows = self.client.get(f"/api/runs/{run.pk}/history.csv").content.decode().splitlines()
        self.assertEqual(rows[0], "trade,time,what,sentence,times,contract,contracts,price,amount,text")
        for trade in run.trades.all():
            status, found = self.send("get", f"/runs/{run.pk}/trades/{trade.number}")
            self.assertEqual(status, 200)
            events = found["events"]
            self.assertAlmostEqual(sum(event["amount"] for event in events), found["row"]["pnl"], places=2)
            self.assertEqual([event["title"] for event in events[:2]], ["Entry decided", "Opened"])
            left = next((event for event in events if event["kind"] == "left"), None)
            if left is not None:
                self.assertIn(found["row"]["reason"], left["text"])
                self.assertEqual(left["sentence"], found["row"]["sentence"])
            for leg in found["legs"]:
                self.assertTrue(leg["opened_shown"] and leg["closed_shown"])
            dealt = sum(max(1, len(event["dealt"])) for event in events)
            self.assertEqual(sum(row.startswith(f"{trade.number},") for row in rows[1:]), dealt)
        self.assertEqual(self.send("get", f"/runs/{run.pk}/trades/1", client=self.other)[0], 404)
        run.trades.update(kept=b"")
        self.assertIsNone(self.send("get", f"/runs/{run.pk}/trades/1")[1]["events"])

    def test_figures_curve_trades_decisions_and_manifest(self) -> None:
        run = self.finished_run()
        _, found = self.send("get", f"/runs/{run.pk}")
        self.assertEqual(len(found["curve"]["dates"]), 90)
        self.assertEqual(found["figures"]["trades_count"], len(found["trades"]))
        self.assertAlmostEqual(found["curve"]["equity"][-1], found["figures"]["final_equity"], places=2)
        held, years = found["curve"]["holding"], 90 / 252
        self.assertAlmostEqual((held[-1] / 50_000) ** (1 / years) - 1, found["figures"]["holding_cagr"], places=4)
        self.assertEqual(
            {d["kind"] for d in found["decisions"]},
            {"entry", "no entry", "skipped"} & {d["kind"] for d in found["decisions"]},
        )
        self.assertEqual(found["manifest"]["chains"], self.history().digest)
        trade = found["trades"][-1]
        self.assertEqual(trade["sentence"], next(s.number for s in _sheet(run) if s.id == trade["rule"]))
        self.assertRegex(trade["reason"], r"\d")

    def test_the_same_manifest_gives_the_same_results(self) -> None:
        first, second = self.finished_run(), self.finished_run()
        self.assertEqual(first.manifest, second.manifest)
        self.assertEqual(first.figures, second.figures)
        self.assertEqual([t.trade for t in first.trades.all()], [t.trade for t in second.trades.all()])

    def test_steps_and_blocks_keep_the_same_trades(self) -> None:
        blocks, steps = self.finished_run(), self.finished_run(method="steps")
        self.assertEqual([t.trade for t in blocks.trades.all()], [t.trade for t in steps.trades.all()])

    def test_a_trade_in_full(self) -> None:
        run = self.finished_run()
        row = run.trades.order_by("-number").first()
        _, found = self.send("get", f"/runs/{run.pk}/trades/{row.number}")
        self.assertEqual(len(found["legs"]), 2)
        net = sum(leg["pnl"] for leg in found["legs"]) - found["row"]["costs"]
        self.assertAlmostEqual(net, found["row"]["pnl"], places=2)
        self.assertAlmostEqual(found["path"]["pnl"][-1], sum(leg["pnl"] for leg in found["legs"]), places=2)
        self.assertIsNotNone(found["legs"][0]["entry"]["delta"])
        later = self.send("get", f"/runs/{run.pk}/trades/{row.number}?at={found['nearest']}")[1]["payoff"]
        self.assertEqual(later["now"], later["expiration"])
        self.assertEqual(self.send("get", f"/runs/{run.pk}/trades/9999")[0], 404)

    def test_a_trade_stays_readable_when_its_data_is_gone(self) -> None:
        run = self.finished_run()
        number = run.trades.first().number
        _, whole = self.send("get", f"/runs/{run.pk}")
        _, before = self.send("get", f"/runs/{run.pk}/trades/{number}")
        self.assertGreater(len(before["path"]["pnl"]), 1)
        self.assertIsNotNone(before["payoff"]["chance_of_profit"])
        SessionChainRow.objects.filter(underlying__symbol="MK30").update(current=False)
        Underlying.objects.filter(symbol="MK30").update(data_digest="")
        status, after = self.send("get", f"/runs/{run.pk}/trades/{number}")
        self.assertEqual((status, after), (200, before))
        self.assertEqual(self.send("get", f"/runs/{run.pk}")[1]["decisions"], whole["decisions"])
        status, later = self.send("get", f"/runs/{run.pk}/trades/{number}?at={before['nearest']}")
        self.assertEqual((status, later["payoff"]["at"]), (200, before["nearest"]))
        self.assertEqual(later["payoff"]["now"], later["payoff"]["expiration"])

    def test_what_is_kept_is_what_the_data_says(self) -> None:
        """A run that was stored before trades kept their pages shows them from today's data: the same."""
        run = self.finished_run()
        for trade in run.trades.all()[:4]:
            kept = self.send("get", f"/runs/{run.pk}/trades/{trade.number}")[1]
            RunTrade.objects.filter(pk=trade.pk).update(kept=b"")
            # its history is the run's own: no data tells it again
            self.assertEqual(self.send("get", f"/runs/{run.pk}/trades/{trade.number}")[1], {**kept, "events": None})

    def test_without_what_there_may_be_thousands_of(self) -> None:
        run = self.finished_run()
        whole = self.send("get", f"/runs/{run.pk}")[1]
        self.assertTrue(whole["trades"] and whole["decisions"])
        self.assertEqual(self.send("get", f"/runs/{run.pk}?without=decisions")[1], {**whole, "decisions": []})
        self.assertEqual(self.send("get", f"/runs/{run.pk}?without=trades")[1], {**whole, "trades": []})
        self.assertEqual(self.send("get", f"/runs/{run.pk}?without=figures")[0], 422)

    def test_trades_as_csv(self) -> None:
        run = self.finished_run()
        answer = self.client.get(f"/api/runs/{run.pk}/trades.csv")
        rows = list(csv.DictReader(io.StringIO(answer.content.decode(), newline="")))
        self.assertEqual(len(rows), 2 * run.trades.count())
        self.assertEqual(rows[0]["trade_pnl"], str(run.trades.first().row["pnl"]))

    def test_a_run_in_which_nothing_was_entered(self) -> None:
        never = document()
        never["entries"][0]["conditions"].append(
            {"rule": "when_rsi", "sessions": 14, "comparison": "above", "level": 100}
        )
        run = self.finished_run(strategies.create(self.mara, strategies.checked(never)))
        _, found = self.send("get", f"/runs/{run.pk}")
        self.assertEqual((found["trades"], found["figures"]["trades_count"], found["figures"]["mar"]), ([], 0, None))
        self.assertRegex(found["decisions"][-1]["text"], r"sentence 3 said no: \d+\.\d+, needs above 100")
        self.assertEqual(self.client.get(f"/api/runs/{run.pk}/trades.csv").status_code, 200)

    def test_a_single_session(self) -> None:
        history = self.history()
        run = services.ask(self.mara, self.strategy.pk, history.dates[-1], history.dates[-1], Decimal(50_000), "blocks")
        work.carry_out(run.pk)
        self.assertEqual(self.send("get", f"/runs/{run.pk}")[1]["figures"]["sessions"], 1)


def _sheet(run: Run):
    from strell_core.strategy.sentences import sheet

    return sheet(run.revision.document).sentences


class CommandTest(DemoTestCase):
    def backtest(self, *arguments: str) -> str:
        out = io.StringIO()
        call_command("backtest", *arguments, stdout=out)
        return out.getvalue()

    def test_a_file_gives_the_figures_that_a_run_gives(self) -> None:
        run = self.finished_run()
        said = self.backtest(str(EXAMPLES / "harbour-strangle.yaml"))
        self.assertIn(f"{run.figures['final_equity']:,.2f}", said)
        self.assertIn(f"Trades                    {run.figures['trades_count']}", said)

    def test_mistakes_are_named(self) -> None:
        broken = Path(tempfile.mkdtemp()) / "broken.yaml"
        broken.write_text((EXAMPLES / "harbour-strangle.yaml").read_text().replace("delta: 0.2", "delta: 3"))
        good = str(EXAMPLES / "harbour-strangle.yaml")
        for arguments, words in (
            ((str(broken),), "line 17: Delta must lie between"),
            (("missing.yaml",), "cannot be read"),
            ((good, "--start", "2030-01-01", "--end", "2030-02-01"), "There is no data between"),
            ((good, "--cash", "5"), "Starting cash"),
        ):
            with self.assertRaisesRegex(CommandError, words):
                self.backtest(*arguments)


class CancelTest(DemoTestCase):
    def queued(self) -> Run:
        history = self.history()
        return services.ask(self.mara, self.strategy.pk, history.dates[0], history.dates[-1], Decimal(50_000), "blocks")

    def test_a_queued_run_is_cancelled_at_once_and_never_started(self) -> None:
        run = self.queued()
        self.assertEqual(self.send("post", f"/runs/{run.pk}/cancel")[1]["status"], "cancelled")
        work.carry_out(run.pk)
        run.refresh_from_db()
        self.assertEqual(run.status, Run.Status.CANCELLED)

    def test_a_running_run_stops_where_it_is(self) -> None:
        run = self.queued()

        def asked_to_stop(*args, **kwargs):
            Run.objects.filter(pk=run.pk).update(cancel_requested=True)
            return run_blocks(*args, **kwargs)

        with patch.object(work, "run_blocks", asked_to_stop), patch.object(work, "REPORT_EVERY", 0.0):
            work.carry_out(run.pk)
        run.refresh_from_db()
        self.assertEqual((run.status, run.trades.count()), (Run.Status.CANCELLED, 0))
        self.assertEqual(self.send("post", f"/runs/{run.pk}/go-on")[1]["status"], "queued")
        work.carry_out(run.pk)
        run.refresh_from_db()
        self.assertEqual(run.status, Run.Status.DONE)

    def test_a_deleted_run_is_gone_from_every_page_and_can_be_brought_back_for_a_day(self) -> None:
        run = self.finished_run()
        self.assertEqual(self.send("post", f"/runs/{run.pk}/restore", {}, client=self.other)[0], 404)
        self.assertEqual(self.send("delete", f"/runs/{run.pk}")[0], 204)
        self.assertEqual(self.send("get", f"/strategies/{self.strategy.pk}/runs")[1], [])
        for path in ("", "/trades/1"):
            self.assertEqual(self.send("get", f"/runs/{run.pk}{path}")[0], 404, path)
        self.assertEqual(services.forget(), 0)
        status, back = self.send("post", f"/runs/{run.pk}/restore", {})
        self.assertEqual((status, back["number"]), (200, run.number))
        self.assertEqual(len(self.send("get", f"/runs/{run.pk}")[1]["trades"]), run.trades.count())
        self.send("delete", f"/runs/{run.pk}")
        body = {"start": "2026-09-01", "end": "2026-11-18"}
        _, later = self.send("post", f"/strategies/{self.strategy.pk}/runs", body)
        self.assertEqual(later["number"], run.number + 1, "its number is not given to another")
        Run.objects.filter(pk=run.pk).update(deleted_at=dt.datetime.now(dt.UTC) - dt.timedelta(days=2))
        self.assertEqual(services.forget(), 1)
        self.assertEqual(self.send("post", f"/runs/{run.pk}/restore", {})[0], 404)

    def test_a_finished_run_cannot_go_on_and_an_active_one_cannot_be_deleted(self) -> None:
        run = self.queued()
        self.assertEqual(self.send("delete", f"/runs/{run.pk}")[0], 409)
        self.assertEqual(self.send("post", f"/runs/{run.pk}/go-on")[0], 409)
        work.carry_out(run.pk)
        self.assertEqual(self.send("post", f"/runs/{run.pk}/go-on")[0], 409)
        self.assertEqual(self.send("delete", f"/runs/{run.pk}")[0], 204)
        self.assertEqual(self.send("get", f"/runs/{run.pk}")[0], 404)


class DeadWorkerTest(DemoTestCase):
    def died(self, attempts: int) -> Run:
        """A run as a killed worker leaves it: running, its lease past."""
        history = self.history()
        run = services.ask(self.mara, self.strategy.pk, history.dates[0], history.dates[-1], Decimal(50_000), "blocks")
        Run.objects.filter(pk=run.pk).update(
            status=Run.Status.RUNNING, attempts=attempts, progress=0.4,
            lease_until=dt.datetime.now(dt.UTC) - dt.timedelta(seconds=1),
        )  # fmt: skip
        return run

    def test_it_is_queued_again_and_finished(self) -> None:
        run = self.died(attempts=1)
        with connection.cursor() as cursor:
            cursor.execute("DELETE FROM procrastinate_jobs")
        self.assertEqual(services.recover(), 1)
        job = ProcrastinateJob.objects.get(task_name="runs.execute")
        work.carry_out(job.args["run_id"])
        run.refresh_from_db()
        self.assertEqual((run.status, run.attempts), (Run.Status.DONE, 2))
        self.assertEqual(services.recover(), 0)

    def test_a_run_whose_job_died_with_a_worker_before_it_began_is_asked_for_again(self) -> None:
        dates = self.history().dates
        run = services.ask(self.mara, self.strategy.pk, dates[0], dates[20], Decimal(50_000), "blocks")
        self.assertEqual(services.recover(), 0, "its job is there")
        # as if a worker had taken it, and was killed
        ProcrastinateJob.objects.filter(task_name="runs.execute").delete()
        self.assertEqual(services.recover(), 1)
        job = ProcrastinateJob.objects.get(task_name="runs.execute")
        self.assertEqual(services.recover(), 0, "once")
        work.carry_out(job.args["run_id"])
        run.refresh_from_db()
        self.assertEqual((run.status, run.attempts), (Run.Status.DONE, 1))
        self.assertEqual(services.recover(), 0)

    def test_after_three_deaths_it_says_so_and_offers_to_go_on(self) -> None:
        run = self.died(attempts=3)
        services.recover()
        _, found = self.send("get", f"/runs/{run.pk}")
        self.assertEqual(found["status"], "interrupted")
        self.assertIn("Go on to try again", found["message"])
        self.assertEqual(self.send("post", f"/runs/{run.pk}/go-on")[1]["status"], "queued")

    def test_a_run_whose_lease_holds_is_left_alone(self) -> None:
        run = self.died(attempts=1)
        Run.objects.filter(pk=run.pk).update(lease_until=dt.datetime.now(dt.UTC) + dt.timedelta(seconds=9))
        self.assertEqual(services.recover(), 0)

    def test_carrying_out_twice_does_the_work_once(self) -> None:
        run = self.finished_run()
        before = list(run.trades.values_list("pk", flat=True))
        work.carry_out(run.pk)
        self.assertEqual(list(run.trades.values_list("pk", flat=True)), before)

    def test_an_error_of_ours_fails_the_run_and_says_where_to_look(self) -> None:
        run = self.died(attempts=0)
        Run.objects.filter(pk=run.pk).update(status=Run.Status.QUEUED)
        with patch.object(work, "report", side_effect=ZeroDivisionError), self.assertLogs("strell.runs", "ERROR"):
            work.carry_out(run.pk)
        run.refresh_from_db()
        self.assertEqual(run.status, Run.Status.FAILED)
        self.assertIn("worker's log", run.message)


class DoingTest(SimpleTestCase):
    def test_before_its_figures_a_run_says_that_it_makes_them(self) -> None:
        for status, share, stopping, words in (
            ("queued", 0.0, False, "waiting for a worker"), ("running", 0.0, False, "0 % of the snapshots decided"),
            ("running", 0.4, False, "50 % of the snapshots decided"), ("running", 0.4, True, "stopping"),
            ("running", DECIDING_SHARE, False, "working out figures"), ("running", 0.9, False, "working out figures and trades, 50 %"),
            ("done", 1.0, False, ""), ("failed", 0.5, True, ""),
        ):  # fmt: skip
            self.assertEqual(doing(status, share, stopping), words)

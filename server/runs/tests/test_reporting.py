"""Reports: one file that says what the run's pages say, needs nothing else, and takes no text for markup."""

from __future__ import annotations

import re
import tempfile
from io import StringIO
from pathlib import Path

from django.core.management import CommandError, call_command

from config.tests.demo import DemoTestCase, document
from runs.models import Run
from runs.reporting.content import cases, signed, written
from strategies import services as strategies
from strell_core.market.prices import grouped
from strell_core.results.figures import FIGURES

OUTWARD = re.compile(r"""(?:src|href)\s*=\s*["'](?!#)|@import|url\((?!#)|<script|<link""")


class ReportTest(DemoTestCase):
    def report(self, path: str, client=None) -> str:
        answer = (client or self.client).get(f"/api{path}")
        self.assertEqual((answer.status_code, answer["Content-Type"]), (200, "text/html; charset=utf-8"))
        self.assertIn("attachment", answer["Content-Disposition"])
        return answer.content.decode()

    def test_a_run_is_told_whole_and_from_nowhere_else(self) -> None:
        run = self.finished_run()
        Run.objects.filter(pk=run.pk).update(name="<b>$x_1$", note="a </table> & more", tags=["<i>"])
        text = self.report(f"/runs/{run.pk}/report.html")
        self.assertIsNone(OUTWARD.search(text))
        self.assertEqual(text.count("<svg"), 2)
        for words in ("&lt;b&gt;$x_1$", "a &lt;/table&gt; &amp; more", "&lt;i&gt;"):
            self.assertIn(words, text)
        self.assertNotIn("<b>$x_1$", text)
        for name in ("final_equity", "cagr", "sharpe", "trades_win_rate", "trades_worst"):
            self.assertIn(f">{written(FIGURES[name], run.figures[name])}</td>", text, name)
        for row in run.trades.values_list("row", flat=True):
            self.assertIn(signed(row["pnl"], 2), text)
        self.assertIn(run.manifest["chains"], text)
        self.assertIn(f"{grouped(run.figures['trades_count'])}</td>", text)
        self.assertIn("is expected by chance", text)

    def test_the_same_run_draws_the_same_pictures(self) -> None:
        run = self.finished_run()
        first, second = (
            re.findall(r"<svg.*?</svg>", self.report(f"/runs/{run.pk}/report.html"), re.S) for _ in range(2)
        )
        self.assertEqual(first, second)

    def test_a_run_without_a_trade_and_one_without_a_result(self) -> None:
        never = document()
        never["entries"][0]["conditions"].append(
            {"rule": "when_rsi", "sessions": 14, "comparison": "above", "level": 100}
        )
        run = self.finished_run(strategies.create(self.mara, strategies.checked(never)))
        self.assertIn("No trade was closed.", self.report(f"/runs/{run.pk}/report.html"))
        Run.objects.filter(pk=run.pk).update(status=Run.Status.FAILED)
        status, answer = self.send("get", f"/runs/{run.pk}/report.html")
        self.assertEqual(status, 422)
        self.assertIn("has no result to tell", answer["message"])
        self.assertEqual(self.send("get", f"/runs/{run.pk}/report.html", client=self.other)[0], 404)

    def test_runs_side_by_side(self) -> None:
        first = self.finished_run()
        raw = document()
        raw["leave"][0]["percent"] = 60
        strategies.revise(self.mara, self.strategy.pk, strategies.checked(raw), self.strategy.latest.number)
        second = self.finished_run()
        text = self.report(f"/compare/report.html?run={first.pk}&run={second.pk}")
        self.assertIsNone(OUTWARD.search(text))
        self.assertIn("60 % of the credit", text)
        self.assertIn("days both entered", text)
        for run in (first, second):
            self.assertIn(f">{written(FIGURES['sharpe'], run.figures['sharpe'])}</td>", text)
        self.assertEqual(self.client.get(f"/api/compare/report.html?run={first.pk}").status_code, 422)

    def test_from_the_command_line(self) -> None:
        first, second = self.finished_run(), self.finished_run()
        place = Path(tempfile.mkdtemp()) / "run.html"
        call_command("report", str(first.pk), "--out", str(place))
        self.assertIn(f"run {first.number}</h1>", place.read_text())
        out = StringIO()
        call_command("report", str(first.pk), str(second.pk), stdout=out)
        self.assertIn("Their rules are the same.", out.getvalue())
        for arguments, words in (
            (("999",), "no run 999"),
            ((str(first.pk), "--out", "/nowhere/x.html"), "cannot be written"),
        ):
            with self.assertRaisesRegex(CommandError, words):
                call_command("report", *arguments)

    def test_numbers_as_they_are_written(self) -> None:
        self.assertEqual(
            [signed(value) for value in (1234.4, -1234.5, 0.2, 0)], ["+1\u00a0234", "\u22121\u00a0234", "0", "0"]
        )
        self.assertEqual(
            [cases(share) for share in (0.001, 0.04, 0.4, 0.99)],
            ["fewer than 1 of 100 cases", "4 of 100 cases", "4 of 10 cases", "nearly every case"],
        )

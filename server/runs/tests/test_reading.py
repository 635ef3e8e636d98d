"""Reading a run: slices, luck, several side by side."""

from __future__ import annotations

import copy
import io
import json

import pandas as pd
import zstandard

from config.tests.demo import DemoTestCase
from runs.models import Run, Variant
from runs.slices import market_measures
from strategies import services as strategies


class SlicesTest(DemoTestCase):
    def get(self, run: Run, query: str = "", **more):
        return self.send("get", f"/runs/{run.pk}/slices{query}", **more)

    def test_cells_add_up_to_the_run(self) -> None:
        run = self.finished_run()
        status, found = self.get(run)
        self.assertEqual(status, 200)
        rows = list(run.trades.values_list("row", flat=True))
        self.assertEqual(found["trades"], [row["number"] for row in rows])
        self.assertAlmostEqual(found["chosen"]["total"], sum(row["pnl"] for row in rows), places=2)
        self.assertEqual(found["chosen"]["count"], run.figures["trades_count"])
        self.assertEqual(round(found["chosen"]["mean"], 2), run.figures["trades_expectancy"], "in whole cents")
        columns = {column["id"]: column for column in found["columns"]}
        self.assertLessEqual({"weekday", "exit", "held", "delta"}, set(columns))
        for column in columns.values():
            self.assertEqual(sum(cell["count"] for cell in column["cells"]), len(rows), column["id"])
        for cell in columns["exit"]["cells"]:
            self.assertRegex(cell["title"], r"^\d+  |settled", "a sentence and its number")

    def test_a_choice_leaves_its_trades_everywhere_else(self) -> None:
        run = self.finished_run()
        rows = list(run.trades.values_list("row", flat=True))
        day = rows[0]["weekday"]
        _, found = self.get(run, f"?choose=weekday:{day}")
        self.assertEqual(found["trades"], [row["number"] for row in rows if row["weekday"] == day])
        columns = {column["id"]: column for column in found["columns"]}
        self.assertEqual(sum(cell["count"] for cell in columns["exit"]["cells"]), len(found["trades"]))
        self.assertEqual(sum(cell["count"] for cell in columns["weekday"]["cells"]), len(rows))
        self.assertEqual([cell["key"] for cell in columns["weekday"]["cells"] if cell["chosen"]], [day])
        for query in ("?choose=weekday:Sun", "?choose=weekday", "?choose=nothing:x&choose=weekday:"):
            status, found = self.get(run, query)
            self.assertEqual(status, 200)

    def test_by_a_measure_as_it_stood_at_the_decision(self) -> None:
        run = self.finished_run()
        _, offered = self.send("get", "/slices/measures")
        self.assertLessEqual({"atm_iv", "iv_rank", "price", "minutes_since_open"}, {item["id"] for item in offered})
        _, found = self.get(run, "?measure=price")
        column = next(column for column in found["columns"] if column["id"] == "price")
        self.assertTrue(column["measure"])
        history = self.history()
        spots = {
            trade.trade["number"]: float(history.spot[history.at_or_before(trade.trade["decided_at"])]) / 100
            for trade in run.trades.all()
        }
        for cell in column["cells"]:
            inside = [n for n, spot in spots.items() if (cell["low"] or 0) <= spot < (cell["high"] or 1e9)]
            self.assertEqual(cell["count"], len(inside), cell)
            _, chosen = self.get(run, f"?measure=price&choose=price:{cell['key']}")
            self.assertEqual(chosen["trades"], sorted(inside))

    def test_what_cannot_be_asked(self) -> None:
        run = self.finished_run()
        for query, words in (
            ("?measure=magic", "no measure 'magic'"),
            ("?measure=a" + "&measure=price" * 7, "no measure"),
        ):
            status, told = self.get(run, query)
            self.assertEqual(status, 422)
            self.assertIn(words, told["message"])
        many = "&".join(f"measure={m.declaration.id}" for m in market_measures()[:7])
        self.assertIn("At most 6", self.get(run, f"?{many}")[1]["message"])
        run.status = Run.Status.FAILED
        run.save()
        self.assertIn("no result to slice", self.get(run)[1]["message"])
        self.assertEqual(self.get(run, client=self.other)[0], 404)

    def test_a_run_from_before_has_no_deltas_and_no_trades_no_columns(self) -> None:
        run = self.finished_run()
        for trade in run.trades.all():
            trade.row.pop("delta")
            trade.save()
        _, found = self.get(run)
        self.assertNotIn("delta", {column["id"] for column in found["columns"]})
        run.trades.all().delete()
        Run.objects.filter(pk=run.pk).update(finished_at=run.queued_at)
        _, found = self.get(run)
        self.assertEqual((found["columns"], found["trades"], found["chosen"]["count"]), ([], [], 0))


class FilesTest(DemoTestCase):
    def test_trades_equity_and_decisions_in_every_format(self) -> None:
        run = self.finished_run()
        rows = {"trades": 2 * run.trades.count(), "equity": 90, "decisions": len(run.decisions)}
        read = {"csv": pd.read_csv, "json": pd.read_json, "parquet": pd.read_parquet}
        for what, count in rows.items():
            for kind, reader in read.items():
                answer = self.client.get(f"/api/runs/{run.pk}/{what}.{kind}")
                self.assertEqual(answer.status_code, 200, f"{what}.{kind}")
                self.assertIn(f"run-1-{what}.{kind}", answer.headers["Content-Disposition"])
                self.assertEqual(len(reader(io.BytesIO(answer.content))), count, f"{what}.{kind}")
        equity = pd.read_csv(io.BytesIO(self.client.get(f"/api/runs/{run.pk}/equity.csv").content))
        self.assertAlmostEqual(float(equity.equity.iloc[-1]), run.figures["final_equity"], places=1)
        greeks = pd.read_csv(io.BytesIO(self.client.get(f"/api/runs/{run.pk}/greeks.csv").content))
        for trade in run.trades.filter(row__held__gte=2):
            own = greeks[greeks.trade == trade.number]
            first = own[own.date == trade.row["opened"][:10]]
            self.assertEqual(len(first), 2)
            detail = self.send("get", f"/runs/{run.pk}/trades/{trade.number}")[1]
            if trade.row["opened"][11:] == "17:30":
                # entered at the session's last snapshot: an option of 50 units a point
                for leg in detail["legs"]:
                    row = first[first.contract == leg["contract"]].iloc[0]
                    self.assertAlmostEqual(row.delta, 50 * leg["contracts"] * leg["entry"]["delta"], places=3)
                    self.assertAlmostEqual(row.iv, leg["entry"]["iv"], places=3)
        self.assertEqual(list(greeks.date), sorted(greeks.date))
        for name in ("trades.exe", "secrets.csv", "..csv"):
            self.assertEqual(self.client.get(f"/api/runs/{run.pk}/{name}").status_code, 404, name)
        self.assertEqual(self.other.get(f"/api/runs/{run.pk}/trades.csv").status_code, 404)

    def test_the_last_runs_are_found_by_name(self) -> None:
        first, second = self.finished_run(), self.finished_run()
        _, found = self.send("get", "/runs/latest")
        self.assertEqual([run["id"] for run in found], [second.pk, first.pk])
        self.assertEqual((found[0]["name"], found[0]["variant"]), ("Harbour strangle", ""))
        self.assertEqual(self.send("get", "/runs/latest", client=self.other)[1], [])


class FindTest(DemoTestCase):
    def test_a_trade_is_found_by_its_number_and_by_its_day(self) -> None:
        run = self.finished_run()
        trade = run.trades.last()
        (found,) = self.send("get", f"/runs/trades?number={trade.number}")[1]
        self.assertEqual((found["run"], found["trade"], found["pnl"]), (run.number, trade.number, trade.row["pnl"]))
        day = trade.row["opened"][:10]
        self.assertIn(trade.number, [item["trade"] for item in self.send("get", f"/runs/trades?on={day}")[1]])
        self.assertEqual(self.send("get", "/runs/trades")[1], [])
        self.assertEqual(self.send("get", f"/runs/trades?number={trade.number}", client=self.other)[1], [])
        self.send("patch", f"/runs/{run.pk}", {"archived": True})
        self.assertEqual(self.send("get", f"/runs/trades?number={trade.number}")[1], [])


class CourseTest(DemoTestCase):
    def test_months_add_up_and_rolling_figures_begin_when_there_is_enough(self) -> None:
        run = self.finished_run()
        _, found = self.send("get", f"/runs/{run.pk}/course")
        made = run.figures["final_equity"] - 50_000
        self.assertAlmostEqual(sum(month["pnl"] for month in found["months"]), made, places=1)
        self.assertEqual(len(found["dates"]), 90)
        self.assertEqual([value is None for value in found["sharpe"]], [True] * 62 + [False] * 28)
        self.assertEqual(len(found["won"]), len(found["closed"]))
        self.assertEqual(found["closed"], sorted(found["closed"]))
        self.assertEqual(self.send("get", f"/runs/{run.pk}/course", client=self.other)[0], 404)
        Run.objects.filter(pk=run.pk).update(status=Run.Status.CANCELLED)
        self.assertEqual(self.send("get", f"/runs/{run.pk}/course")[0], 422)


class CausesTest(DemoTestCase):
    def test_a_trades_causes_add_up_to_what_it_made(self) -> None:
        run = self.finished_run()
        rows = list(run.trades.values_list("row", flat=True))
        _, course = self.send("get", f"/runs/{run.pk}/course")
        for cause in ("price", "time", "volatility", "carry", "rest", "dealing", "costs"):
            self.assertAlmostEqual(course["causes"][cause], sum(row["causes"][cause] for row in rows), places=1)
        self.assertAlmostEqual(sum(course["causes"].values()), sum(row["pnl"] for row in rows), delta=0.5)
        for row in rows[:3]:
            _, trade = self.send("get", f"/runs/{run.pk}/trades/{row['number']}")
            told = trade["causes"]
            self.assertAlmostEqual(
                sum(sum(leg.values()) for leg in told["legs"]) + told["costs"], row["pnl"], delta=0.1
            )
            self.assertEqual(len(told["course"]["time"]), len(trade["path"]["at"]))
            self.assertAlmostEqual(told["course"]["time"][-1], row["causes"]["time"], delta=0.1)
            self.assertTrue(all(2 < vol < 100 for vols in told["vols"] for vol in vols if vol is not None))

    def test_a_trade_kept_before_they_were_told_is_read(self) -> None:
        run = self.finished_run()
        trade = run.trades.first()
        old = _kept_before(bytes(trade.kept))
        run.trades.filter(pk=trade.pk).update(kept=old)
        _, found = self.send("get", f"/runs/{run.pk}/trades/{trade.number}")
        self.assertIsNone(found["causes"])
        self.assertEqual(len(found["path"]["legs"]), len(found["legs"]))
        trade.row.pop("causes")
        trade.save(update_fields=["row"])
        self.assertIsNone(self.send("get", f"/runs/{run.pk}/course")[1]["causes"])


def _kept_before(data: bytes) -> bytes:
    """As version 1 kept it: without causes and what follows the legs' mids."""
    whole = zstandard.ZstdDecompressor().decompress(data)
    size = int.from_bytes(whole[:4], "little")
    facts = json.loads(whole[4 : 4 + size])
    del facts["causes"]
    arrays = facts["points"] * (8 + 4 + 8 + 8 * len(facts["legs"]))
    body = json.dumps({**facts, "version": 1}).encode()
    packed = len(body).to_bytes(4, "little") + body + whole[4 + size : 4 + size + arrays]
    return zstandard.ZstdCompressor().compress(packed)


class PiecesTest(DemoTestCase):
    def test_lots_that_were_added_stand_by_themselves(self) -> None:
        sheet = copy.deepcopy(self.strategy.latest.document)
        sheet["entries"][0]["adjust"] = [{
            "rule": "change_lots", "left": {"measure": "pnl", "unit": "premium"}, "is": "above", "right": 5.0, "way": "open",
            "lots": 1, "bound": 2,
        }]  # fmt: skip
        strategies.revise(self.mara, self.strategy.pk, strategies.checked(sheet), self.strategy.latest.number)
        run = self.finished_run()
        grown = [trade for trade in run.trades.all() if trade.trade.get("more_lots")]
        self.assertGreater(len(grown), 0)
        for trade in grown:
            found = self.send("get", f"/runs/{run.pk}/trades/{trade.number}")[1]
            at_first = [leg for leg in found["legs"] if ", from " not in leg["label"]]
            self.assertEqual((len(at_first), len(found["legs"])), (2, 4))
            # a lot's delta is that of what was opened first
            whole = sum(leg["contracts"] * leg["entry"]["delta"] for leg in at_first)
            self.assertAlmostEqual(trade.row["delta"], whole / (trade.row["lots"] - 1), places=3)
            made = sum(leg["pnl"] for leg in found["legs"])
            self.assertAlmostEqual(made - trade.row["costs"], trade.row["pnl"], places=1)
            self.assertAlmostEqual(found["path"]["pnl"][-1], made, places=1)


class OtherExitsTest(DemoTestCase):
    def test_each_way_out_of_a_trade_in_words(self) -> None:
        run = self.finished_run()
        trade = run.trades.exclude(row__rule="settlement").last()
        status, found = self.send("get", f"/runs/{run.pk}/trades/{trade.number}/other-exits")
        self.assertEqual((status, found["same"], found["changed"]), (200, True, False))
        exits = {item["how"]: item for item in found["exits"]}
        own = exits[trade.row["rule"]]
        self.assertTrue(own["acted"])
        self.assertEqual((own["apart"], own["pnl"], own["reason"]), (0.0, trade.row["pnl"], trade.row["reason"]))
        self.assertEqual(own["sentence"], trade.row["sentence"])
        self.assertIn("settled in cash", exits["never"]["reason"])
        for item in exits.values():
            self.assertAlmostEqual(item["pnl"] - trade.row["pnl"], item["apart"], places=2)
        Run.objects.filter(pk=run.pk).update(manifest={**run.manifest, "chains": "others"})
        self.assertTrue(self.send("get", f"/runs/{run.pk}/trades/{trade.number}/other-exits")[1]["changed"])
        self.assertEqual(self.send("get", f"/runs/{run.pk}/trades/999/other-exits")[0], 404)


class LuckTest(DemoTestCase):
    def test_every_rule_set_that_was_run_counts_once_and_for_good(self) -> None:
        first = self.finished_run()
        self.finished_run()
        self.assertEqual(Variant.objects.count(), 1, "the same rules again are no further try")
        _, alone = self.send("get", f"/runs/{first.pk}/luck")
        self.assertEqual((alone["variants"], alone["best_by_chance"]), (1, 0.0))
        changed = copy.deepcopy(self.strategy.latest.document)
        changed["entries"][0]["when"][0]["time"] = "16:30"
        revision = strategies.revise(self.mara, self.strategy.pk, changed, self.strategy.latest.number)
        self.assertIsNotNone(revision)
        later = self.finished_run()
        _, found = self.send("get", f"/runs/{first.pk}/luck")
        self.assertEqual(found["variants"], 2)
        self.assertGreater(found["best_by_chance"], 0)
        later.delete()
        _, found = self.send("get", f"/runs/{first.pk}/luck")
        self.assertEqual(found["variants"], 2, "what was deleted was tried all the same")

    def test_figures_of_luck(self) -> None:
        run = self.finished_run()
        _, found = self.send("get", f"/runs/{run.pk}/luck")
        pnl = [row["pnl"] for row in run.trades.values_list("row", flat=True)]
        self.assertAlmostEqual(found["best"]["total"], sum(pnl), places=2)
        self.assertAlmostEqual(found["best"]["without_best"], sum(pnl) - max(pnl), places=2)
        self.assertTrue(0 <= found["deflated"] <= 1)
        self.assertAlmostEqual(found["chance"], 1 - found["deflated"], places=9)
        if found["order"] is not None:
            self.assertEqual(len(found["order"]["bands"]), 3)
        self.assertEqual(self.send("get", f"/runs/{run.pk}/luck", client=self.other)[0], 404)
        run.status = Run.Status.FAILED
        run.save()
        self.assertEqual(self.send("get", f"/runs/{run.pk}/luck")[0], 422)


class CompareTest(DemoTestCase):
    def test_runs_of_two_revisions(self) -> None:
        first = self.finished_run()
        changed = copy.deepcopy(self.strategy.latest.document)
        changed["entries"][0]["when"][0]["time"] = "16:30"
        strategies.revise(self.mara, self.strategy.pk, changed, self.strategy.latest.number)
        second = self.finished_run()
        status, found = self.send("get", f"/compare?run={first.pk}&run={second.pk}")
        self.assertEqual(status, 200)
        self.assertEqual([run["number"] for run in found["runs"]], [1, 2])
        self.assertEqual(len(found["sentences"]), 1)
        one, other = found["sentences"][0]["texts"]
        self.assertIn("16:30", other)
        self.assertNotEqual(one, other)
        apart = found["differences"][0]
        self.assertEqual((apart["run"], apart["sessions"]), (second.pk, 90))
        self.assertTrue(apart["likely"][0] <= apart["yearly"] <= apart["likely"][1])
        paired = sum(day["apart"] for day in apart["days"])
        self.assertAlmostEqual(paired, apart["both_apart"] + apart["only_made"] - apart["base_only_made"], places=2)
        total = [sum(row["pnl"] for row in run.trades.values_list("row", flat=True)) for run in (first, second)]
        self.assertAlmostEqual(paired, total[1] - total[0], places=2)

    def test_what_cannot_be_compared(self) -> None:
        run = self.finished_run()
        self.assertEqual(self.send("get", f"/compare?run={run.pk}&run={run.pk}")[0], 422, "with itself")
        self.assertEqual(self.send("get", "/compare")[0], 422)
        self.assertEqual(self.send("get", "/compare?" + "&".join(f"run={n}" for n in range(9)))[0], 422)
        self.assertEqual(self.send("get", f"/compare?run={run.pk}&run=99999")[0], 404)
        second = self.finished_run()
        self.assertEqual(self.send("get", f"/compare?run={run.pk}&run={second.pk}", client=self.other)[0], 404)
        Run.objects.filter(pk=second.pk).update(status=Run.Status.CANCELLED)
        status, told = self.send("get", f"/compare?run={run.pk}&run={second.pk}")
        self.assertEqual(status, 422)
        self.assertIn("has no result yet", told["message"])

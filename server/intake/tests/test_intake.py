"""Files become data: through the API, once, in pieces, again, taken back; and what was loaded can be traded."""

from __future__ import annotations

import contextlib
import datetime as dt
import io
import json
import shutil
import tempfile
from decimal import Decimal
from pathlib import Path
from typing import Any
from unittest.mock import patch

import pandas as pd
from django.contrib.auth.models import User
from django.core.files.uploadedfile import SimpleUploadedFile
from django.core.management import CommandError, call_command
from django.test import override_settings
from procrastinate.contrib.django.models import ProcrastinateJob

from config.tests.demo import DemoTestCase, document
from intake import coverage
from intake import jobs as intake_jobs
from intake import work as intake_work
from intake.tests.near import near_the_money
from market import refresh
from market.models import Bar, Contract, Intake, SessionChainRow, Underlying
from market.terms import terms
from market.timelines import timeline
from runs import services as runs
from runs import work as run_work
from runs.models import Run
from strategies import services as strategies
from strell_core.market.chains import decode
from strell_core.market.extras import decode_extras

TERMS = {
    "kind": "index", "currency": "EUR", "multiplier": 50, "quantum": "0.05", "calendar": "MARROWICK", "american": False,
    "rate": 0.021,
}  # fmt: skip


class IntakeTestCase(DemoTestCase):
    def setUp(self) -> None:
        super().setUp()
        place = Path(tempfile.mkdtemp(prefix="strell-"))
        self.addCleanup(shutil.rmtree, place, True)
        self.folder = place
        override = override_settings(INTAKE=place / "intake")
        override.enable()
        self.addCleanup(override.disable)

    def frame(self, sessions: int = 4, symbol: str = "OSTL") -> pd.DataFrame:
        """The demo's last sessions under another name, as a table."""
        row = Underlying.objects.get(symbol="MK30")
        chains = SessionChainRow.objects.filter(underlying=row, current=True).order_by("-date")[:sessions]
        tables = [near_the_money(decode(bytes(c.payload)), terms(row)) for c in chains]
        return pd.concat(tables).assign(underlying=symbol)

    def csv(self, frame: pd.DataFrame, name: str = "chains.csv.gz") -> Path:
        path = self.folder / name
        frame.to_csv(path, index=False)
        return path

    def upload(self, path: Path, client: Any = None) -> dict[str, Any]:
        file = SimpleUploadedFile(path.name, path.read_bytes())
        answer = (client or self.client).post("/api/intakes", {"file": file})
        self.assertEqual(answer.status_code, 200, answer.content)
        return answer.json()

    def load(self, path: Path, **more: Any) -> dict[str, Any]:
        """Upload a file, start it as it was guessed, and let it run."""
        made = self.upload(path)
        body = {"mapping": made["mapping"], "terms": TERMS, **more}
        status, told = self.send("post", f"/intakes/{made['id']}/start", body)
        self.assertEqual(status, 200, told)
        intake_jobs.carry_out(made["id"])
        return self.send("get", f"/intakes/{made['id']}")[1]

    def digests(self, symbol: str = "OSTL") -> list[tuple[dt.date, str]]:
        found = SessionChainRow.objects.filter(underlying__symbol=symbol, current=True)
        return list(found.values_list("date", "digest").order_by("date"))


class LoadTest(IntakeTestCase):
    def test_a_file_becomes_sessions_that_can_be_read_and_backtested(self) -> None:
        frame = self.frame(25)
        told = self.load(self.csv(frame))
        self.assertEqual((told["status"], told["message"]), ("done", ""))
        self.assertEqual(told["rows"], len(frame))
        mine = told["symbols"][0]
        self.assertEqual((mine["symbol"], mine["new"], mine["changed"]), ("OSTL", 25, 0))
        history = timeline("OSTL")
        self.assertEqual(len(history.dates), 25)
        theirs = timeline("MK30")
        at = len(history.times) - 3
        there = theirs.at_or_before(int(history.times[at]))
        self.assertEqual(int(history.times[at]), int(theirs.times[there]))
        contract = theirs.view(there).slice(theirs.view(there).expirations[2], "call")
        again = history.view(at).slice(contract.expiration, "call")
        asks = dict(zip(contract.strikes.tolist(), contract.ask.tolist(), strict=True))
        quoted = [(k, a) for k, a in zip(again.strikes.tolist(), again.ask.tolist(), strict=True) if a >= 0]
        self.assertGreater(len(quoted), 20)
        self.assertEqual(quoted, [(k, asks[k]) for k, _ in quoted])
        strategy = strategies.create(self.mara, document(underlyings=["OSTL"]))
        run = runs.ask(self.mara, strategy.pk, history.dates[0], history.dates[-1], Decimal(50_000), "blocks")
        run_work.carry_out(run.pk)
        run.refresh_from_db()
        self.assertEqual(run.status, Run.Status.DONE, run.message)
        self.assertGreater(run.trades.count(), 0)
        self.assertTrue(Contract.objects.filter(expiration__underlying__symbol="OSTL").exists())
        bar = Bar.objects.get(underlying__symbol="OSTL", date=history.dates[-1])
        self.assertEqual((bar.given, bar.close), (False, int(history.spot[-1])))

    def test_what_a_file_tells_beside_its_quotes_is_kept_shown_and_written_out(self) -> None:
        frame = self.frame(1)
        frame = frame[frame["at"].str[11:16] == "15:50"].assign(bid_size=7, ask_size=9, last=1.25, given_delta=0.5)
        self.assertEqual(self.load(self.csv(frame))["symbols"][0]["new"], 1)
        row = SessionChainRow.objects.get(underlying__symbol="OSTL", current=True)
        self.assertGreater(row.extras_size, 0)
        status, chain = self.send("get", "/market/OSTL/chain?each_side=3")
        self.assertEqual((status, chain["told"]), (200, ["last", "bid_size", "ask_size", "volume", "delta"]))
        told = chain["rows"][0]["call"]["told"]
        self.assertEqual([told[n] for n in ("last", "bid_size", "ask_size", "delta")], [1.25, 7, 9, 0.5])
        answer = self.client.get(f"/api/data/OSTL/quotes.csv?start={row.date}&end={row.date}")
        again = pd.read_csv(io.BytesIO(b"".join(answer.streaming_content)))
        self.assertEqual(set(again["ask_size"]), {9})
        self.assertEqual(len(again), len(frame))

        self.assertEqual(self.load(self.csv(frame.assign(more=1), "b.csv"))["symbols"][0]["same"], 1)
        self.assertEqual(self.load(self.csv(frame.assign(last=1.3), "c.csv"))["symbols"][0]["changed"], 1)
        part = frame.iloc[:5].assign(last=1.4).drop(columns=["given_delta"])
        self.assertEqual(self.load(self.csv(part, "d.csv"), adds=True)["symbols"][0]["changed"], 1)
        row = SessionChainRow.objects.get(underlying__symbol="OSTL", current=True)
        values = decode_extras(bytes(row.extras))
        self.assertEqual(sorted(set(values["last"].ravel().tolist())), [13_000, 14_000])
        self.assertTrue((values["delta"] == 0.5).sum() == len(frame) - 5, "what is replaced is replaced whole")

    def test_a_file_of_which_nothing_can_be_used_says_so(self) -> None:
        told = self.load(self.csv(self.frame(1).assign(strike=-5)))
        self.assertEqual((told["status"], told["symbols"]), ("done", []))
        self.assertIn("Nothing was loaded: every row was set aside.", told["message"])

    def test_what_is_set_aside_can_be_downloaded(self) -> None:
        frame = self.frame(1).astype({"bid": object})
        frame.iloc[0, frame.columns.get_loc("bid")] = "=HYPERLINK(1)"
        frame.iloc[1, frame.columns.get_loc("strike")] = -5
        frame = pd.concat([frame, frame.iloc[[7]]])
        told = self.load(self.csv(frame))
        counts = {r["what"].split(" ")[0]: r["count"] for r in told["rejected"]}
        self.assertEqual(told["rejects"], 3)
        self.assertEqual(set(counts), {"a", "the"})
        answer = self.client.get(f"/api/intakes/{told['id']}/rejects.csv")
        rows = list(pd.read_csv(io.BytesIO(b"".join(answer.streaming_content))).itertuples(index=False))
        self.assertEqual([r.line for r in rows], [2, 3, len(frame) + 1])
        self.assertIn("prices or sizes" if "prices or sizes" in rows[0].reason else "cannot be read", rows[0].reason)
        self.assertIn("earlier row", rows[2].reason)

    def test_the_same_file_again_changes_nothing(self) -> None:
        path = self.csv(self.frame())
        self.load(path)
        before = self.digests()
        told = self.load(path)
        self.assertEqual((told["symbols"][0]["same"], told["symbols"][0]["new"]), (4, 0))
        self.assertEqual(self.digests(), before)
        self.assertEqual(SessionChainRow.objects.filter(underlying__symbol="OSTL").count(), 4)

    def test_a_correction_is_a_new_version_and_names_the_runs_that_read_the_old_one(self) -> None:
        frame = self.frame(25)
        self.load(self.csv(frame))
        strategy = strategies.create(self.mara, document(underlyings=["OSTL"]))
        history = timeline("OSTL")
        run = runs.ask(self.mara, strategy.pk, history.dates[0], history.dates[-1], Decimal(50_000), "blocks")
        run_work.carry_out(run.pk)
        last = frame[frame["at"].str[:10] == str(frame["at"].max())[:10]].copy()
        last["ask"] = last["ask"] + 0.05
        told = self.load(self.csv(last, "corrected.csv"))
        mine = told["symbols"][0]
        self.assertEqual((mine["new"], mine["changed"]), (0, 1))
        self.assertEqual([(r["run"], r["number"]) for r in mine["runs"]], [(run.pk, 1)])
        versions = SessionChainRow.objects.filter(underlying__symbol="OSTL", date=history.dates[-1]).order_by("version")
        self.assertEqual([(v.version, v.current) for v in versions], [(1, False), (2, True)])
        self.assertNotEqual(timeline("OSTL").digest, history.digest)
        before = self.digests()
        status, _ = self.send("post", f"/intakes/{told['id']}/take-back")
        self.assertEqual(status, 200)
        refresh.refresh(Underlying.objects.get(symbol="OSTL"))
        self.assertEqual(timeline("OSTL").digest, history.digest, "as it was before the correction")
        self.assertNotEqual(self.digests(), before)

    def test_a_part_of_a_session_can_be_added(self) -> None:
        frame = self.frame(1)
        calls, puts = frame[frame["right"] == "call"], frame[frame["right"] == "put"]
        self.load(self.csv(frame, "whole.csv"))
        whole = self.digests()
        self.load(self.csv(calls, "calls.csv"))
        self.assertNotEqual(self.digests(), whole, "a file replaces what it brings")
        self.load(self.csv(puts, "puts.csv"), adds=True)
        self.assertEqual(self.digests(), whole)

    def test_killed_at_any_point_it_comes_to_the_same(self) -> None:
        path = self.csv(self.frame(6))
        self.load(path)
        undisturbed = self.digests()

        class Killed(BaseException):
            pass

        for point in range(10):
            Underlying.objects.get(symbol="OSTL").delete()
            made = self.upload(path)
            self.send("post", f"/intakes/{made['id']}/start", {"mapping": made["mapping"], "terms": TERMS})
            calls = 0

            def dies(original: Any, point: int = point) -> Any:
                def call(*args: Any, **more: Any) -> Any:
                    nonlocal calls
                    calls += 1
                    if calls == point + 1:
                        raise Killed
                    return original(*args, **more)

                return call

            names = ("add", "rows") if point % 2 else ("rows", "sessions")
            with (
                patch.object(intake_work.Stage, names[0], dies(getattr(intake_work.Stage, names[0]))),
                patch.object(intake_work.Work, "_keep", dies(intake_work.Work._keep))
                if point > 4
                else patch.object(intake_work, "encode", dies(intake_work.encode)),
                contextlib.suppress(Killed),
            ):
                intake_jobs.carry_out(made["id"])
            Intake.objects.filter(pk=made["id"]).update(lease_until=dt.datetime(2020, 1, 1, tzinfo=dt.UTC))
            intake_jobs.recover()
            intake_jobs.carry_out(made["id"])
            told = Intake.objects.get(pk=made["id"])
            self.assertEqual(told.status, Intake.Status.DONE, f"point {point}: {told.message}")
            self.assertEqual(self.digests(), undisturbed, f"point {point}")

    def test_one_whose_job_died_with_a_worker_before_it_began_is_asked_for_again(self) -> None:
        made = self.upload(self.csv(self.frame(3)))
        self.send("post", f"/intakes/{made['id']}/start", {"mapping": made["mapping"], "terms": TERMS})
        self.assertEqual(intake_jobs.recover(), 0, "its job is there")
        ProcrastinateJob.objects.filter(task_name="market.take_in").delete()
        self.assertEqual(intake_jobs.recover(), 1)
        self.assertEqual(ProcrastinateJob.objects.get(task_name="market.take_in").args, {"intake_id": made["id"]})
        self.assertEqual(intake_jobs.recover(), 0, "once")

    def test_it_is_cancelled_and_goes_on(self) -> None:
        made = self.upload(self.csv(self.frame(3)))
        body = {"mapping": made["mapping"], "terms": TERMS}
        self.send("post", f"/intakes/{made['id']}/start", body)
        self.assertEqual(self.send("post", f"/intakes/{made['id']}/cancel")[1]["status"], "cancelled")
        self.assertEqual(self.send("post", f"/intakes/{made['id']}/cancel")[0], 409)
        self.send("post", f"/intakes/{made['id']}/start", body)
        with patch.object(intake_work, "REPORT_EVERY", 0.0):
            original = intake_work.Work._keep

            def asks_to_stop(work: Any, *args: Any) -> str:
                Intake.objects.filter(pk=made["id"]).update(cancel_requested=True)
                return original(work, *args)

            with patch.object(intake_work.Work, "_keep", asks_to_stop):
                intake_jobs.carry_out(made["id"])
        told = self.send("get", f"/intakes/{made['id']}")[1]
        self.assertEqual(told["status"], "cancelled")
        self.assertIn("1 sessions were stored", told["message"])
        self.send("post", f"/intakes/{made['id']}/start", body)
        intake_jobs.carry_out(made["id"])
        self.assertEqual(len(self.digests()), 3)

    def test_the_history_of_a_traded_market_is_its_operators(self) -> None:
        path = self.csv(self.frame(1, "MK30"))
        told = self.load(path)
        self.assertEqual(told["status"], "failed")
        self.assertIn("MK30 is the operator's to change", told["message"])
        self.assertEqual(self.digests("MK30")[-1][0], SessionChainRow.objects.latest("date").date)
        self.assertFalse(SessionChainRow.objects.filter(version__gt=1).exists())


class LookTest(IntakeTestCase):
    def test_a_preview_shows_what_would_be_read(self) -> None:
        made = self.upload(self.csv(self.frame(1)))
        status, seen = self.send("post", f"/intakes/{made['id']}/preview", {"terms": TERMS})
        self.assertEqual((status, seen["problems"]), (200, []))
        self.assertEqual(seen["symbols"][0]["symbol"], "OSTL")
        self.assertFalse(seen["symbols"][0]["known"])
        self.assertEqual(len(seen["quotes"]), 6)
        wrong = {**made["mapping"], "columns": {**made["mapping"]["columns"], "bid": "nothing"}}
        seen = self.send("post", f"/intakes/{made['id']}/preview", {"mapping": wrong})[1]
        self.assertEqual(seen["problems"], [{"path": "bid", "message": "The file has no column 'nothing'."}])
        self.assertEqual(self.send("post", f"/intakes/{made['id']}/start", {"mapping": wrong, "terms": TERMS})[0], 422)

    def test_terms_that_make_no_sense_are_named(self) -> None:
        made = self.upload(self.csv(self.frame(1)))
        bad = {
            "kind": "boat",
            "currency": "E",
            "multiplier": 0,
            "quantum": "0.03333",
            "calendar": "XXXX",
            "rate": "much",
        }
        status, told = self.send("post", f"/intakes/{made['id']}/start", {"mapping": made["mapping"], "terms": bad})
        self.assertEqual(status, 422)
        self.assertEqual({p["path"] for p in told["problems"]}, set(bad))

    def test_what_is_no_chain_file_is_refused_and_not_kept(self) -> None:
        for name, data in (("a.csv", b""), ("a.zip", b"PK\x03\x04"), ("a.csv", b"just a header")):
            file = SimpleUploadedFile(name, data)
            answer = self.client.post("/api/intakes", {"file": file})
            self.assertIn(answer.status_code, (400, 422), answer.content)
        self.assertEqual(Intake.objects.count(), 0)

    def test_a_mapping_is_kept_under_a_name(self) -> None:
        made = self.upload(self.csv(self.frame(1)))
        body = {"name": "from the archive", "mapping": made["mapping"]}
        self.assertEqual(self.send("put", "/mappings", body)[0], 200)
        self.assertEqual(self.send("get", "/mappings")[1], [body])
        self.assertEqual(self.send("get", "/mappings", client=self.other)[1], [])
        self.assertEqual(self.send("delete", "/mappings/from the archive", client=self.other)[0], 404)
        self.assertEqual(self.send("delete", "/mappings/from the archive")[0], 204)

    def test_an_intake_is_its_owners(self) -> None:
        made = self.upload(self.csv(self.frame(1)))
        place = f"/intakes/{made['id']}"
        body = {"mapping": made["mapping"], "terms": TERMS}
        for method, path, sent in (
            ("get", place, None), ("post", f"{place}/preview", {}), ("post", f"{place}/start", body), ("post", f"{place}/cancel", None),
            ("post", f"{place}/take-back", None), ("delete", place, None), ("get", f"{place}/rejects.csv", None),
        ):  # fmt: skip
            self.assertEqual(self.send(method, path, sent, self.other)[0], 404, path)
        self.assertEqual(self.send("get", "/intakes", client=self.other), (200, []))

    def test_the_command_loads_a_file_too(self) -> None:
        User.objects.create_user("demo", password="quiet-harbour-9")
        path = self.csv(self.frame(2))
        out = io.StringIO()
        call_command("import_chains", str(path), terms=json.dumps(TERMS), stdout=out)
        self.assertIn("OSTL: 2 new sessions", out.getvalue())
        with self.assertRaisesRegex(CommandError, "no file"):
            call_command("import_chains", "/nowhere.csv")


class CoverageTest(IntakeTestCase):
    def test_days_gaps_and_figures(self) -> None:
        frame = self.frame(6)
        days = sorted({text[:10] for text in frame["at"]})
        self.load(self.csv(frame[frame["at"].str[:10] != days[2]]))
        status, seen = self.send("get", "/data/OSTL/coverage")
        self.assertEqual(status, 200)
        self.assertEqual([day["date"] for day in seen["days"]], [d for d in days if d != days[2]])
        self.assertEqual(seen["gaps"], [{"start": days[2], "end": days[2], "sessions": 1}])
        self.assertGreater(seen["quotes"], 1_000)
        self.assertGreater(seen["bytes_a_quote"], 0)
        self.assertEqual(self.send("get", "/data/NONE/coverage")[0], 404)
        self.assertEqual([row["symbol"] for row in self.send("get", "/data")[1]], ["MK30", "MK30V", "OSTL"])

    def test_a_range_is_written_out_and_comes_back_the_same(self) -> None:
        self.load(self.csv(self.frame(3)))
        before = self.digests()
        for kind in ("csv", "parquet"):
            answer = self.client.get(f"/api/data/OSTL/quotes.{kind}?start={before[0][0]}&end={before[-1][0]}")
            path = self.folder / f"out.{kind}"
            path.write_bytes(b"".join(answer.streaming_content))
            told = self.load(path)
            self.assertEqual((told["symbols"][0]["same"], told["rejects"]), (3, 0), kind)
        self.assertEqual(self.digests(), before)
        with patch("intake.coverage.MOST_QUOTES", 100):
            status, told = self.send("get", f"/data/OSTL/quotes.csv?start={before[0][0]}&end={before[-1][0]}")
            self.assertEqual(status, 422)
            self.assertIn("shorter range", told["message"])
        self.assertEqual(self.send("get", "/data/OSTL/quotes.xls?start=2026-01-01&end=2026-12-31")[0], 422)
        self.assertEqual(self.send("get", "/data/OSTL/quotes.csv?start=2020-01-01&end=2020-12-31")[0], 422)

    def test_sessions_are_removed_and_the_removal_undone(self) -> None:
        self.load(self.csv(self.frame(3)))
        before = self.digests()
        body = {"start": before[1][0].isoformat(), "end": before[2][0].isoformat()}
        status, removal = self.send("post", "/data/OSTL/remove", body)
        self.assertEqual((status, removal["sessions"]), (200, 2))
        refresh.refresh(Underlying.objects.get(symbol="OSTL"))
        self.assertEqual(timeline("OSTL").dates, (before[0][0],))
        self.assertEqual(self.send("post", f"/removals/{removal['id']}/undo", client=self.other)[0], 404)
        self.assertEqual(self.send("post", f"/removals/{removal['id']}/undo")[0], 200)
        self.assertEqual(self.digests(), before)
        self.assertEqual(self.send("post", f"/removals/{removal['id']}/undo")[0], 409)
        self.assertEqual(self.send("post", "/data/MK30/remove", body)[0], 403)
        self.assertEqual(self.send("post", "/data/OSTL/remove", body, self.other)[0], 403, "hers, not theirs")
        self.mara.is_staff = True
        self.mara.save()
        self.assertEqual(self.send("post", "/data/MK30/remove", body)[0], 409, "what is traded keeps its history")

    def test_a_copy_of_ones_own_reads_the_same_and_may_be_changed(self) -> None:
        path, body = "/data/MK30/copy", {"symbol": "mk30.mine"}
        self.assertEqual(self.send("post", path, {"symbol": "no symbol"})[0], 422)
        self.assertEqual(self.send("post", path, body), (200, {"symbol": "MK30.MINE"}))
        self.assertEqual(self.send("post", path, body)[0], 409)
        mine = Underlying.objects.get(symbol="MK30.MINE")
        refresh.refresh(mine)
        self.assertEqual(self.digests("MK30.MINE"), self.digests("MK30"))
        copied, before = timeline("MK30.MINE"), timeline("MK30")
        self.assertEqual(copied.times.tolist(), before.times.tolist())
        view, was = (history.view(len(history.times) - 1) for history in (copied, before))
        self.assertEqual(view.expirations, was.expirations)
        sides = [v.slice(v.expirations[1], "call") for v in (view, was)]
        self.assertEqual(sides[0].bid.tolist(), sides[1].bid.tolist())
        listed = [
            Contract.objects.filter(expiration__underlying__symbol=symbol).count() for symbol in ("MK30", mine.symbol)
        ]
        self.assertEqual(listed[0], listed[1])
        last = before.dates[-1].isoformat()
        self.assertEqual(self.send("post", "/data/MK30.MINE/remove", {"start": last, "end": last})[0], 200)
        self.assertEqual(self.send("post", "/data/MK30.MINE/remove", {"start": last, "end": last}, self.other)[0], 403)
        told = self.send("get", "/data/MK30.MINE/coverage")[1]
        self.assertEqual((told["mine"], told["shared"], told["may_change"]), (True, False, True))
        told = self.send("get", "/data/MK30.MINE/coverage", client=self.other)[1]
        self.assertEqual((told["mine"], told["shared"], told["may_change"]), (False, False, False))

    def test_dividends(self) -> None:
        self.load(self.csv(self.frame(1)))
        rows = [{"date": "2026-11-20", "amount": 0.35}]
        self.assertEqual(self.send("put", "/data/OSTL/dividends", rows), (200, rows))
        self.assertEqual(self.send("put", "/data/OSTL/dividends", [{"date": "2026-11-20", "amount": -1}])[0], 422)
        self.assertEqual(coverage.summary(self.mara, Underlying.objects.get(symbol="OSTL"))["beside"]["dividends"], 1)


class RevaluedTest(IntakeTestCase):
    """Facts that come later compute volatilities anew: a new version, and the runs that read the old one by name."""

    AMERICAN = {**TERMS, "american": True, "kind": "stock", "multiplier": 100}

    def facts(self, text: str, **mapping: Any) -> dict[str, Any]:
        path = self.folder / f"facts-{len(list(self.folder.iterdir()))}.csv"
        path.write_text(text)
        made = self.upload(path)
        body = {"mapping": {**made["mapping"], **mapping}, "terms": TERMS}
        self.assertEqual(self.send("post", f"/intakes/{made['id']}/start", body)[0], 200)
        intake_jobs.carry_out(made["id"])
        return self.send("get", f"/intakes/{made['id']}")[1]

    def loaded(self) -> list[tuple[dt.date, str]]:
        frame = self.frame(2)
        frame = frame[(frame["at"].str[11:16] == "15:50") & ((frame["strike"] / frame["spot"] - 1).abs() < 0.03)]
        self.assertEqual(self.load(self.csv(frame), terms=self.AMERICAN)["status"], "done")
        return self.digests()

    def test_a_dividend_makes_a_version_and_taken_back_another(self) -> None:
        before = self.loaded()
        last = before[-1][0]
        told = self.facts(f"date,symbol,amount\n{last + dt.timedelta(7)},OSTL,25\n")
        self.assertEqual(told["symbols"][0]["anew"], [{"symbol": "OSTL", "sessions": 2}])
        after = self.digests()
        self.assertTrue(all(a != b for a, b in zip(before, after, strict=True)))
        versions = SessionChainRow.objects.filter(underlying__symbol="OSTL", date=last).order_by("version")
        self.assertEqual([(v.version, v.current) for v in versions], [(1, False), (2, True)])
        first, second = (decode(bytes(v.payload)) for v in versions)
        self.assertTrue((first.bid == second.bid).all())
        self.assertFalse((first.iv == second.iv).all())
        self.assertEqual(self.send("post", f"/intakes/{told['id']}/take-back")[0], 200)
        refresh.refresh(Underlying.objects.get(symbol="OSTL"))
        self.assertEqual(self.digests(), before)
        again = refresh.refresh(Underlying.objects.get(symbol="OSTL"))
        self.assertEqual(again, [], "nothing is computed twice")

    def test_interest_and_closes_count_and_the_traded_market_is_left_alone(self) -> None:
        self.mara.is_staff = True
        self.mara.save()
        before = self.loaded()
        mine = Underlying.objects.get(symbol="OSTL")
        start = before[0][0] - dt.timedelta(1)
        theirs = SessionChainRow.objects.filter(underlying__symbol="MK30", current=True).values_list(
            "digest", flat=True
        )
        kept = list(theirs.order_by("date"))
        told = self.facts(f"date,currency,tenor,rate\n{start},EUR,1M,9\n{start},EUR,1Y,9\n")
        self.assertEqual([one["symbol"] for one in told["symbols"][0]["anew"]], ["OSTL"])
        self.assertEqual(list(theirs.order_by("date")), kept)
        self.assertAlmostEqual(terms(mine).interest(before[0][0], before[0][0] + dt.timedelta(90)), 0.0862, places=4)
        closes = {row.date: decode(bytes(row.payload)).settlement for row in mine.chains.filter(current=True)}
        date = before[-1][0]
        self.facts(f"date,symbol,close\n{date},OSTL,3000.25\n")
        row = mine.chains.get(date=date, current=True)
        self.assertEqual(decode(bytes(row.payload)).settlement, 300_025)
        self.assertNotEqual(closes[date], 300_025)
        self.assertEqual(row.version, 3)

    def test_runs_that_read_what_was_there_before_are_named(self) -> None:
        frame = self.frame(25)
        self.load(self.csv(frame), terms=self.AMERICAN)
        history = timeline("OSTL")
        strategy = strategies.create(self.mara, document(underlyings=["OSTL"]))
        run = runs.ask(self.mara, strategy.pk, history.dates[0], history.dates[-1], Decimal(50_000), "blocks")
        run_work.carry_out(run.pk)
        told = self.facts(f"date,symbol,amount\n{history.dates[-1] + dt.timedelta(3)},OSTL,20\n")
        self.assertEqual([row["run"] for row in told["symbols"][0]["runs"]], [run.pk])
        self.assertNotEqual(timeline("OSTL").digest, history.digest)

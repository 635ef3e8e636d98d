"""Writing strategies through the API: revisions, undo, files, refusals that lose nothing."""

from __future__ import annotations

import copy
import datetime as dt
from typing import Any

import numpy as np
from django.utils import timezone

from config.tests.demo import DemoTestCase, document
from strell_core.formats.strategies import from_text
from strell_core.strategy.edits import rules_digest


class RevisionTest(DemoTestCase):
    def revise(self, change, based_on: int = 1):
        changed = copy.deepcopy(self.strategy.latest.document)
        change(changed)
        return self.send("put", f"/strategies/{self.strategy.pk}", {"based_on": based_on, "document": changed})

    def test_a_change_makes_a_revision_and_outdates_runs(self) -> None:
        self.finished_run()
        status, body = self.revise(lambda d: d["leave"][0].update(percent=60))
        self.assertEqual((status, body["revision"], body["track"]["outdated"]), (200, 2, 1))
        self.assertEqual(body["sheet"][5]["text"], "At 60 % of the credit.")
        _, runs = self.send("get", f"/strategies/{self.strategy.pk}/runs")
        self.assertEqual([run["outdated"] for run in runs], [True])

    def test_a_note_or_a_name_outdates_nothing(self) -> None:
        self.finished_run()
        _, body = self.revise(
            lambda d: (d.update(name="Harbour strangle, calmer"), d["leave"][0].update(note="half is enough"))
        )
        self.assertEqual(
            (body["revision"], body["name"], body["track"]["outdated"]), (2, "Harbour strangle, calmer", 0)
        )

    def test_a_change_is_answered_with_what_the_rules_would_do_now(self) -> None:
        path = f"/strategies/{self.strategy.pk}"
        changed = self.strategy.latest.document
        changed["entries"][0]["legs"][0]["strike"]["delta"] = 0.31
        body = {"based_on": 1, "document": changed, "preview": {}}
        status, found = self.send("put", path, body)
        self.assertEqual((status, found["revision"]), (200, 2))
        self.assertEqual(found["preview"], self.send("get", f"{path}/preview")[1])
        # an instant that is not there does not cost the change
        changed["entries"][0]["legs"][0]["strike"]["delta"] = 0.32
        body = {"based_on": 2, "document": changed, "preview": {"at": "1999-01-04T15:45"}}
        status, found = self.send("put", path, body)
        self.assertEqual((status, found["revision"], found["preview"]), (200, 3, None))
        self.assertIsNone(self.send("put", path, {"based_on": 3, "document": changed})[1]["preview"])
        status, found = self.send("put", path, {"based_on": 3, "document": changed, "preview": {"when": "now"}})
        self.assertEqual(status, 422)

    def test_saving_without_a_change_makes_no_revision(self) -> None:
        _, body = self.revise(lambda d: None)
        self.assertEqual(body["revision"], 1)

    def test_a_change_made_elsewhere_is_not_overwritten(self) -> None:
        self.revise(lambda d: d["leave"][0].update(percent=60))
        status, body = self.revise(lambda d: d["leave"][0].update(percent=70))
        self.assertEqual(status, 409)
        self.assertIn("now revision 2", body["message"])

    def test_going_back_is_a_new_revision_with_the_old_rules(self) -> None:
        self.finished_run()
        self.revise(lambda d: d["leave"][0].update(percent=60))
        status, body = self.send("post", f"/strategies/{self.strategy.pk}/revisions/1")
        self.assertEqual((status, body["revision"], body["track"]["outdated"]), (200, 3, 0))
        _, revisions = self.send("get", f"/strategies/{self.strategy.pk}/revisions")
        self.assertEqual([r["change"] for r in revisions], ["back to revision 1", "At 60 % of the credit.", "written"])
        self.assertEqual(self.send("post", f"/strategies/{self.strategy.pk}/revisions/9")[0], 404)

    def test_a_revision_has_a_note_and_differs_in_sentences_from_the_latest(self) -> None:
        self.revise(lambda d: (d["leave"][0].update(percent=60), d["leave"].pop()))
        path = f"/strategies/{self.strategy.pk}/revisions"
        status, said = self.send("patch", f"{path}/1", {"note": " as it began "})
        self.assertEqual((status, said["note"]), (200, "as it began"))
        self.assertEqual([r["note"] for r in self.send("get", path)[1]], ["", "as it began"])
        found = self.send("get", f"{path}/1/differences")[1]
        self.assertEqual(found[0], {"section": "leave", "texts": ["At 50 % of the credit.", "At 60 % of the credit."]})
        self.assertEqual((len(found), found[1]["texts"][1]), (2, None))
        self.assertEqual(self.send("get", f"{path}/2/differences")[1], [])
        status, copied = self.send("post", f"/strategies/{self.strategy.pk}/duplicate?revision=1")
        self.assertEqual((status, copied["sheet"][5]["text"]), (200, "At 50 % of the credit."))
        for method, where, body in (("get", "/9/differences", None), ("patch", "/9", {"note": "x"})):
            self.assertEqual(self.send(method, path + where, body)[0], 404)
        self.assertEqual(self.send("patch", f"{path}/1", {"note": "x" * 501})[0], 422)
        self.assertEqual(self.send("patch", f"{path}/1", {"note": "mine"}, client=self.other)[0], 404)

    def test_a_run_of_edits_is_told_as_one(self) -> None:
        path = f"/strategies/{self.strategy.pk}/revisions"

        def told() -> list[tuple[int, int, str]]:
            return [(row["number"], row["ends"], row["in_all"]) for row in self.send("get", path)[1]]

        def revised(percent: int) -> None:
            latest = self.strategy.revisions.latest("number").number
            self.assertEqual(self.revise(lambda d: d["leave"][0].update(percent=percent), latest)[0], 200)

        revised(60)
        self.assertEqual(told(), [(2, 2, ""), (1, 1, "")], "what it began as stays apart")
        revised(65)
        revised(70)
        self.assertEqual(told(), [(4, 4, "At 70 % of the credit."), (3, 4, ""), (2, 4, ""), (1, 1, "")])
        revised(50)
        self.assertEqual(told()[0], (5, 5, "changed, and changed back"))
        # what was noted, what a run was made of, and what was long ago end a run
        self.send("patch", f"{path}/2", {"note": "tried"})
        self.assertEqual([row[1] for row in told()], [5, 5, 5, 2, 1])
        revised(80)
        self.finished_run()
        revised(85)
        self.assertEqual([row[1] for row in told()], [7, 6, 6, 6, 6, 2, 1])
        self.strategy.revisions.filter(number__lte=3).update(created_at=timezone.now() - dt.timedelta(minutes=11))
        self.assertEqual([row[1] for row in told()], [7, 6, 6, 6, 3, 2, 1])

    def test_one_sentence_is_mirrored(self) -> None:
        leg = self.strategy.latest.document["entries"][0]["legs"][0]["id"]
        path = f"/strategies/{self.strategy.pk}/sentences"
        status, body = self.send("post", f"{path}/{leg}/mirror?based_on=1")
        (entry,) = body["document"]["entries"]
        self.assertEqual((status, [item["right"] for item in entry["legs"]]), (200, ["put", "put"]))
        self.assertEqual(self.send("post", f"{path}/{leg}/mirror?based_on=1")[0], 409)
        self.assertEqual(self.send("post", f"{path}/nothing/mirror?based_on=2")[0], 404)

    def test_one_more_entry_like_another(self) -> None:
        path = f"/strategies/{self.strategy.pk}/entries?based_on=1&like="
        self.assertEqual(self.send("post", f"{path}nothing")[0], 404)
        self.assertEqual(self.send("post", f"{path}entry", client=self.other)[0], 404)
        status, body = self.send("post", f"{path}entry&mirror=true")
        first, second = body["document"]["entries"]
        self.assertEqual((status, first["id"], second["id"]), (200, "entry", "entry, mirrored"))
        self.assertEqual([leg["right"] for leg in first["legs"]], [leg["right"] for leg in second["legs"]][::-1])
        self.assertEqual(self.send("post", f"{path}entry")[0], 409, "it was changed meanwhile")
        titles = [block["title"] for block in body["blocks"]]
        self.assertIn("Enter: entry, mirrored", titles)

    def test_the_digest_is_of_what_decides(self) -> None:
        base = document()
        off = copy.deepcopy(base)
        off["leave"].append({"id": "x", "rule": "days_held", "days": 3, "time": "15:45", "off": True})
        self.assertEqual(rules_digest(base), rules_digest(off))
        on = copy.deepcopy(off)
        del on["leave"][-1]["off"]
        self.assertNotEqual(rules_digest(base), rules_digest(on))


class RefusalTest(DemoTestCase):
    def test_a_delta_of_three_is_refused_at_its_place_and_nothing_changes(self) -> None:
        changed = copy.deepcopy(self.strategy.latest.document)
        changed["entries"][0]["legs"][0]["strike"]["delta"] = 3
        status, body = self.send("put", f"/strategies/{self.strategy.pk}", {"based_on": 1, "document": changed})
        self.assertEqual(status, 422)
        self.assertEqual(
            body["problems"],
            [{"path": "entries/0/legs/0/strike/delta", "message": "Delta must lie between 0.01 and 0.99, not 3"}],
        )
        self.assertEqual(self.strategy.latest.number, 1)

    def test_a_malformed_file_is_refused_with_its_line(self) -> None:
        text = self.send("get", f"/strategies/{self.strategy.pk}/text")[1]["text"].replace("delta: 0.2", "delta: 3", 1)
        line = text.splitlines().index(next(row for row in text.splitlines() if "delta: 3" in row)) + 1
        for method, path, body in (
            ("post", "/strategies", {"text": text}),
            ("post", "/strategy-text/check", {"text": text}),
            ("put", f"/strategies/{self.strategy.pk}", {"based_on": 1, "text": text}),
        ):
            status, answer = self.send(method, path, body)
            self.assertEqual(status, 422)
            self.assertEqual(answer["problems"][0]["line"], line)
            self.assertIn(f"Line {line}", answer["message"])

    def test_an_unknown_underlying_names_what_there_is(self) -> None:
        status, body = self.send("post", "/strategies", {"document": document(underlyings=["XYZ"])})
        self.assertEqual((status, body["message"]), (422, "There is no underlying 'XYZ'; there is MK30"))

    def test_bodies_that_are_no_documents(self) -> None:
        for body in ({}, {"document": {}}, {"text": ""}, {"text": "a: ["}, {"document": {"name": 3}}):
            self.assertEqual(self.send("post", "/strategies", body)[0], 422, body)
        answer = self.client.post("/api/strategies", "not json", content_type="application/json")
        self.assertEqual(answer.status_code, 400)

    def test_what_is_not_there(self) -> None:
        for path in ("/strategies/999999", "/strategies/999999/preview", "/strategies/999999/file"):
            self.assertEqual(self.send("get", path)[0], 404)


class ShelfTest(DemoTestCase):
    def test_the_shelf_shows_glyph_track_and_curve(self) -> None:
        self.finished_run()
        _, (row,) = self.send("get", "/strategies")
        self.assertEqual(
            [(leg["right"], leg["contracts"]) for leg in row["glyph"]["legs"]], [("call", -1), ("put", -1)]
        )
        self.assertEqual(row["track"]["runs"], 1)
        self.assertGreater(len(row["track"]["spark"]), 30)

    def test_duplicate_and_mirror(self) -> None:
        _, copy_ = self.send("post", f"/strategies/{self.strategy.pk}/duplicate")
        self.assertEqual(copy_["name"], "Harbour strangle, copy")
        _, twin = self.send("post", f"/strategies/{self.strategy.pk}/duplicate?mirror=true")
        self.assertEqual([item["right"] for item in twin["document"]["entries"][0]["legs"]], ["put", "call"])

    def test_delete_and_undo(self) -> None:
        self.assertEqual(self.send("delete", f"/strategies/{self.strategy.pk}")[0], 204)
        self.assertEqual(self.send("get", "/strategies")[1], [])
        self.assertEqual(self.send("get", f"/strategies/{self.strategy.pk}")[0], 404)
        self.assertEqual(self.send("post", f"/strategies/{self.strategy.pk}/restore")[1]["name"], "Harbour strangle")
        self.assertEqual(len(self.send("get", "/strategies")[1]), 1)

    def test_a_saved_file_opens_as_the_same_strategy(self) -> None:
        answer = self.client.get(f"/api/strategies/{self.strategy.pk}/file")
        self.assertIn('filename="harbour-strangle.yaml"', answer.headers["Content-Disposition"])
        self.assertEqual(from_text(answer.content.decode()), self.strategy.latest.document)


class PreviewTest(DemoTestCase):
    def preview(self, at: str = "", strategy=None):
        query = f"?at={at}" if at else ""
        return self.send("get", f"/strategies/{(strategy or self.strategy).pk}/preview{query}")

    def test_what_would_be_picked_and_what_it_would_be(self) -> None:
        status, found = self.preview("2026-11-04T15:45")
        self.assertEqual(status, 200)
        self.assertEqual(
            (found["local"], found["status"], found["enters"], found["said_no"]),
            ("2026-11-04T15:45", "due", True, None),
        )
        for leg in found["legs"]:
            picked = [row for row in leg["candidates"] if row["picked"]]
            self.assertEqual(len(picked), 1)
            best = min(abs(abs(row["delta"]) - 0.2) for row in leg["candidates"])
            self.assertAlmostEqual(abs(abs(picked[0]["delta"]) - 0.2), best)
            self.assertEqual(leg["expirations"][0]["date"], "2026-11-13")
        structure = found["structure"]
        sold_at_bid = sum(next(r["bid"] for r in leg["candidates"] if r["picked"]) for leg in found["legs"])
        self.assertAlmostEqual(structure["credit"], sold_at_bid * 50)
        self.assertEqual(structure["payoff"]["max_profit"], round(structure["credit"], 2))
        self.assertIsNone(structure["payoff"]["max_loss"])
        self.assertEqual(len(structure["payoff"]["break_evens"]), 2)

    def test_the_first_sentence_that_says_no_is_named(self) -> None:
        from strategies import services

        choosy = document()
        choosy["entries"][0]["conditions"].append(
            {"rule": "when_rsi", "sessions": 14, "comparison": "above", "level": 100}
        )
        choosy["entries"][0]["checks"].append({"rule": "net_premium", "kind": "credit", "points": 500})
        strategy = services.create(self.mara, services.checked(choosy))
        _, found = self.preview("2026-11-04T15:45", strategy)
        self.assertFalse(found["enters"])
        verdicts = {v["number"]: v for v in found["verdicts"]}
        self.assertEqual(found["said_no"], verdicts[3]["id"])
        self.assertRegex(verdicts[3]["text"], r"^\d+\.\d+, needs above 100$")
        self.assertIn("needs at least 500", verdicts[6]["text"])
        self.assertIsNotNone(found["structure"], "the structure is shown all the same")

    def of_the_account(self, sizes: dict[str, Any] | None = None, **limits: Any) -> dict[str, Any]:
        """The preview of rules that ask for the account's past."""
        from strategies import services

        asking = document()
        asking["limits"] = [
            {
                "rule": "no_entry",
                "left": {"measure": "losses_today", "of": "all"},
                "is": "at least",
                "right": 1,
                **limits,
            }
        ]
        if sizes:
            asking["entries"][0]["size"] = [sizes]
        return self.preview("2026-11-04T15:45", services.create(self.mara, services.checked(asking)))[1]

    def test_the_account_of_a_preview_was_just_opened(self) -> None:
        lots = {
            "rule": "value_lots",
            "value": {"measure": "scaled", "of": {"measure": "below_high"}, "times": 1, "plus": 3},
        }
        found = self.of_the_account(lots)
        self.assertEqual((found["enters"], found["said_no"]), (True, None))
        self.assertEqual(found["structure"]["lots"], 3, "it stands at its high")
        (limit,) = [v for v in found["verdicts"] if v["sentence"].startswith("No entry while")]
        self.assertEqual((limit["truth"], limit["text"]), ("true", "bars nothing"))

    def test_a_limit_that_holds_says_no_before_everything_else(self) -> None:
        found = self.of_the_account(**{"is": "below"})
        (limit,) = [v for v in found["verdicts"] if v["sentence"].startswith("No entry while")]
        self.assertEqual((found["enters"], found["said_no"], limit["truth"]), (False, limit["id"], "false"))
        self.assertIn("0", limit["text"])
        self.assertEqual([entry["enters"] for entry in found["entries"]], [False])
        self.assertIsNotNone(found["structure"])

    def test_no_expiration_in_the_range(self) -> None:
        from strategies import services

        far = document()
        far["entries"][0]["legs"][0]["expiry"] = {"pick": "nearest_days", "days": 380, "from": 370, "to": 390}
        _, found = self.preview("2026-11-04T15:45", services.create(self.mara, services.checked(far)))
        self.assertEqual(found["legs"][0]["message"], "no listed expiration fits")
        self.assertEqual(found["said_no"], found["legs"][0]["id"])
        self.assertIsNone(found["structure"])

    def test_a_holiday_is_answered_with_the_snapshot_before(self) -> None:
        _, found = self.preview("2026-10-14T15:45")
        self.assertEqual((found["local"], found["asked"]), ("2026-10-13T17:30", "Wed 14 Oct 2026 15:45"))

    def test_neighbours_lead_from_decision_to_decision(self) -> None:
        _, found = self.preview("2026-11-04T15:45")
        self.assertEqual(found["neighbours"], {"before": "2026-11-02T15:45", "after": "2026-11-09T15:45"})

    def test_instants_without_data_and_texts_that_are_none(self) -> None:
        status, body = self.preview("2031-01-01T10:00")
        self.assertEqual((status, body["problems"][0]["path"]), (422, "at"))
        self.assertIn("recorded is", body["message"])
        self.assertEqual(self.preview("1999-01-01T10:00")[0], 422)
        self.assertIn("write it like", self.preview("yesterday")[1]["message"])

    def test_an_instant_with_a_zone(self) -> None:
        _, found = self.preview("2026-11-04T15:45:00%2B00:00")
        self.assertEqual(found["local"], "2026-11-04T15:45")


class FromLegsTest(DemoTestCase):
    """A basket becomes a strategy that picks just its legs."""

    def legs(self) -> list[dict[str, Any]]:
        view = self.history().view(len(self.history().times) - 1)
        expiration = view.expirations[3]
        out = []
        for right, contracts in (("call", -2), ("put", -2)):
            side = view.slice(expiration, right)
            row = int(np.abs(np.abs(side.delta.astype(int)) - 2000).argmin())
            out.append({"contract": f"MK30/{expiration}/{right}/{side.strikes[row]:g}", "contracts": contracts})
        return out

    def test_rules_are_written_and_pick_the_legs_at_that_instant(self) -> None:
        legs = self.legs()
        status, made = self.send("post", "/strategies/from-legs", {"symbol": "MK30", "legs": legs})
        self.assertEqual((status, made["notes"]), (200, []))
        status, whole = self.send("get", f"/strategies/{made['id']}")
        self.assertEqual(status, 200)
        kinds = [s["rule"] for s in whole["sheet"]]
        self.assertIn("credit_target", kinds)
        status, seen = self.send("get", f"/strategies/{made['id']}/preview")
        self.assertEqual((status, seen["enters"]), (200, True), seen)
        picked = [(leg["contract"], leg["contracts"]) for leg in seen["structure"]["legs"]]
        self.assertEqual(picked, [(leg["contract"], leg["contracts"]) for leg in legs])

    def test_a_debit_gets_a_debits_exits(self) -> None:
        legs = [{**leg, "contracts": 1} for leg in self.legs()]
        _, made = self.send("post", "/strategies/from-legs", {"symbol": "MK30", "legs": legs, "name": "Long strangle"})
        _, whole = self.send("get", f"/strategies/{made['id']}")
        self.assertEqual(whole["name"], "Long strangle")
        self.assertIn("debit_target", [s["rule"] for s in whole["sheet"]])

    def test_what_is_refused(self) -> None:
        for legs, words in (
            ([{"contract": "2031-01-17/call/3000", "contracts": 1}], "has no quote at this instant"),
            ([{"contract": "call", "contracts": 1}], "is not a contract"),
            ([{**self.legs()[0], "contracts": 0}], "nothing to write rules for"),
            ([self.legs()[0] | {"contracts": 1}, self.legs()[1] | {"contracts": 21}], "at most 20"),
        ):
            status, told = self.send("post", "/strategies/from-legs", {"symbol": "MK30", "legs": legs})
            self.assertEqual(status, 422, told)
            self.assertIn(words, told["message"])
        self.assertEqual(self.send("post", "/strategies/from-legs", {"symbol": "NONE", "legs": self.legs()})[0], 404)

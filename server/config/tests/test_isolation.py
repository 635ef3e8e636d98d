"""Two people cannot see or touch each other's work: tried on every route that names something."""

from __future__ import annotations

from config.api import api
from config.tests.demo import DemoTestCase
from replay import services as replays

BODIES = {
    "revise_strategy": {"based_on": 1, "document": {}},
    "ask_run": {"start": "2026-09-01", "end": "2026-10-01"},
    "move_replay": {"to": "step"},
    "trade_replay": {"orders": []},
    "describe_replay": {"note": "mine now"},
}


class IsolationTest(DemoTestCase):
    def setUp(self) -> None:
        super().setUp()
        self.run_ = self.finished_run()
        number = self.run_.trades.order_by("-number").first().number
        self.session = replays.from_trade(self.mara, self.run_.pk, number)
        self.number = number

    def test_every_route_with_an_id_says_it_is_not_there(self) -> None:
        ids = {
            "strategy_id": self.strategy.pk,
            "run_id": self.run_.pk,
            "session_id": self.session.pk,
            "number": self.number,
            "sentence_id": "s3",
        }
        tried = 0
        for path, methods in api.get_openapi_schema()["paths"].items():
            if not any("{" + name in path for name in ("strategy_id", "run_id", "session_id")):
                continue
            place = path.removeprefix("/api")
            for name, value in ids.items():
                place = place.replace("{" + name + "}", str(value))
            for method, operation in methods.items():
                query = "?based_on=1" if operation["operationId"] == "mirror_sentence" else ""
                with self.subTest(f"{method} {path}"):
                    status, body = self.send(method, place + query, BODIES.get(operation["operationId"]), self.other)
                    if operation["operationId"] == "revise_strategy":
                        self.assertEqual(status, 422, "the body is checked first and tells nothing of the strategy")
                        continue
                    self.assertEqual(status, 404, body)
                    tried += 1
        self.assertGreater(tried, 20)
        self.session.refresh_from_db()
        self.assertIsNone(self.session.deleted_at)
        self.assertEqual(self.session.note, "")

    def test_revising_with_a_good_document_is_not_there_either(self) -> None:
        body = {"based_on": 1, "document": self.strategy.latest.document}
        self.assertEqual(self.send("put", f"/strategies/{self.strategy.pk}", body, self.other)[0], 404)

    def test_lists_hold_only_what_is_ones_own(self) -> None:
        for path in ("/strategies", "/runs"):
            self.assertEqual(self.send("get", path, client=self.other), (200, []))

    def test_a_replay_cannot_be_started_from_another_persons_run(self) -> None:
        body = {"run": self.run_.pk, "trade": self.number}
        self.assertEqual(self.send("post", "/replays", body, self.other)[0], 404)
        self.assertEqual(self.send("post", "/replays", {"strategy": self.strategy.pk}, self.other)[0], 404)

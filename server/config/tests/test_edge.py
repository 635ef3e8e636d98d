"""What no request may bring: awkward values everywhere, foreign pages, bodies without end."""

from __future__ import annotations

import os

from django.db import transaction
from django.test import Client

from config.tests.awkward import requests
from config.tests.demo import BACKEND, document
from config.tests.everything import WithEverything, schema

SHARE = int(os.environ.get("AWKWARD_SHARE", "7"))
SLOW, SLOWER = {"sign_in", "confirm_password", "ask_run", "replay", "start_replay"}, 29
"""Operations that take their time on purpose, of which a smaller share is tried."""


class AwkwardTest(WithEverything):
    def test_nothing_awkward_breaks_a_route(self) -> None:
        """Each value at each place, a share of all pairs; ``bench/awkward.py`` tries them all on a running Strell."""
        client = Client(raise_request_exception=False)
        client.force_login(self.mara, backend=BACKEND)
        tried, broken = 0, []
        for number, request in enumerate(requests(schema(), self.ids(), self.bodies())):
            if number % (SLOWER if request.operation in SLOW else SHARE):
                continue
            tried += 1
            with transaction.atomic():
                body = {} if request.body is None else {"data": request.raw, "content_type": "application/json"}
                answer = getattr(client, request.method)(request.path, **body)
                transaction.set_rollback(True)
            if answer.status_code >= 500:
                _, error, _ = getattr(answer, "exc_info", None) or (None, None, None)
                broken.append(f"{answer.status_code} {request}: {error!r:.200}")
        self.assertEqual("\n".join(broken), "")
        self.assertGreater(tried, 1_000)

    def test_numbers_of_a_million_digits_are_refused_at_once_and_in_words(self) -> None:
        ticket = self.bodies()["place_order"]
        for lots in ("1e2000000", "9" * 5_000, "x", {}, [1]):
            status, body = self.send("post", f"/accounts/{self.account.pk}/orders", {**ticket, "lots": lots})
            self.assertEqual(status, 422, lots)
            self.assertIn("whole number", body["message"])

    def test_a_name_that_nobody_reads_is_told(self) -> None:
        ticket = {**self.bodies()["place_order"], "lot": 5}
        status, body = self.send("post", f"/accounts/{self.account.pk}/orders", ticket)
        self.assertEqual((status, body["problems"][0]["path"]), (422, "body/lot"))
        self.assertEqual(self.account.orders.count(), 1, "only what was there before")

    def test_a_list_is_no_object(self) -> None:
        self.assertEqual(self.send("post", "/halt", [None, None])[0], 422)
        self.account.refresh_from_db()
        self.assertIsNone(self.account.locked_in)

    def test_a_strategy_of_thousands_of_values_is_refused_at_its_line(self) -> None:
        status, body = self.send("post", "/strategy-text/check", {"text": "- a\n" * 40_000})
        self.assertEqual(status, 422)
        self.assertRegex(body["message"], r"^Line \d+: more than 20000 values$")

    def test_a_body_is_bounded_however_its_length_is_told(self) -> None:
        large = '{"text": "' + "x" * 1_100_000 + '"}'
        for more in ({}, {"CONTENT_LENGTH": "5"}):
            answer = self.client.post("/api/strategy-text/check", large, content_type="application/json", **more)
            self.assertIn(answer.status_code, (400, 413))
            self.assertIn("message", answer.json())


class OriginTest(WithEverything):
    def asked(self, origin: str | None, path: str = "/api/sign-in") -> int:
        headers = {} if origin is None else {"origin": origin}
        body = {"name": "mara", "password": "quiet-harbour-9"}
        return Client().post(path, body, content_type="application/json", headers=headers).status_code

    def test_signing_in_is_asked_for_by_a_page_of_this_very_address(self) -> None:
        self.assertEqual(self.asked(None), 200)
        self.assertEqual(self.asked("http://testserver"), 200)
        for foreign in (
            "http://elsewhere",
            "http://testserver:81",
            "null",
            "http://testserver.elsewhere",
            "http://[",
            "",
        ):
            self.assertEqual(self.asked(foreign), 403, foreign)

    def test_a_change_from_a_foreign_page_is_refused_though_its_cookie_comes_along(self) -> None:
        path = f"/api/strategies/{self.strategy.pk}"
        answer = self.client.delete(path, headers={"origin": "http://127.0.0.1:9999"})
        self.assertEqual(answer.status_code, 403)
        self.strategy.refresh_from_db()
        self.assertIsNone(self.strategy.deleted_at)
        self.assertEqual(document()["name"], self.strategy.latest.document["name"])

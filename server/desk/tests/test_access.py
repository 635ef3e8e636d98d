"""Who may do what: scopes of tokens, the password again before a broker, and other people's things."""

from __future__ import annotations

import datetime as dt
import json
from decimal import Decimal
from typing import Any

from desk import deployments, services
from desk.models import DeskOrder
from desk.tests.test_deployments import DeploymentTestCase
from people import access
from people.models import AccessToken
from venue.live import live
from venue.watch import MAX_CONTRACTS, Watch


class TokenTest(DeploymentTestCase):
    def setUp(self) -> None:
        super().setUp()
        self.client.logout()
        near, far = self.contract("call", 40), self.contract("call", 70)
        self.ticket = {"legs": [{"contract": near, "ratio": -1}, {"contract": far, "ratio": 1}], "type": "market"}

    def ask(self, scope: str | None, method: str, path: str, body: Any = None, text: str = "") -> int:
        if scope is not None:
            text = access.make_token(self.mara, scope, scope, 3)[1]
        data = {} if body is None else {"data": json.dumps(body), "content_type": "application/json"}
        answer = getattr(self.client, method)(f"/api{path}", headers={"Authorization": f"Bearer {text}"}, **data)
        return answer.status_code

    def test_each_scope_allows_what_it_says_and_no_more(self) -> None:
        practice = services.open_account(self.mara, "At the broker", "practice", "MK30", Decimal(50_000))
        paper, broker = (f"/accounts/{account.pk}/orders" for account in (self.account, practice))
        runs = f"/strategies/{self.strategy.pk}/duplicate"
        expected = {
            "read": (200, 403, 403, 403), "research": (200, 200, 403, 403), "paper": (200, 200, 200, 403),
            "trade": (200, 200, 200, 200),
        }  # fmt: skip
        for scope, wanted in expected.items():
            found = (
                self.ask(scope, "get", "/accounts"), self.ask(scope, "post", runs),
                self.ask(scope, "post", paper, self.ticket), self.ask(scope, "post", broker, self.ticket),
            )  # fmt: skip
            self.assertEqual(found, wanted, scope)

    def test_a_token_ends_when_it_expires_or_is_revoked(self) -> None:
        token, text = access.make_token(self.mara, "mine", "read", 1)
        self.assertEqual(self.ask(None, "get", "/accounts", text=text), 200)
        AccessToken.objects.filter(pk=token.pk).update(expires_at=dt.datetime.now(dt.UTC))
        self.assertEqual(self.ask(None, "get", "/accounts", text=text), 401)
        other, text = access.make_token(self.mara, "mine", "read", 1)
        access.revoke(self.mara, other.pk)
        self.assertEqual(self.ask(None, "get", "/accounts", text=text), 401)
        self.assertEqual(self.ask(None, "get", "/accounts", text="strell_guess"), 401)

    def test_only_its_hash_is_kept(self) -> None:
        token, text = access.make_token(self.mara, "mine", "read", 1)
        self.assertNotIn(text.encode(), repr(AccessToken.objects.filter(pk=token.pk).values().get()).encode())

    def test_tokens_make_no_tokens_and_arm_nothing_at_a_broker(self) -> None:
        self.assertEqual(self.ask("trade", "post", "/tokens", {"name": "x", "scope": "trade"}), 403)
        practice = services.open_account(self.mara, "At the broker", "practice", "MK30", Decimal(50_000))
        self.finished_run()
        made = deployments.promote(self.mara, self.strategy.pk, practice.pk, 1, {}, True)
        self.assertEqual(self.ask("trade", "post", f"/deployments/{made.pk}/arm"), 403)

    def test_bad_requests_for_tokens(self) -> None:
        for name, scope, days in (
            ("", "read", 3),
            ("x" * 61, "read", 3),
            ("x", "everything", 3),
            ("x", "read", 0),
            ("x", "read", 999),
        ):
            with self.subTest((name, scope, days)), self.assertRaises(access.Refused):
                access.make_token(self.mara, name, scope, days)


class ArmingTest(DeploymentTestCase):
    def test_arming_at_a_broker_asks_for_the_password_again(self) -> None:
        practice = services.open_account(self.mara, "At the broker", "practice", "MK30", Decimal(50_000))
        self.finished_run()
        made = deployments.promote(self.mara, self.strategy.pk, practice.pk, 1, {}, True)
        place = f"/deployments/{made.pk}/arm"
        self.assertEqual(self.send("post", place)[0], 428)
        self.assertEqual(self.send("post", "/confirm", {"password": "wrong"})[0], 422)
        self.assertEqual(self.send("post", place)[0], 428)
        self.assertEqual(self.send("post", "/confirm", {"password": "quiet-harbour-9"})[0], 204)
        self.assertEqual(self.send("post", place)[0], 200)

    def test_only_an_operator_moves_the_clock_or_plays_faults(self) -> None:
        for place, body in (
            ("run", {"rate": 5}),
            ("pause", None),
            ("jump", {"to": "10:00"}),
            ("next-session", None),
            ("quiet", {"quiet": True}),
        ):
            self.assertEqual(self.send("post", f"/market/MK30/clock/{place}", body, self.other)[0], 403, place)
        self.assertEqual(self.send("post", "/practice-broker/faults", {"kind": "reject"}, self.other)[0], 403)
        self.assertEqual(self.send("post", "/practice-broker/faults", {"kind": "explode"})[0], 422)
        self.assertEqual(self.send("post", "/practice-broker/faults", {"kind": "reject", "count": 0})[0], 422)


class ClockTest(DeploymentTestCase):
    def test_time_never_runs_back(self) -> None:
        self.go("10:00")
        for to, words in (("09:30", "never runs back"), ("08:00", "outside the session"), ("18:00", "outside")):
            status, body = self.send("post", "/market/MK30/clock/jump", {"to": to})
            self.assertEqual(status, 422)
            self.assertIn(words, body["message"])
        self.assertEqual(self.send("post", "/market/MK30/clock/run", {"rate": 7})[0], 422)
        self.assertEqual(self.send("post", "/market/MK30/clock/next-session")[0], 409)


class WatchTest(DeploymentTestCase):
    def test_a_browser_gets_only_what_changed(self) -> None:
        near, far = self.contract("call", 40), self.contract("call", 70)
        watch = Watch.parse({"symbol": "MK30", "contracts": [near, far, "MK30/2026-11-27/call/99999"]})
        first = watch.difference(live("MK30"))
        self.assertEqual(set(first["quotes"]), {near, far, "MK30/2026-11-27/call/99999"})
        self.assertEqual(first["quotes"]["MK30/2026-11-27/call/99999"][:2], [None, None])
        self.assertIsNone(watch.difference(live("MK30")))
        self.quote({near: ("10.00", "10.40")}, size=7)
        changed = watch.difference(live("MK30"))
        self.assertEqual(changed["quotes"][near][:4], [10.0, 10.4, 7, 7])

    def test_what_makes_no_sense_is_not_watched(self) -> None:
        for raw in ({}, {"symbol": 3, "contracts": []}, {"symbol": "MK30", "contracts": ["x"]},
                    {"symbol": "MK30", "contracts": ["a"] * (MAX_CONTRACTS + 1)}):  # fmt: skip
            self.assertIsNone(Watch.parse(raw))


class ApiTest(DeploymentTestCase):
    """The screens' way through the API, in one go."""

    def test_from_the_chain_to_a_closed_position(self) -> None:
        status, chain = self.send("get", f"/market/MK30/live?account={self.account.pk}")
        self.assertEqual((status, len(chain["rows"])), (200, 26))
        near, far = self.contract("call", 40), self.contract("call", 70)
        legs = [{"contract": near, "ratio": -1}, {"contract": far, "ratio": 1}]
        place = f"/accounts/{self.account.pk}"
        status, view = self.send("post", f"{place}/ticket", {"legs": legs, "lots": 2, "type": "limit"})
        self.assertEqual(status, 200)
        self.assertEqual([problem["path"] for problem in view["problems"]], ["limit"])
        self.assertLessEqual(view["sides"]["own"], view["sides"]["mid_limit"])
        body = {
            "legs": legs,
            "lots": 2,
            "type": "limit",
            "limit": view["sides"]["other"],
            "protection": {"target": {"value": 50, "unit": "percent"}},
        }
        _, view = self.send("post", f"{place}/ticket", body)
        text = " ".join(view["sentences"])
        self.assertIn("At worst", text)
        self.assertIn("closed at a profit of 50 % of the premium", text)
        status, order = self.send("post", f"{place}/orders", {**body, "client_id": "from a script"})
        self.assertEqual((status, order["state"]), (200, "working"))
        self.desk.round()
        self.pass_seconds(5)
        _, desk = self.send("get", f"{place}/desk")
        self.assertEqual(desk["orders"][0]["state"], "filled")
        holding = desk["holdings"][0]
        self.assertEqual(holding["protection"]["target"], {"value": "50", "unit": "percent"})
        self.assertEqual(
            self.send("put", f"/positions/{holding['id']}/protection", {})[1]["holding"]["protection"],
            {"target": None, "stop": None},
        )
        self.assertEqual(self.send("post", f"/positions/{holding['id']}/close", {"lots": 1})[0], 200)
        self.desk.round()
        self.pass_seconds(5)
        self.assertEqual(self.send("get", f"/positions/{holding['id']}")[1]["holding"]["lots"], 1)
        self.assertEqual(self.send("get", "/market/MK30/live/path")[0], 200)

    def test_a_bad_order_answers_422_and_is_kept(self) -> None:
        legs = [{"contract": self.contract("call", 40), "ratio": -1}]
        for lots in (0, 1.5, "x", -3):
            status, body = self.send(
                "post", f"/accounts/{self.account.pk}/orders", {"legs": legs, "lots": lots, "type": "market"}
            )
            self.assertEqual(status, 422)
            self.assertIn("lots", body["problems"][0]["path"])
        self.assertEqual(DeskOrder.objects.filter(state="refused").count(), 4)

    def test_accounts_are_opened_with_care(self) -> None:
        for body in (
            {"name": ""},
            {"name": "x", "kind": "live"},
            {"name": "x", "cash": 10},
            {"name": "x", "symbol": "NOPE"},
        ):
            self.assertEqual(self.send("post", "/accounts", body)[0], 422, body)
        self.assertEqual(self.send("post", "/accounts", {"name": "Paper A"})[0], 409)

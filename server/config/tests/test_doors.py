"""Every route × (signed out, another person, the operator, a token of each scope): the answer of the one table."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from typing import Any

from django.db import transaction
from django.test import Client

from config.tests.awkward import filled
from config.tests.demo import BACKEND
from config.tests.everything import WithEverything, schema
from desk import deployments, services
from desk.models import Holding
from desk.tickets import Ticket
from people.access import make_token
from people.doors import ACCOUNT, DOORS, OPEN, PAPER, PERSON, SCOPES, TRADE
from people.models import AccessToken

OPERATORS = {
    "run_clock", "pause_clock", "jump_clock", "next_session", "hush_clock", "play_fault", "remove_sessions", "set_dividends",
    "change_terms", "change_terms_back", "remove_fact",
}  # fmt: skip
"""What another person is refused though nothing of it is somebody's: the market and shared data are the operator's."""
OTHERS_TOO = {"name", "symbol", "date", "kind", "currency", "start", "number", "session", "sentence_id"}
"""Parts of a path that belong to nobody, or to whoever asks."""


class DoorsCase(WithEverything):
    def routes(self) -> Iterator[tuple[str, str, str, Any, set[str]]]:
        """Operation, method, path with Mara's ids, body that would do, names in the path."""
        ids, bodies = self.ids(), self.bodies()
        found = [(path, *item) for path, methods in schema()["paths"].items() for item in methods.items()]
        # signing out ends the session that the others need
        for path, method, operation in sorted(found, key=lambda item: item[2]["operationId"] == "sign_out"):
            asked = operation.get("parameters", [])
            needed = [p["name"] for p in asked if p["in"] == "query" and p.get("required")]
            place = filled(path.removeprefix("/api"), {**ids, "kind": "csv" if "quotes" in path else "dividends"})
            place += "?" + "&".join(f"{name}={ids[name]}" for name in needed) if needed else ""
            name = operation["operationId"]
            yield name, method, place, bodies.get(name), {p["name"] for p in asked if p["in"] == "path"}

    def answer(self, client: Client, method: str, path: str, body: Any) -> tuple[int, str]:
        """Status and words; whatever it did is undone."""
        with transaction.atomic():
            status, told = self.send(method, path, body, client)
            transaction.set_rollback(True)
        return status, told.get("message", "") if isinstance(told, dict) else ""

    @staticmethod
    def by_token(user: Any, scope: str) -> Client:
        AccessToken.objects.filter(owner=user).delete()
        return Client(headers={"Authorization": f"Bearer {make_token(user, scope, scope, 3)[1]}"})


class DoorsTest(DoorsCase):
    def test_every_route_is_in_the_table_and_nothing_else(self) -> None:
        self.assertEqual({name for name, *_ in self.routes()}, set(DOORS))
        self.assertLessEqual(set(DOORS.values()), {OPEN, PERSON, ACCOUNT, *SCOPES})

    def test_signed_out(self) -> None:
        for name, method, path, body, _ in self.routes():
            with self.subTest(name):
                status, _ = self.answer(Client(), method, path, body)
                if DOORS[name] == OPEN:
                    self.assertIn(status, (200, 401) if name == "sign_in" else (200,))
                else:
                    self.assertEqual(status, 401)

    def test_another_person(self) -> None:
        for name, method, path, body, parts in self.routes():
            with self.subTest(name):
                status, told = self.answer(self.other, method, path, body)
                if name in OPERATORS:
                    self.assertEqual(status, 403, told)
                elif parts - OTHERS_TOO:
                    self.assertEqual(status, 404, told)
                else:
                    self.assertNotIn(status, (401, 403) if name != "sign_in" else (403,), told)
                    self.assertLess(status, 500)

    def test_the_operator_and_a_persons_own(self) -> None:
        """Mara operates the market and owns what is named: nothing is kept from her but what the market's state forbids."""
        for name, method, path, body, _ in self.routes():
            with self.subTest(name):
                status, told = self.answer(self.client, method, path, body)
                self.assertNotIn(status, (401, 403) if name != "sign_in" else (403,), told)
                self.assertLess(status, 500, told)

    def test_a_token_of_each_scope(self) -> None:
        for rank, scope in enumerate(SCOPES):
            client = self.by_token(self.mara, scope)
            for name, method, path, body, _ in self.routes():
                door = DOORS[name]
                with self.subTest(f"{scope} {name}"):
                    status, told = self.answer(client, method, path, body)
                    if door == PERSON:
                        self.assertEqual((status, told), (403, "That is for a person who signed in, not for a token."))
                    elif door != OPEN and rank < SCOPES.index(PAPER if door == ACCOUNT else door):
                        self.assertEqual(status, 403)
                        self.assertIn("needs the scope", told)
                    elif name != "sign_in":
                        self.assertNotIn(status, (401, 403), told)
                        self.assertLess(status, 500, told)


class BrokerDoorsTest(DoorsCase):
    """The same for accounts at the broker: what touches one needs *trade*."""

    def setUp(self) -> None:
        super().setUp()
        self.account = services.open_account(self.mara, "At the broker", "practice", "MK30", Decimal(50_000))
        self.order = services.place(self.account, Ticket(self.legs, 1, "limit", "-30.00"))
        held = Holding.objects.create(account=self.account, name="held", opened_at=self.venue().reached)
        self.order.holding = held
        self.order.save()
        self.deployment = deployments.promote(self.mara, self.strategy.pk, self.account.pk, 1, {}, True)

    def bodies(self) -> dict[str, Any]:
        made = super().bodies()
        return {**made, "open_account": {**made["open_account"], "kind": "practice"}}

    def test_what_touches_an_account_at_the_broker_needs_trade(self) -> None:
        tried = 0
        for scope, may in ((PAPER, False), (TRADE, True)):
            client = self.by_token(self.mara, scope)
            for name, method, path, body, _ in self.routes():
                if DOORS[name] != ACCOUNT:
                    continue
                with self.subTest(f"{scope} {name}"):
                    status, told = self.answer(client, method, path, body)
                    # arming at a broker is for a person with a password even so
                    self.assertEqual(status == 403, not may or name == "arm", (status, told))
                    tried += 1
        self.assertGreater(tried, 20)

    def test_halting_everything_by_a_paper_token_halts_nothing_at_the_broker(self) -> None:
        client = self.by_token(self.mara, PAPER)
        self.assertEqual(self.send("post", "/halt", {"flatten": True}, client)[0], 403)
        self.account.refresh_from_db()
        self.assertIsNone(self.account.locked_in)

    def test_a_token_of_a_person_who_is_gone_opens_nothing(self) -> None:
        client = self.by_token(self.mara, TRADE)
        self.mara.is_active = False
        self.mara.save()
        self.assertEqual(self.send("get", "/accounts", client=client)[0], 401)
        signed_in = Client()
        signed_in.force_login(self.mara, backend=BACKEND)
        self.assertEqual(self.send("get", "/accounts", client=signed_in)[0], 401)

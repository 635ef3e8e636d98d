"""Signing in, being locked out, and what a stranger may see."""

from __future__ import annotations

from django.conf import settings
from django.contrib.auth.models import User
from django.test import Client, TestCase

NAME, PASSWORD = "mara", "quiet-harbour-9"


class SignInTest(TestCase):
    @classmethod
    def setUpTestData(cls) -> None:
        User.objects.create_user(NAME, password=PASSWORD)

    def sign_in(self, password: str = PASSWORD, name: str = NAME) -> tuple[int, dict]:
        answer = self.client.post("/api/sign-in", {"name": name, "password": password}, content_type="application/json")
        return answer.status_code, answer.json()

    def test_in_and_out(self) -> None:
        self.assertEqual(self.client.get("/api/me").json()["name"], None)
        self.assertEqual(self.sign_in(), (200, {"name": NAME, "operator": False}))
        self.assertEqual(self.client.get("/api/me").json(), {"name": NAME, "operator": False})
        self.assertEqual(self.client.post("/api/sign-out").json(), {"name": None, "operator": False})
        self.assertEqual(self.client.get("/api/strategies").status_code, 401)

    def test_a_wrong_password_and_an_unknown_name_sound_the_same(self) -> None:
        self.assertEqual(self.sign_in("wrong"), self.sign_in(name="nobody"))
        self.assertEqual(self.sign_in("wrong")[0], 401)

    def test_repeated_failures_lock_out_even_the_right_password(self) -> None:
        for _ in range(5):
            self.sign_in("wrong")
        status, body = self.sign_in()
        self.assertEqual(status, 429)
        self.assertIn("15 minutes", body["message"])

    def test_passwords_are_kept_as_argon2(self) -> None:
        self.assertTrue(User.objects.get(username=NAME).password.startswith("argon2"))


class StrangerTest(TestCase):
    def test_a_write_without_the_csrf_token_is_refused(self) -> None:
        User.objects.create_user(NAME, password=PASSWORD)
        strict = Client(enforce_csrf_checks=True)
        strict.force_login(User.objects.get(username=NAME), backend="django.contrib.auth.backends.ModelBackend")
        self.assertEqual(strict.post("/api/strategies", "{}", content_type="application/json").status_code, 403)
        strict.get("/api/me")
        token = strict.cookies[settings.CSRF_COOKIE_NAME].value
        answer = strict.post("/api/strategies", "{}", content_type="application/json", headers={"x-csrftoken": token})
        self.assertEqual(answer.status_code, 422)

    def test_headers_of_every_answer(self) -> None:
        for path in ("/", "/api/me", "/health"):
            headers = self.client.get(path).headers
            self.assertEqual(headers["Content-Security-Policy"], settings.CONTENT_SECURITY_POLICY)
            self.assertEqual(headers["X-Frame-Options"], "DENY")
            self.assertEqual(headers["X-Content-Type-Options"], "nosniff")
        self.assertNotIn("unsafe-inline", settings.CONTENT_SECURITY_POLICY.split("script-src")[1].split(";")[0])

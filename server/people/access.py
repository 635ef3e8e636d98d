"""Who is asking and what they may do: a session may do everything its person may, a token what its scopes say."""

from __future__ import annotations

import datetime as dt
import hashlib
import secrets
import time
from collections.abc import Callable
from typing import cast

from django.contrib.auth.models import User
from django.http import HttpRequest
from ninja.security import HttpBearer, SessionAuth

from config.errors import Forbidden, NotThere, Refused
from people.doors import ACCOUNT, DOORS, OPEN, PAPER, PERSON, SCOPES
from people.models import AccessToken

CONFIRMED_SECONDS = 600
MAX_TOKENS = 20
MAX_DAYS = 366
PREFIX = "strell_"


class SignedRequest(HttpRequest):
    """A request after :class:`SignedIn` or :class:`ByToken` let it in: who asks is known."""

    user: User
    scope_rank: int
    by_token: bool


class SignedIn(SessionAuth):
    """The session of a browser; it may do everything its person may."""

    param_name = "strell_session"
    """As the schema calls the cookie; each installation has a name of its own for it."""

    def authenticate(self, request: HttpRequest, key: str | None) -> User | None:
        signed = cast(SignedRequest, request)
        signed.scope_rank, signed.by_token = len(SCOPES) - 1, False
        return super().authenticate(request, key)


class ByToken(HttpBearer):
    """``Authorization: Bearer`` with a token of at least a scope."""

    def __init__(self, scope: str) -> None:
        super().__init__()
        self.scope = scope

    def authenticate(self, request: HttpRequest, token: str) -> User | None:
        found = _token(token)
        if found is None:
            return None
        signed = cast(SignedRequest, request)
        signed.user, signed.by_token = found.owner, True
        signed.scope_rank = max((SCOPES.index(scope) for scope in found.scopes), default=-1)
        need(signed, self.scope)
        return found.owner


def door(operation: str) -> list[Callable[..., object]] | None:
    """Who may call an operation; ``None``: anybody. Raises ``KeyError`` for one that is not in the table."""
    scope = DOORS[operation]
    if scope == OPEN:
        return None
    # what a token may not do at all it is told by its own door
    return [ByToken(PAPER if scope == ACCOUNT else scope), SignedIn()]


def _token(text: str) -> AccessToken | None:
    found = AccessToken.objects.select_related("owner").filter(digest=_digest(text), revoked_at=None).first()
    if found is None or found.expired or not found.owner.is_active:
        return None
    AccessToken.objects.filter(pk=found.pk).update(used_at=dt.datetime.now(dt.UTC))
    return found


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()


def need(request: SignedRequest, scope: str) -> None:
    """Raise :class:`Forbidden` unless whoever asks may do ``scope``."""
    if scope == PERSON and request.by_token:
        raise Forbidden("That is for a person who signed in, not for a token.")
    if scope != PERSON and request.scope_rank < SCOPES.index(scope):
        raise Forbidden(f"This token may not do that; it needs the scope '{scope}'.")


def make_token(user: User, name: str, scope: str, days: int) -> tuple[AccessToken, str]:
    """A token and its text, which is shown once and kept nowhere."""
    if not name.strip() or len(name) > 60:
        raise Refused(
            "A token needs a name of 1 to 60 characters.", [{"path": "name", "message": "1 to 60 characters"}]
        )
    if scope not in SCOPES:
        raise Refused(f"Choose one of the scopes {', '.join(SCOPES)}.", [{"path": "scope", "message": "unknown"}])
    if not 1 <= days <= MAX_DAYS:
        raise Refused(f"A token lasts 1 to {MAX_DAYS} days.", [{"path": "days", "message": f"1 to {MAX_DAYS}"}])
    if AccessToken.objects.of(user).count() >= MAX_TOKENS:
        raise Refused(f"There are {MAX_TOKENS} tokens already. Revoke one first.")
    text = PREFIX + secrets.token_urlsafe(32)
    scopes = list(SCOPES[: SCOPES.index(scope) + 1])
    expires = dt.datetime.now(dt.UTC) + dt.timedelta(days=days)
    token = AccessToken.objects.create(
        owner=user, name=name.strip(), digest=_digest(text), scopes=scopes, expires_at=expires
    )
    return token, text


def revoke(user: User, token_id: int) -> None:
    if not AccessToken.objects.of(user).filter(pk=token_id).update(revoked_at=dt.datetime.now(dt.UTC)):
        raise NotThere("There is no such token.")


def confirm(request: SignedRequest, password: str) -> None:
    """Take the password a second time; it opens arming at a broker for ten minutes."""
    if not request.user.check_password(password):
        raise Refused("The password is wrong.", [{"path": "password", "message": "wrong"}])
    request.session["confirmed"] = time.time()


def confirmed(request: SignedRequest) -> bool:
    return time.time() - float(request.session.get("confirmed", 0)) < CONFIRMED_SECONDS


def need_confirmed(request: SignedRequest) -> None:
    """Raise :class:`Forbidden` unless a person gave their password in the last ten minutes."""
    if request.by_token:
        raise Forbidden("Arming at a broker is for a person with a password, not for a token.")
    if not confirmed(request):
        raise PasswordWanted("Give your password again: from here on orders go to a broker.")


class PasswordWanted(Forbidden):
    """The page asks for the password and tries again."""

    status = 428

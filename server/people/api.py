"""Signing in and out."""

import datetime as dt
from typing import Any

from axes.exceptions import AxesBackendPermissionDenied
from axes.handlers.proxy import AxesProxyHandler
from django.contrib.auth import authenticate, login, logout
from django.db.models import QuerySet
from django.http import HttpRequest, JsonResponse
from django.views.decorators.csrf import ensure_csrf_cookie
from ninja import Router, Schema
from ninja.decorators import decorate_view
from pydantic import Field

from config.errors import Refused
from config.schemas import Asked
from people import access
from people.access import SignedRequest
from people.models import AccessToken

router = Router(tags=["people"])


class SignIn(Asked):
    name: str = Field(max_length=150)
    password: str = Field(max_length=1_000)


class Me(Schema):
    name: str | None
    operator: bool = False


class Password(Asked):
    password: str = Field(max_length=1_000)


class NewToken(Asked):
    name: str
    scope: str
    days: int = 30


class AccessTokenOut(Schema):
    id: int
    name: str
    scopes: list[str]
    created_at: dt.datetime
    expires_at: dt.datetime
    used_at: dt.datetime | None
    expired: bool


class MadeToken(AccessTokenOut):
    text: str


class SignInRefused(Refused):
    status = 401


class LockedOut(Refused):
    status = 429


LOCKED_OUT = "Too many failed attempts. Try again in 15 minutes."


def locked_out(request: HttpRequest, credentials: dict[str, Any], *args: object, **kwargs: object) -> JsonResponse:
    """What the lockout itself answers, in the shape of every other refusal."""
    return JsonResponse({"message": LOCKED_OUT, "problems": []}, status=LockedOut.status)


@router.get("/me", response=Me, operation_id="me")
@decorate_view(ensure_csrf_cookie)
def me(request: HttpRequest) -> dict[str, Any]:
    signed_in = request.user.is_authenticated
    return {"name": request.user.get_username() if signed_in else None, "operator": request.user.is_staff}


@router.post("/sign-in", response=Me, operation_id="sign_in")
def sign_in(request: HttpRequest, body: SignIn) -> dict[str, Any]:
    try:
        user = authenticate(request, username=body.name, password=body.password)
    except AxesBackendPermissionDenied:
        user = None
    if user is None:
        if not AxesProxyHandler.is_allowed(request, {"username": body.name}):
            raise LockedOut(LOCKED_OUT)
        raise SignInRefused("Name or password is wrong.")
    login(request, user)
    return {"name": user.get_username(), "operator": user.is_staff}


@router.post("/sign-out", response=Me, operation_id="sign_out")
def sign_out(request: SignedRequest) -> dict[str, Any]:
    logout(request)
    return {"name": None}


@router.post("/confirm", response={204: None}, operation_id="confirm_password")
def confirm(request: SignedRequest, body: Password) -> tuple[int, None]:
    access.confirm(request, body.password)
    return 204, None


@router.get("/tokens", response=list[AccessTokenOut], operation_id="tokens")
def tokens(request: SignedRequest) -> QuerySet[AccessToken]:
    return AccessToken.objects.of(request.user).order_by("-created_at")


@router.post("/tokens", response=MadeToken, operation_id="make_token")
def make_token(request: SignedRequest, body: NewToken) -> dict[str, Any]:
    token, text = access.make_token(request.user, body.name, body.scope, body.days)
    return {**AccessTokenOut.from_orm(token).dict(), "text": text}


@router.delete("/tokens/{token_id}", response={204: None}, operation_id="revoke_token")
def revoke(request: SignedRequest, token_id: int) -> tuple[int, None]:
    access.revoke(request.user, token_id)
    return 204, None

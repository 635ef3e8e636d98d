"""Signing in and out."""

from axes.exceptions import AxesBackendPermissionDenied
from axes.handlers.proxy import AxesProxyHandler
from django.contrib.auth import authenticate, login, logout
from django.http import HttpRequest, JsonResponse
from django.views.decorators.csrf import ensure_csrf_cookie
from ninja import Router, Schema
from ninja.decorators import decorate_view

from config.errors import Refused

router = Router(tags=["people"])


class SignIn(Schema):
    name: str
    password: str


class Me(Schema):
    name: str | None


class SignInRefused(Refused):
    status = 401


class LockedOut(Refused):
    status = 429


LOCKED_OUT = "Too many failed attempts. Try again in 15 minutes."


def locked_out(request: HttpRequest, credentials: dict, *args: object, **kwargs: object) -> JsonResponse:
    """What the lockout itself answers, in the shape of every other refusal."""
    return JsonResponse({"message": LOCKED_OUT, "problems": []}, status=LockedOut.status)


@router.get("/me", auth=None, response=Me, operation_id="me")
@decorate_view(ensure_csrf_cookie)
def me(request: HttpRequest):
    return {"name": request.user.get_username() if request.user.is_authenticated else None}


@router.post("/sign-in", auth=None, response=Me, operation_id="sign_in")
def sign_in(request: HttpRequest, body: SignIn):
    try:
        user = authenticate(request, username=body.name, password=body.password)
    except AxesBackendPermissionDenied:
        user = None
    if user is None:
        if not AxesProxyHandler.is_allowed(request, {"username": body.name}):
            raise LockedOut(LOCKED_OUT)
        raise SignInRefused("Name or password is wrong.")
    login(request, user)
    return {"name": user.get_username()}


@router.post("/sign-out", response=Me, operation_id="sign_out")
def sign_out(request: HttpRequest):
    logout(request)
    return {"name": None}

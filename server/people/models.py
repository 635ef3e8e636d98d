"""Access tokens and what a person has confirmed."""

import datetime as dt
from typing import Self

from django.conf import settings
from django.contrib.auth.models import User
from django.db import models


class TokenQuerySet(models.QuerySet["AccessToken"]):
    def of(self, user: User) -> Self:
        return self.filter(owner=user, revoked_at=None)


class AccessToken(models.Model):
    """A key for scripts. Only its hash is kept; it can do what its scopes say until it expires."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="tokens")
    name = models.CharField(max_length=60)
    digest = models.CharField(max_length=64, unique=True)
    scopes = models.JSONField(default=list)
    created_at = models.DateTimeField(auto_now_add=True)
    expires_at = models.DateTimeField()
    used_at = models.DateTimeField(null=True)
    revoked_at = models.DateTimeField(null=True)

    objects = TokenQuerySet.as_manager()

    @property
    def expired(self) -> bool:
        return self.expires_at <= dt.datetime.now(dt.UTC)


class SecondFactor(models.Model):
    """Place of a second factor; trading at a real broker is refused without one that is confirmed."""

    owner = models.OneToOneField(settings.AUTH_USER_MODEL, models.CASCADE, related_name="second_factor")
    kind = models.CharField(max_length=12)
    secret = models.BinaryField()
    confirmed_at = models.DateTimeField(null=True)

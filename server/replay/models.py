"""Replay sessions: a stay in the past with its own clock and account."""

from typing import Self

from django.conf import settings
from django.contrib.auth.models import User
from django.db import models

from market.models import Underlying
from runs.models import RunTrade
from strategies.models import Revision, Strategy


class ReplayQuerySet(models.QuerySet["ReplaySession"]):
    def of(self, user: User) -> Self:
        return self.filter(owner=user, deleted_at=None)


class ReplaySession(models.Model):
    class Acts(models.TextChoices):
        """What its rules do by themselves."""

        ADVISE = "advise"
        LEAVE = "leave"
        LIVE = "live"

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="replays")
    underlying = models.ForeignKey(Underlying, models.PROTECT)
    strategy = models.ForeignKey(Strategy, models.CASCADE, null=True, related_name="replays")
    revision = models.ForeignKey(Revision, models.PROTECT, null=True)
    trade = models.ForeignKey(RunTrade, models.SET_NULL, null=True, help_text="the trade it was started from")
    name = models.CharField(max_length=80)
    note = models.TextField(blank=True)
    cash = models.DecimalField(max_digits=14, decimal_places=2)
    cursor = models.BigIntegerField(help_text="epoch second of the session's clock")
    start = models.BigIntegerField()
    acts = models.CharField(max_length=8, choices=Acts, default=Acts.ADVISE)
    entry = models.CharField(max_length=40, default="entry", help_text="whose trade it was started from")
    marks = models.JSONField(default=list, help_text="[{at, kind, text}] known from the start")
    created_at = models.DateTimeField(auto_now_add=True)
    updated_at = models.DateTimeField(auto_now=True)
    deleted_at = models.DateTimeField(null=True)

    objects = ReplayQuerySet.as_manager()


class ReplayFill(models.Model):
    """One fill of one contract. A fill set aside counts no longer but can be brought back."""

    session = models.ForeignKey(ReplaySession, models.CASCADE, related_name="fills")
    at = models.BigIntegerField()
    order = models.PositiveIntegerField(help_text="fills of one action share it")
    contract = models.CharField(max_length=60)
    contracts = models.IntegerField()
    price_parts = models.BigIntegerField()
    commission = models.DecimalField(max_digits=10, decimal_places=2)
    by = models.CharField(max_length=8, default="hand", help_text="hand or rules")
    rule = models.CharField(max_length=40, blank=True, help_text="the sentence that made it")
    leg = models.CharField(max_length=60, blank=True, help_text="the leg it is; empty: called after its contract")
    set_aside = models.PositiveIntegerField(null=True, help_text="the action that set it aside")

    class Meta:
        ordering = ["at", "order", "id"]

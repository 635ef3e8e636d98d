"""Strategies and their frozen revisions."""

from typing import Any, Self

from django.conf import settings
from django.contrib.auth.models import User
from django.db import models
from django.db.backends.base.base import BaseDatabaseWrapper
from django.db.models.expressions import Expression

from market.models import Underlying
from strell_core.strategy.document import normalise
from strell_core.strategy.upgrades import FORMAT


class DocumentField(models.JSONField):
    """A strategy document. It stays stored as it was written; whoever reads it gets it in the present format."""

    def from_db_value(self, value: str | None, expression: Expression, connection: BaseDatabaseWrapper) -> Any:
        raw = super().from_db_value(value, expression, connection)
        return normalise(raw) if isinstance(raw, dict) and raw.get("strell") != FORMAT else raw


class StrategyQuerySet(models.QuerySet["Strategy"]):
    def of(self, user: User) -> Self:
        """What a user may see: their own, not deleted."""
        return self.filter(owner=user, deleted_at=None)


class Strategy(models.Model):
    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="strategies")
    underlying = models.ForeignKey(Underlying, models.PROTECT)
    created_at = models.DateTimeField(auto_now_add=True)
    deleted_at = models.DateTimeField(null=True)
    held_from = models.DateField(null=True, help_text="first session held back from backtests and sweeps")
    looks = models.PositiveIntegerField(default=0, help_text="runs and sweeps that have seen sessions held back")

    objects = StrategyQuerySet.as_manager()

    @property
    def latest(self) -> "Revision":
        return self.revisions.latest("number")


class Revision(models.Model):
    """One frozen version of a strategy's document."""

    strategy = models.ForeignKey(Strategy, models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField()
    document = DocumentField()
    digest = models.CharField(max_length=64, help_text="of what decides: the document without name and notes")
    created_at = models.DateTimeField(auto_now_add=True)
    change = models.CharField(max_length=200, blank=True)
    note = models.CharField(max_length=500, blank=True, help_text="what a person says of it")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["strategy", "number"], name="one_revision_number")]
        ordering = ["number"]

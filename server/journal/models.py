"""What was decided and done, by whom and why. Rows are added, never changed or removed."""

from typing import Self

from django.conf import settings
from django.contrib.auth.models import User
from django.db import models


class JournalQuerySet(models.QuerySet["JournalEntry"]):
    def of(self, user: User) -> Self:
        return self.filter(owner_id=user.pk)


class JournalEntry(models.Model):
    """One event. The database refuses to change or delete it; what it points to may be gone."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.DO_NOTHING, db_constraint=False, related_name="+")
    at = models.DateTimeField(auto_now_add=True, help_text="wall time")
    market_at = models.BigIntegerField(null=True, help_text="market time, epoch seconds")
    who = models.CharField(max_length=12, help_text="person, rule, desk, broker or market")
    kind = models.CharField(max_length=24)
    text = models.TextField()
    rule = models.CharField(max_length=40, blank=True)
    values = models.JSONField(default=dict)
    account = models.BigIntegerField(null=True)
    strategy = models.BigIntegerField(null=True)
    deployment = models.BigIntegerField(null=True)
    order = models.BigIntegerField(null=True)
    symbol = models.CharField(max_length=16, blank=True)

    objects = JournalQuerySet.as_manager()

    class Meta:
        ordering = ["-id"]
        indexes = [models.Index(fields=["owner", "-id"], name="journal_of_owner")]

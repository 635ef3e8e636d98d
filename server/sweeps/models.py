"""Sweeps, their variants, and the parts in which workers take them."""

from typing import Self

from django.contrib.auth.models import User
from django.db import models

from strategies.models import Revision, Strategy


class SweepQuerySet(models.QuerySet["Sweep"]):
    def of(self, user: User) -> Self:
        """What a user may see: sweeps of their own strategies, not deleted."""
        return self.there().filter(strategy__owner=user, strategy__deleted_at=None)

    def there(self) -> Self:
        return self.filter(deleted_at=None)


class Sweep(models.Model):
    """Variants of one revision over one period."""

    class Status(models.TextChoices):
        RUNNING = "running"
        DONE = "done"
        CANCELLED = "cancelled"

    strategy = models.ForeignKey(Strategy, models.CASCADE, related_name="sweeps")
    revision = models.ForeignKey(Revision, models.PROTECT, related_name="sweeps")
    number = models.PositiveIntegerField()
    start = models.DateField()
    end = models.DateField()
    cash = models.DecimalField(max_digits=14, decimal_places=2)
    dials = models.JSONField(help_text="paths and values of each, see strategy.sweeps")
    drawn = models.PositiveIntegerField(null=True, help_text="so many variants drawn by chance; nothing: all")
    status = models.CharField(max_length=12, choices=Status, default=Status.RUNNING)
    queued_at = models.DateTimeField(auto_now_add=True)
    finished_at = models.DateTimeField(null=True)
    deleted_at = models.DateTimeField(null=True, help_text="gone from every page; it can be brought back for a day")

    objects = SweepQuerySet.as_manager()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["strategy", "number"], name="one_sweep_number")]
        ordering = ["-number"]


class Part(models.Model):
    """Some of a sweep's variants, computed by one worker. A running part holds a lease that its worker renews; a lease
    that ran out means the worker died, and another goes on after the last variant that was stored."""

    class Status(models.TextChoices):
        QUEUED = "queued"
        RUNNING = "running"
        DONE = "done"

    sweep = models.ForeignKey(Sweep, models.CASCADE, related_name="parts")
    first = models.PositiveIntegerField(help_text="place of its first variant")
    last = models.PositiveIntegerField(help_text="place after its last one")
    status = models.CharField(max_length=12, choices=Status, default=Status.QUEUED)
    lease_until = models.DateTimeField(null=True)
    attempts = models.PositiveIntegerField(default=0)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["sweep", "first"], name="one_part")]
        ordering = ["first"]


class Cell(models.Model):
    """One variant."""

    sweep = models.ForeignKey(Sweep, models.CASCADE, related_name="cells")
    place = models.PositiveIntegerField()
    at = models.JSONField(help_text="which value of every dial")
    figures = models.JSONField(null=True)
    daily = models.BinaryField(default=b"", help_text="returns by session, little-endian float32")
    problem = models.TextField(blank=True, help_text="why these rules cannot be run")
    done_at = models.DateTimeField(null=True)
    done_by = models.CharField(max_length=80, blank=True, help_text="the worker")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["sweep", "place"], name="one_cell")]
        ordering = ["place"]

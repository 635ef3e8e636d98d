"""Backtest runs and their trades."""

from collections.abc import Mapping
from typing import Any, Self

import zstandard
from django.contrib.auth.models import User
from django.db import models

from strategies.models import Revision, Strategy
from strell_core.engine.run import History
from strell_core.engine.stored import StoredStateError, dump_history, load_history
from strell_core.strategy.document import normalise
from strell_core.strategy.sweeps import varied


class RunQuerySet(models.QuerySet["Run"]):
    def of(self, user: User) -> Self:
        """What a user may see: runs of their own strategies, not deleted."""
        return self.there().filter(strategy__owner=user, strategy__deleted_at=None)

    def there(self) -> Self:
        """Runs that are not deleted."""
        return self.filter(deleted_at=None)


class Run(models.Model):
    """One backtest: what was asked, how far it is, what came out.

    A running run holds a lease that its worker renews; a lease that ran out means the worker died.
    """

    class Status(models.TextChoices):
        QUEUED = "queued"
        RUNNING = "running"
        DONE = "done"
        CANCELLED = "cancelled"
        INTERRUPTED = "interrupted"
        FAILED = "failed"

    ACTIVE = (Status.QUEUED, Status.RUNNING)

    strategy = models.ForeignKey(Strategy, models.CASCADE, related_name="runs")
    revision = models.ForeignKey(Revision, models.PROTECT, related_name="runs")
    number = models.PositiveIntegerField()
    values = models.JSONField(
        default=dict, help_text="of a sweep's variant: what it has instead of its revision's, by path"
    )
    digest = models.CharField(max_length=64, help_text="of what decides, as in a revision")
    start = models.DateField()
    end = models.DateField()
    cash = models.DecimalField(max_digits=14, decimal_places=2)
    method = models.CharField(max_length=8, default="blocks", help_text="blocks, or steps to check them")
    seed = models.PositiveIntegerField(default=1)
    status = models.CharField(max_length=12, choices=Status, default=Status.QUEUED)
    progress = models.FloatField(default=0.0)
    attempts = models.PositiveIntegerField(default=0)
    cancel_requested = models.BooleanField(default=False)
    queued_at = models.DateTimeField(auto_now_add=True)
    started_at = models.DateTimeField(null=True)
    finished_at = models.DateTimeField(null=True)
    lease_until = models.DateTimeField(null=True)
    message = models.TextField(blank=True)
    deleted_at = models.DateTimeField(null=True, help_text="gone from every page; it can be brought back for a day")
    name = models.CharField(max_length=80, blank=True, help_text="given by a person")
    note = models.TextField(blank=True)
    tags = models.JSONField(default=list)
    archived = models.BooleanField(default=False, help_text="out of the way: in the list of all runs only")
    baseline = models.BooleanField(default=False, help_text="what others of its strategy are compared with: one has it")
    manifest = models.JSONField(default=dict)
    figures = models.JSONField(default=dict)
    intervals = models.JSONField(default=dict, help_text="of figures that have one, their likely range")
    evidence = models.JSONField(default=dict)
    decisions = models.JSONField(default=list)
    curve = models.JSONField(default=dict)
    extends = models.ForeignKey("self", models.SET_NULL, null=True, help_text="the run whose sessions it goes on from")
    held_from = models.DateField(null=True, help_text="first of the sessions held back that it looks at")
    look = models.PositiveIntegerField(default=0, help_text="which look at them it is; 0: none")
    extended = models.JSONField(
        default=list, help_text="last sessions of the runs that it goes on from, the first first"
    )
    open_trades = models.JSONField(default=list, help_text="trades open at its end, with their marks: see runs.rows")

    objects = RunQuerySet.as_manager()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["strategy", "number"], name="one_run_number")]
        ordering = ["-number"]

    @property
    def document(self) -> dict[str, Any]:
        """What it runs: its revision's document, with its own values."""
        document: dict[str, Any] = self.revision.document
        return normalise(varied(document, self.values)) if self.values else document


class Carried(models.Model):
    """A finished run as the engine left it, to go on from when there are more sessions."""

    run = models.OneToOneField(Run, models.CASCADE, related_name="carried")
    history = models.BinaryField(help_text="engine.stored.dump_history, compressed")

    @classmethod
    def keep(cls, run: Run, history: History) -> None:
        packed = zstandard.ZstdCompressor(level=3).compress(dump_history(history).encode())
        cls.objects.update_or_create(run=run, defaults={"history": packed})

    @classmethod
    def of(cls, run: Run, symbol: str) -> History | None:
        """What a run had come to; ``None`` where it is not kept, or an earlier version kept it."""
        found = cls.objects.filter(run=run).first()
        try:
            text = zstandard.ZstdDecompressor().decompress(bytes(found.history)).decode() if found else ""
            return load_history(text, symbol) if text else None
        except StoredStateError:
            return None


class Variant(models.Model):
    """Rules of a strategy that were run, once each: a search is judged by all it tried, those deleted later too."""

    strategy = models.ForeignKey(Strategy, models.CASCADE, related_name="variants")
    digest = models.CharField(max_length=64, help_text="of what decides, as in a revision")
    sharpe = models.FloatField(null=True, help_text="a year, of the latest run")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["strategy", "digest"], name="one_variant")]

    @classmethod
    def count(cls, strategy_id: int, sharpes: Mapping[str, float | None]) -> None:
        """Rules were run, whoever ran them: a backtest or a sweep. ``sharpes`` by the digest of the rules."""
        rows = (cls(strategy_id=strategy_id, digest=digest, sharpe=sharpe) for digest, sharpe in sharpes.items())
        cls._default_manager.bulk_create(
            rows, update_conflicts=True, unique_fields=["strategy", "digest"], update_fields=["sharpe"]
        )


class RunTrade(models.Model):
    run = models.ForeignKey(Run, models.CASCADE, related_name="trades")
    number = models.PositiveIntegerField()
    row = models.JSONField(help_text="what the table of trades shows")
    trade = models.JSONField(help_text="the engine's closed trade")
    kept = models.BinaryField(default=b"", help_text="what its page shows, as it was when it ran: see runs.kept")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["run", "number"], name="one_trade_number")]
        ordering = ["number"]

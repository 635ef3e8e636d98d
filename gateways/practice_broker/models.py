"""The practice broker's own book. Strell's desk never reads it: it hears of it over FIX only."""

import secrets

from django.db import models


def new_code() -> str:
    return f"PB-{secrets.token_hex(8).upper()}"


class BrokerAccount(models.Model):
    """An account that was opened here. Its code cannot be guessed; nobody else's orders are taken."""

    code = models.CharField(max_length=20, unique=True, default=new_code)
    opened_at = models.DateTimeField(auto_now_add=True)


class BrokerOrder(models.Model):
    ALIVE = ("new", "partial")

    account = models.CharField(max_length=20)
    names = models.JSONField(help_text="client order ids, the latest last")
    symbol = models.CharField(max_length=16)
    legs = models.JSONField()
    lots = models.PositiveIntegerField()
    type = models.CharField(max_length=8)
    limit = models.IntegerField(null=True)
    time_in_force = models.CharField(max_length=4)
    state = models.CharField(
        max_length=10, default="new", help_text="new, partial, filled, cancelled, rejected, expired"
    )
    filled = models.PositiveIntegerField(default=0)
    session = models.DateField()
    arrived = models.BigIntegerField()
    not_before = models.DateTimeField(null=True, help_text="a delay played on demand")

    @property
    def left(self) -> int:
        return self.lots - self.filled


class BrokerName(models.Model):
    """Each client order id is taken once."""

    name = models.CharField(max_length=40, unique=True)
    order = models.ForeignKey(BrokerOrder, models.CASCADE, null=True)


class BrokerExecution(models.Model):
    """A report. It is sent after it is committed; sent again it is the same execution."""

    order = models.ForeignKey(BrokerOrder, models.CASCADE, null=True, related_name="executions")
    exec_id = models.CharField(max_length=40, unique=True)
    account = models.CharField(max_length=20)
    report = models.JSONField()
    sent = models.BooleanField(default=False)


class BrokerFault(models.Model):
    """A fault to play on the next order that meets it."""

    KINDS = (
        "reject",
        "partial fill",
        "delay",
        "drop before acknowledgement",
        "drop after acknowledgement",
        "duplicate report",
        "lose the day",
    )

    kind = models.CharField(max_length=32)
    left = models.PositiveIntegerField(default=1)

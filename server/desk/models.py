"""Accounts, orders, fills, positions, deployments: everything the desk knows is here."""

from typing import Self, TypeVar

from django.conf import settings
from django.contrib.auth.models import User
from django.db import models

from market.models import Underlying
from strategies.models import Revision, Strategy

PAPER, PRACTICE = "paper", "practice"
DIVIDEND = "dividend"
"""Kind of a fill that moves money only."""


Row = TypeVar("Row", bound=models.Model)


class OfOwner(models.QuerySet[Row]):
    """What a user may see is filtered here and nowhere else."""

    def of(self, user: User) -> Self:
        return self.filter(owner=user)


class OfAccount(models.QuerySet[Row]):
    def of(self, user: User) -> Self:
        return self.filter(account__owner=user)


class Leader(models.Model):
    """The one desk that decides. Every deciding transaction checks that the epoch is still its own."""

    name = models.CharField(max_length=20, primary_key=True)
    epoch = models.BigIntegerField(default=0)
    beat = models.DateTimeField(null=True)
    says = models.CharField(max_length=200, blank=True, help_text="why nothing is decided just now")


class Account(models.Model):
    class Kind(models.TextChoices):
        PAPER = PAPER
        PRACTICE = PRACTICE

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="accounts")
    name = models.CharField(max_length=40)
    kind = models.CharField(max_length=8, choices=Kind)
    underlying = models.ForeignKey(Underlying, models.PROTECT, help_text="whose market it trades")
    cash_start = models.DecimalField(max_digits=14, decimal_places=2)
    commission = models.DecimalField(max_digits=8, decimal_places=2, default="0.80", help_text="a contract")
    limits = models.JSONField(default=dict)
    locked_in = models.PositiveIntegerField(null=True, help_text="generation of the venue's clock it is halted in")
    locked_because = models.CharField(max_length=200, blank=True)
    broker_code = models.CharField(max_length=20, blank=True, help_text="what its broker calls it: Account (1)")
    quarantine = models.TextField(blank=True, help_text="what the broker holds that the ledger does not know")
    session = models.DateField(null=True, help_text="session of which the opening equity is kept")
    opening_equity = models.DecimalField(max_digits=14, decimal_places=2, null=True)
    created_at = models.DateTimeField(auto_now_add=True)

    objects = OfOwner.as_manager()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["owner", "name"], name="one_account_name")]
        ordering = ["id"]


class DeploymentQuerySet(OfOwner["Deployment"]):
    def within(self, account: Account) -> Self:
        """Those that trade in an account, be it for one of several underlyings only."""
        return self.filter(models.Q(account=account) | models.Q(beside=account)).distinct()


class Deployment(models.Model):
    """A strategy's revision switched on in an account, by whose market's snapshots it decides. ``state`` is the engine's,
    after ``cursor``."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="deployments")
    strategy = models.ForeignKey(Strategy, models.CASCADE, related_name="deployments")
    revision = models.ForeignKey(Revision, models.PROTECT)
    account = models.ForeignKey(Account, models.PROTECT, related_name="deployments")
    beside = models.ManyToManyField(
        Account, related_name="deployments_beside", help_text="where it trades other underlyings, an account each"
    )
    size = models.PositiveIntegerField(default=1, help_text="lots of the rules are multiplied by it")
    limits = models.JSONField(default=dict)
    armed = models.BooleanField(default=False)
    state = models.TextField()
    at_work = models.PositiveIntegerField(default=0, help_text="orders its engine has at work")
    cursor = models.BigIntegerField(help_text="last recorded snapshot it was decided on")
    session = models.DateField(null=True, help_text="session of the cursor")
    checklist = models.JSONField(default=list)
    says = models.CharField(max_length=300, blank=True)
    created_at = models.DateTimeField(auto_now_add=True)
    armed_at = models.DateTimeField(null=True)
    ended_at = models.DateTimeField(null=True)

    objects = DeploymentQuerySet.as_manager()

    class Meta:
        ordering = ["-id"]

    @property
    def accounts(self) -> list[Account]:
        """All that it trades in, that of its clock first."""
        return [self.account, *self.beside.select_related("underlying").order_by("pk")]

    def account_of(self, symbol: str) -> Account:
        """The account in which it trades an underlying; that of its clock without a symbol."""
        if symbol in ("", self.account.underlying.symbol):
            return self.account
        return self.beside.select_related("underlying").get(underlying__symbol=symbol)


class Decision(models.Model):
    """What the rules said on one snapshot, with the fills they were told: enough to decide it again."""

    deployment = models.ForeignKey(Deployment, models.CASCADE, related_name="decisions")
    at = models.BigIntegerField()
    session = models.DateField()
    before = models.TextField(blank=True, help_text="state before the session's first decision")
    orders = models.JSONField(default=list, help_text="orders told anew: made by hand, or late")
    fills = models.JSONField(default=list)
    reasons = models.JSONField(default=list)
    intents = models.JSONField(default=list)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["deployment", "at"], name="one_decision_a_snapshot")]
        ordering = ["at"]


class Holding(models.Model):
    """A position: the contracts that one opening order, or one trade of a deployment, brought."""

    account = models.ForeignKey(Account, models.CASCADE, related_name="holdings")
    name = models.CharField(max_length=80)
    deployment = models.ForeignKey(Deployment, models.SET_NULL, null=True, related_name="holdings")
    trade = models.PositiveIntegerField(null=True, help_text="number of the deployment's trade")
    opened_at = models.BigIntegerField()
    closed_at = models.BigIntegerField(null=True)
    protection = models.JSONField(default=dict, help_text="{target, stop}, each {value, unit}")
    protected_by = models.CharField(max_length=8, blank=True, help_text="the side that was reached")

    objects = OfAccount.as_manager()

    class Meta:
        ordering = ["id"]


class DeskOrder(models.Model):
    """One order. Its state follows OrdStatus (39) of FIX 4.4, with what comes before a venue knows it."""

    class State(models.TextChoices):
        READY = "ready"
        CLAIMED = "claimed"
        SENT = "sent"
        UNKNOWN = "unknown"
        WORKING = "working"
        PARTLY = "partly filled"
        FILLED = "filled"
        CANCELLED = "cancelled"
        EXPIRED = "expired"
        REFUSED = "refused"
        REJECTED = "rejected"

    ALIVE = (State.READY, State.CLAIMED, State.SENT, State.UNKNOWN, State.WORKING, State.PARTLY)
    AT_VENUE = (State.WORKING, State.PARTLY)

    account = models.ForeignKey(Account, models.CASCADE, related_name="orders")
    client_id = models.CharField(max_length=64, help_text="given by who placed it; placing it again changes nothing")
    holding = models.ForeignKey(Holding, models.SET_NULL, null=True, related_name="orders")
    deployment = models.ForeignKey(Deployment, models.SET_NULL, null=True, related_name="orders")
    intent = models.CharField(max_length=60, blank=True, help_text="the engine's order it carries out")
    by = models.CharField(max_length=12, help_text="person, rule, protection or halt")
    because = models.CharField(max_length=300, blank=True)
    rule = models.CharField(max_length=40, blank=True)
    opens = models.BooleanField()
    changes = models.BooleanField(
        default=False, help_text="it closes legs of its holding and opens others in one order"
    )
    legs = models.JSONField(help_text="[[contract, signed contracts a lot]]")
    lots = models.PositiveIntegerField()
    type = models.CharField(max_length=8)
    limit = models.IntegerField(null=True, help_text="quanta a lot; paid positive, taken in negative")
    time_in_force = models.CharField(max_length=4)
    protection = models.JSONField(default=dict)
    state = models.CharField(max_length=16, choices=State, default=State.READY)
    reason = models.CharField(max_length=300, blank=True)
    filled = models.PositiveIntegerField(default=0)
    cancel_wanted = models.BooleanField(default=False)
    new_limit = models.IntegerField(null=True, help_text="a change that the venue has not confirmed")
    session = models.DateField()
    placed_market = models.BigIntegerField()
    arrived_market = models.BigIntegerField(null=True)
    expires_market = models.BigIntegerField(null=True, help_text="not sent after this")
    told = models.BooleanField(default=False, help_text="the deployment's engine knows that it ended")
    placed_at = models.DateTimeField(auto_now_add=True)
    changed_at = models.DateTimeField(auto_now=True)
    broker_id = models.CharField(max_length=40, blank=True)

    objects = OfAccount.as_manager()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["account", "client_id"], name="one_client_id")]
        ordering = ["-id"]

    @property
    def alive(self) -> bool:
        return self.state in self.ALIVE

    @property
    def left(self) -> int:
        return self.lots - self.filled


class DeskFill(models.Model):
    """So many lots of an order dealt, or contracts settled. The execution id makes it count once."""

    account = models.ForeignKey(Account, models.CASCADE, related_name="fills")
    order = models.ForeignKey(DeskOrder, models.CASCADE, null=True, related_name="fills")
    holding = models.ForeignKey(Holding, models.CASCADE, related_name="fills")
    execution = models.CharField(max_length=80)
    kind = models.CharField(
        max_length=10, default="order", help_text="order, settlement, delivery, dividend or taken over"
    )
    at = models.BigIntegerField(help_text="market time")
    wall = models.DateTimeField(auto_now_add=True)
    lots = models.PositiveIntegerField()
    legs = models.JSONField(help_text="[[contract, signed contracts, price in parts]]")
    commission = models.DecimalField(max_digits=10, decimal_places=2)
    told = models.BooleanField(default=False, help_text="the deployment's engine has been told")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["account", "execution"], name="one_execution")]
        ordering = ["id"]


class LedgerRow(models.Model):
    """Money moved: starting cash and these rows are the account's cash."""

    account = models.ForeignKey(Account, models.CASCADE, related_name="ledger")
    fill = models.ForeignKey(DeskFill, models.CASCADE, related_name="ledger")
    at = models.BigIntegerField()
    kind = models.CharField(max_length=10, help_text="premium, commission, settlement, delivery or dividend")
    contract = models.CharField(max_length=60, blank=True)
    contracts = models.IntegerField(default=0)
    price_parts = models.BigIntegerField(default=0)
    amount = models.DecimalField(max_digits=14, decimal_places=2)

    class Meta:
        ordering = ["id"]


class Outbox(models.Model):
    """A message for a broker. It is claimed by a gateway, sent once, and never sent again."""

    class State(models.TextChoices):
        READY = "ready"
        CLAIMED = "claimed"
        SENT = "sent"
        ACKNOWLEDGED = "acknowledged"
        UNKNOWN = "unknown"
        REFUSED = "refused"

    order = models.ForeignKey(DeskOrder, models.CASCADE, related_name="messages")
    kind = models.CharField(max_length=8, help_text="new, cancel or replace")
    cl_ord_id = models.CharField(max_length=40, unique=True, help_text="ClOrdID (11), from intent and attempt")
    original = models.CharField(max_length=40, blank=True, help_text="OrigClOrdID (41)")
    limit = models.IntegerField(null=True)
    state = models.CharField(max_length=12, choices=State, default=State.READY)
    reason = models.CharField(max_length=300, blank=True)
    created_at = models.DateTimeField(auto_now_add=True)
    claimed_at = models.DateTimeField(null=True)
    asked_at = models.DateTimeField(null=True, help_text="when its status was last asked for")

    class Meta:
        ordering = ["id"]


class Inbox(models.Model):
    """A report from a broker, kept before anything else is done with it; each execution id once."""

    execution = models.CharField(max_length=80, unique=True, help_text="ExecID (17), or what stands for it")
    kind = models.CharField(max_length=16)
    cl_ord_id = models.CharField(max_length=40, blank=True)
    account_code = models.CharField(max_length=20, blank=True)
    report = models.JSONField()
    received_at = models.DateTimeField(auto_now_add=True)
    applied_at = models.DateTimeField(null=True)
    problem = models.CharField(max_length=300, blank=True)

    class Meta:
        ordering = ["id"]


class Connection(models.Model):
    """A gateway's line to its broker, as last seen."""

    name = models.CharField(max_length=20, primary_key=True)
    up = models.BooleanField(default=False)
    since = models.DateTimeField(null=True)
    reconciled = models.BooleanField(default=False, help_text="positions and orders agree since the last sign-on")
    says = models.CharField(max_length=300, blank=True)
    beat = models.DateTimeField(null=True)

"""Underlyings, contracts, bars and session chains; files that were loaded."""

from typing import Self, TypeVar

from django.conf import settings
from django.contrib.auth.models import User
from django.db import models


class Underlying(models.Model):
    """An underlying with the terms of its options; prices in chains are integers of ``quantum``."""

    class Kind(models.TextChoices):
        INDEX = "index"
        STOCK = "stock"
        FUND = "fund"
        FUTURE = "future"

    symbol = models.CharField(max_length=16, unique=True)
    name = models.CharField(max_length=80)
    currency = models.CharField(max_length=3)
    multiplier = models.PositiveIntegerField()
    quantum = models.DecimalField(max_digits=8, decimal_places=4)
    calendar = models.CharField(max_length=20)
    rate = models.FloatField(help_text="continuously compounded, a year")
    data_digest = models.CharField(max_length=64, blank=True, help_text="identity of all current session chains")
    kind = models.CharField(max_length=8, choices=Kind, default=Kind.INDEX)
    american = models.BooleanField(default=False, help_text="its options can be exercised before expiration")
    settles = models.CharField(max_length=5, choices=[("open", "open"), ("close", "close")], default="close")
    ticks = models.JSONField(default=list, help_text="price steps of the exchange: from which price on, and the step")
    owner = models.ForeignKey(
        settings.AUTH_USER_MODEL, models.SET_NULL, null=True, related_name="underlyings",
        help_text="who loaded it and may change it; nobody: the operator",
    )  # fmt: skip

    def __str__(self) -> str:
        return self.symbol


class Expiration(models.Model):
    underlying = models.ForeignKey(Underlying, models.CASCADE, related_name="expirations")
    date = models.DateField()
    settles_at = models.DateTimeField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["underlying", "date"], name="one_expiration_a_date")]
        ordering = ["date"]


class Contract(models.Model):
    expiration = models.ForeignKey(Expiration, models.CASCADE, related_name="contracts")
    right = models.CharField(max_length=4)
    strike = models.DecimalField(max_digits=9, decimal_places=3)
    first_session = models.DateField()
    last_session = models.DateField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["expiration", "right", "strike"], name="one_contract")]


class Bar(models.Model):
    """One session of the underlying, prices in 0.01 points."""

    underlying = models.ForeignKey(Underlying, models.CASCADE, related_name="bars")
    date = models.DateField()
    open = models.IntegerField()
    high = models.IntegerField()
    low = models.IntegerField()
    close = models.IntegerField()
    given = models.BooleanField(default=True, help_text="the official bar, not one made from snapshots")

    volume = models.BigIntegerField(null=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["underlying", "date"], name="one_bar_a_session")]
        ordering = ["date"]


class Dividend(models.Model):
    """What an underlying paid; who holds it at the open of ``date`` does not get it any more."""

    underlying = models.ForeignKey(Underlying, models.CASCADE, related_name="dividends")
    date = models.DateField()
    amount = models.DecimalField(max_digits=12, decimal_places=4)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["underlying", "date"], name="one_dividend_a_day")]
        ordering = ["date"]


class CalendarRules(models.Model):
    """An exchange's hours and holidays as a person wrote them down; every underlying may follow them."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.PROTECT, related_name="calendars")
    name = models.CharField(max_length=20, unique=True)
    rules = models.JSONField(help_text="of strell_core.market.calendars.OwnCalendar")

    class Meta:
        ordering = ["name"]


class TermsChange(models.Model):
    """Terms that hold from ``start`` on; the underlying itself carries the latest ones."""

    underlying = models.ForeignKey(Underlying, models.CASCADE, related_name="periods")
    start = models.DateField()
    multiplier = models.PositiveIntegerField()
    american = models.BooleanField()
    settles = models.CharField(max_length=5)
    rate = models.FloatField()
    currency = models.CharField(max_length=3)
    calendar = models.CharField(max_length=20)
    ticks = models.JSONField(default=list, help_text="price steps of the exchange: from which price on, and the step")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["underlying", "start"], name="one_change_of_terms_a_day")]
        ordering = ["start"]


class Split(models.Model):
    """Units of the underlying became more or fewer at the open of ``date``."""

    underlying = models.ForeignKey(Underlying, models.CASCADE, related_name="splits")
    date = models.DateField()
    ratio = models.FloatField(help_text="new units for an old one")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["underlying", "date"], name="one_split_a_day")]
        ordering = ["date"]


class MarketEvent(models.Model):
    """A report or another thing that happens to an underlying, on a day or at an instant."""

    underlying = models.ForeignKey(Underlying, models.CASCADE, related_name="events")
    date = models.DateField()
    at = models.BigIntegerField(null=True, help_text="epoch seconds, where a time is known")
    event = models.CharField(max_length=120)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["underlying", "date", "event"], name="one_event_a_day")]
        ordering = ["date"]


class Rate(models.Model):
    """Interest a year in a currency for a term, as known on a day."""

    currency = models.CharField(max_length=3)
    date = models.DateField()
    days = models.PositiveIntegerField()
    rate = models.FloatField(help_text="percent a year")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["currency", "date", "days"], name="one_rate_a_term")]
        ordering = ["date", "days"]


class IntradayBars(models.Model):
    """Bars within one session of an underlying, compressed: see :func:`facts.dated.pack`."""

    underlying = models.ForeignKey(Underlying, models.CASCADE, related_name="intraday_bars")
    date = models.DateField()
    count = models.PositiveIntegerField()
    payload = models.BinaryField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["underlying", "date"], name="one_set_of_bars_a_session")]
        ordering = ["date"]


Row = TypeVar("Row", bound=models.Model)


class OwnedQuerySet(models.QuerySet[Row]):
    def of(self, user: User) -> Self:
        """What a user may see: their own."""
        return self.filter(owner=user)


class ColumnMapping(models.Model):
    """How files of one kind are read, kept under a name."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="mappings")
    name = models.CharField(max_length=60)
    mapping = models.JSONField()

    objects = OwnedQuerySet.as_manager()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["owner", "name"], name="one_mapping_a_name")]
        ordering = ["name"]


class Intake(models.Model):
    """One file on its way into the data: what it is, how far it is, what came of it."""

    class Status(models.TextChoices):
        NEW = "new"
        QUEUED = "queued"
        RUNNING = "running"
        DONE = "done"
        CANCELLED = "cancelled"
        FAILED = "failed"
        TAKEN_BACK = "taken back"

    ACTIVE = (Status.QUEUED, Status.RUNNING)

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="intakes")
    name = models.CharField(max_length=200)
    path = models.CharField(max_length=500)
    size = models.BigIntegerField()
    digest = models.CharField(max_length=64)
    made_at = models.DateTimeField(auto_now_add=True)
    mapping = models.JSONField(default=dict)
    terms = models.JSONField(default=dict, help_text="of underlyings that are not known yet")
    adds = models.BooleanField(default=False, help_text="adds to sessions that are there, instead of replacing them")
    status = models.CharField(max_length=12, choices=Status, default=Status.NEW)
    doing = models.CharField(max_length=120, blank=True)
    share = models.FloatField(default=0.0)
    message = models.TextField(blank=True)
    started_at = models.DateTimeField(null=True)
    finished_at = models.DateTimeField(null=True)
    lease_until = models.DateTimeField(null=True)
    attempts = models.PositiveIntegerField(default=0)
    cancel_requested = models.BooleanField(default=False)
    rows = models.BigIntegerField(default=0, help_text="read so far")
    staged = models.BooleanField(default=False, help_text="every row is laid aside by session")
    stored = models.PositiveIntegerField(default=0, help_text="sessions worked through, in their order")
    report = models.JSONField(default=dict)

    objects = OwnedQuerySet.as_manager()

    class Meta:
        ordering = ["-id"]


class Series(models.Model):
    """A dated number of a person's own."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="series")
    name = models.CharField(max_length=40)

    objects = OwnedQuerySet.as_manager()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["owner", "name"], name="one_series_a_name")]
        ordering = ["name"]


class SeriesValue(models.Model):
    series = models.ForeignKey(Series, models.CASCADE, related_name="values")
    date = models.DateField()
    at = models.BigIntegerField(default=0, help_text="epoch seconds; 0: of the whole day")
    value = models.FloatField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["series", "date", "at"], name="one_value_an_instant")]
        ordering = ["date", "at"]


class DatedChange(models.Model):
    """What an intake of dated facts changed, and what was there before: how it is taken back."""

    intake = models.ForeignKey(Intake, models.CASCADE, related_name="changes")
    key = models.CharField(max_length=200)
    before = models.JSONField(null=True, help_text="nothing: the fact was new")

    class Meta:
        constraints = [models.UniqueConstraint(fields=["intake", "key"], name="one_change_a_fact")]
        ordering = ["id"]


class Removal(models.Model):
    """Sessions taken out of the data; as long as it stands it can be undone."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE, related_name="removals")
    underlying = models.ForeignKey(Underlying, models.CASCADE, related_name="removals")
    start = models.DateField()
    end = models.DateField()
    at = models.DateTimeField(auto_now_add=True)
    chains = models.JSONField(help_text="the rows that were current")
    undone_at = models.DateTimeField(null=True)

    objects = OwnedQuerySet.as_manager()

    class Meta:
        ordering = ["-id"]


class SessionChainRow(models.Model):
    """One version of one session's chain, compressed. A correction adds a version."""

    underlying = models.ForeignKey(Underlying, models.CASCADE, related_name="chains")
    date = models.DateField()
    version = models.PositiveIntegerField(default=1)
    current = models.BooleanField(default=True)
    known_at = models.DateTimeField(auto_now_add=True)
    digest = models.CharField(max_length=64)
    conventions = models.CharField(max_length=200)
    snapshots = models.PositiveIntegerField()
    contracts = models.PositiveIntegerField()
    crossed = models.PositiveIntegerField(help_text="quotes with bid above ask: kept, never traded on")
    payload = models.BinaryField()
    size = models.PositiveIntegerField(default=0, help_text="bytes of the payload")
    extras = models.BinaryField(default=b"", help_text="what the file told beside bid and ask")
    extras_size = models.PositiveIntegerField(default=0, help_text="bytes of the extras")
    findings = models.JSONField(default=dict, help_text="what is doubtful, counted")
    intake = models.ForeignKey(Intake, models.SET_NULL, null=True, related_name="chains")
    basis = models.CharField(max_length=32, blank=True, help_text="identity of what its volatilities rest on")

    class Meta:
        constraints = [
            models.UniqueConstraint(fields=["underlying", "date", "version"], name="one_chain_version"),
            models.UniqueConstraint(
                fields=["underlying", "date"], condition=models.Q(current=True), name="one_current_chain"
            ),
        ]
        ordering = ["date"]


class Venues(models.QuerySet["Venue"]):
    def with_terms(self) -> Self:
        """With their underlyings and the calendars that these follow one after another, fetched once."""
        return self.select_related("underlying").prefetch_related("underlying__periods")


class Venue(models.Model):
    """A market's persisted clock: where it stands, how fast it runs.

    Market time is ``market_anchor`` plus ``rate`` times the wall seconds since ``wall_anchor`` while it
    runs, and ``reached`` while it stands. ``reached`` is the last instant the market published. Within
    a ``generation`` (one session) it never runs back.
    """

    name = models.CharField(max_length=40)
    underlying = models.OneToOneField(Underlying, models.CASCADE, related_name="venue")
    scenario = models.JSONField(help_text="settings of the generator whose today is played")
    session = models.DateField()
    generation = models.PositiveIntegerField(default=1)
    reached = models.BigIntegerField()
    running = models.BooleanField(default=False)
    rate = models.FloatField(default=1.0)
    market_anchor = models.FloatField()
    wall_anchor = models.FloatField()
    jump_to = models.BigIntegerField(null=True)
    quiet = models.BooleanField(default=False, help_text="a fault played on demand: no quotes are sent")
    sealed = models.BooleanField(default=False, help_text="the session is over and recorded whole")
    followed = models.BigIntegerField(default=0, help_text="the desk has worked through the market up to here")
    followed_at = models.DateTimeField(null=True)
    objects = Venues.as_manager()


class LiveChain(models.Model):
    """The chain as last published: one snapshot, with sizes."""

    underlying = models.OneToOneField(Underlying, models.CASCADE, related_name="live")
    session = models.DateField()
    at = models.BigIntegerField()
    sequence = models.BigIntegerField()
    published = models.DateTimeField()
    payload = models.BinaryField()
    sizes = models.BinaryField()
    unit = models.JSONField(
        default=list, help_text="bid, ask (0.01 points) and sizes of the underlying itself, where it is dealt"
    )


class RecordedSnapshot(models.Model):
    """One snapshot on the recording grid of the session being traded; decisions use nothing else."""

    underlying = models.ForeignKey(Underlying, models.CASCADE, related_name="recorded")
    session = models.DateField()
    at = models.BigIntegerField()
    spot = models.IntegerField(help_text="0.01 points")
    payload = models.BinaryField()

    class Meta:
        constraints = [models.UniqueConstraint(fields=["underlying", "at"], name="one_recorded_snapshot")]
        ordering = ["at"]

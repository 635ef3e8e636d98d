"""Loading the demo scenario into the database."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable

from django.db import transaction

from market.clock import open_venue
from market.models import Bar, Contract, Expiration, SessionChainRow, Underlying
from market.timelines import data_digest
from strell_core.market.chains import digest
from strell_core.market.instruments import ContractKey
from strell_core.pricing.surface import CONVENTIONS
from strell_core.scenario.generator import Scenario, Settings
from strell_core.scenario.sessions import generate

Progress = Callable[[str, int, int], None]


def load_scenario(settings: Settings, progress: Progress, processes: int = 2) -> Underlying:
    """Generate a scenario and store it, all in one transaction: a crash leaves nothing half-loaded."""
    scenario = Scenario(settings)
    terms, count = scenario.underlying, len(scenario.dates)
    with transaction.atomic():
        Underlying.objects.filter(symbol=terms.symbol).delete()
        underlying = Underlying.objects.create(
            symbol=terms.symbol, name=terms.name, currency=terms.currency, multiplier=terms.multiplier,
            quantum=terms.quantum, calendar=terms.calendar, rate=terms.rate,
        )  # fmt: skip
        listed: dict[ContractKey, list[dt.date]] = {}
        for made in generate(settings, count, processes):
            date = scenario.dates[made.index]
            SessionChainRow.objects.create(
                underlying=underlying, date=date, digest=digest(made.payload), conventions=CONVENTIONS,
                snapshots=made.snapshots, contracts=len(made.contracts), crossed=made.crossed, payload=made.payload, size=len(made.payload),
            )  # fmt: skip
            for contract in made.contracts:
                listed.setdefault(contract, [date, date])[1] = date
            progress("sessions", made.index + 1, count)
        _store_relational(underlying, scenario, listed)
        underlying.data_digest = data_digest(underlying)
        underlying.save(update_fields=["data_digest"])
        following = scenario.calendar.between(settings.end + dt.timedelta(days=1), settings.end + dt.timedelta(days=14))
        open_venue(underlying, settings.plain(), following[0], scenario.calendar.session(following[0]).open)
    return underlying


def _store_relational(underlying: Underlying, scenario: Scenario, listed: dict[ContractKey, list[dt.date]]) -> None:
    bars = []
    for index, date in enumerate(scenario.dates):
        opened, high, low, close = scenario.daily_bar(index)
        bars.append(Bar(underlying=underlying, date=date, open=opened, high=high, low=low, close=close))
    Bar.objects.bulk_create(bars)
    dates = sorted({key.expiration for key in listed})
    expirations = Expiration.objects.bulk_create(
        Expiration(
            underlying=underlying, date=date,
            settles_at=dt.datetime.fromtimestamp(scenario.calendar.session(date).close, dt.UTC),
        )
        for date in dates
    )  # fmt: skip
    by_date = {row.date: row for row in expirations}
    Contract.objects.bulk_create(
        (
            Contract(
                expiration=by_date[key.expiration],
                right=key.right,
                strike=key.strike,
                first_session=days[0],
                last_session=days[1],
            )
            for key, days in listed.items()
        ),
        batch_size=4000,
    )

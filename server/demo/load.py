"""Loading the demo scenario into the database."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from decimal import Decimal

import numpy as np
from django.db import transaction

from facts.dated import BAR, pack
from market.calendars import calendar_for
from market.models import (
    Bar,
    Contract,
    Dividend,
    Expiration,
    IntradayBars,
    MarketEvent,
    SessionChainRow,
    Split,
    Underlying,
)
from market.refresh import Basis
from market.timelines import data_digest
from strell_core.market.calendars import SessionCalendar
from strell_core.market.chains import digest
from strell_core.market.instruments import ContractKey
from strell_core.market.instruments import Underlying as Terms
from strell_core.pricing.surface import CONVENTIONS
from strell_core.scenario.generator import Scenario, Settings
from strell_core.scenario.sessions import generate, generate_singles, singles
from strell_core.scenario.single import NAMES
from strell_core.scenario.single_practice import single_settings
from venue.clock import open_venue

Progress = Callable[[str, int, int], None]
Listed = dict[ContractKey, list[dt.date]]
"""First and last session of every contract."""
Measured = tuple[dt.date, np.ndarray, np.ndarray]
"""A session with instants and values."""


def load_scenario(settings: Settings, progress: Progress, processes: int = 2) -> Underlying:
    """Generate a scenario and store it, all in one transaction: a crash leaves nothing half-loaded."""
    scenario = Scenario(settings)
    terms, count = scenario.underlying, len(scenario.dates)
    with transaction.atomic():
        Underlying.objects.filter(symbol=terms.symbol).delete()
        underlying = _underlying(terms)
        listed: Listed = {}
        volatility: list[Measured] = []
        for made in generate(settings, count, processes):
            date = scenario.dates[made.index]
            SessionChainRow.objects.create(
                underlying=underlying, date=date, digest=digest(made.payload), conventions=CONVENTIONS,
                snapshots=made.snapshots, contracts=len(made.contracts), crossed=made.crossed, payload=made.payload, size=len(made.payload),
            )  # fmt: skip
            for contract in made.contracts:
                listed.setdefault(contract, [date, date])[1] = date
            volatility.append((date, times_of(scenario, made.index), made.volatility))
            progress("sessions", made.index + 1, count)
        _store_bars(underlying, [(date, scenario.daily_bar(i)) for i, date in enumerate(scenario.dates)])
        _store_contracts(underlying, scenario.calendar, listed)
        _store_volatility_index(underlying, volatility)
        underlying.data_digest = data_digest(underlying)
        underlying.save(update_fields=["data_digest"])
        following = scenario.calendar.between(settings.end + dt.timedelta(days=1), settings.end + dt.timedelta(days=14))
        open_venue(underlying, settings.plain(), following[0], scenario.calendar.session(following[0]).open)
    return underlying


def times_of(scenario: Scenario, index: int) -> np.ndarray:
    """Instants of a session's snapshots."""
    return scenario.path.times[scenario.snapshot_rows(index)]


def load_singles(settings: Settings, sessions: int, progress: Progress, processes: int = 2, intraday: int = 0) -> None:
    """Generate and store the stocks and the fund beside the index: chains at the close, in the last ``intraday``
    sessions within it as well, bars, dividends, reports, a split."""
    scenarios = singles(settings, sessions, intraday)
    done, total = 0, sessions * len(scenarios)
    with transaction.atomic():
        Underlying.objects.filter(symbol__in=scenarios).delete()
        rows = {symbol: _underlying(scenario.name.underlying) for symbol, scenario in scenarios.items()}
        listed: dict[str, Listed] = {symbol: {} for symbol in scenarios}
        for made in generate_singles(settings, sessions, intraday, processes):
            row, date = rows[made.symbol], scenarios[made.symbol].dates[made.index]
            SessionChainRow.objects.create(
                underlying=row, date=date, digest=digest(made.payload), conventions=CONVENTIONS, snapshots=made.snapshots,
                contracts=len(made.contracts), crossed=0, payload=made.payload, size=len(made.payload),
                extras=made.extras, extras_size=len(made.extras),
            )  # fmt: skip
            for contract in made.contracts:
                listed[made.symbol].setdefault(contract, [date, date])[1] = date
            done += 1
            progress("chains of stocks and the fund", done, total)
        for symbol, scenario in scenarios.items():
            row = rows[symbol]
            _store_bars(row, [(date, scenario.daily_bar(i)) for i, date in enumerate(scenario.dates)])
            _store_contracts(row, scenario.calendar, listed[symbol])
            Dividend.objects.bulk_create(
                Dividend(underlying=row, date=date, amount=Decimal(str(amount)))
                for date, amount in scenario.dividends.items()
            )
            MarketEvent.objects.bulk_create(
                MarketEvent(underlying=row, date=date, at=scenario.calendar.session(date).close + 600, event="Quarterly report")
                for date in scenario.reports
            )  # fmt: skip
            if scenario.name.split is not None:
                Split.objects.create(underlying=row, date=scenario.name.split.date, ratio=scenario.name.split.ratio)
            basis = Basis(row)
            stored = list(row.chains.only("date"))
            for chain in stored:
                chain.basis = basis.of(chain.date)
            SessionChainRow.objects.bulk_update(stored, ["basis"])
            row.data_digest = data_digest(row)
            row.save(update_fields=["data_digest"])
        open_singles(settings)


def open_singles(settings: Settings) -> None:
    """Connect the practice exchange to the stocks and the fund whose history ends where their today begins."""
    for name in NAMES:
        row = Underlying.objects.filter(symbol=name.symbol, venue=None).first()
        if row is None or row.chains.order_by("-date").values_list("date", flat=True).first() != settings.end:
            continue
        calendar = calendar_for(row)
        session = calendar.between(settings.end + dt.timedelta(days=1), settings.end + dt.timedelta(days=14))[0]
        plain = single_settings(settings, name.symbol, row.chains.filter(current=True).count())
        open_venue(row, plain, session, calendar.session(session).open)


def _underlying(terms: Terms) -> Underlying:
    return Underlying.objects.create(
        symbol=terms.symbol, name=terms.name, currency=terms.currency, multiplier=terms.multiplier,
        quantum=terms.quantum, calendar=terms.calendar, rate=terms.rate, kind=terms.kind, american=terms.american,
    )  # fmt: skip


def _store_volatility_index(underlying: Underlying, measured: list[Measured]) -> None:
    """The volatility index of a market, from its chains: a bar a session, and bars within the recorded ones."""
    symbol = f"{underlying.symbol}V"
    Underlying.objects.filter(symbol=symbol).delete()
    row = Underlying.objects.create(
        symbol=symbol, name=underlying.name.replace(" 30 ", " Volatility "), currency=underlying.currency, multiplier=100,
        quantum=Decimal("0.05"), calendar=underlying.calendar, rate=underlying.rate,
    )  # fmt: skip
    bars, within = [], []
    for date, times, values in measured:
        known = np.flatnonzero(np.isfinite(values))
        if len(known) == 0:
            continue
        whole = np.rint(values[known] * 100).astype(int)
        bars.append((date, (int(whole[0]), int(whole.max()), int(whole.min()), int(whole[-1]))))
        if len(known) > 1:
            made = np.zeros(len(known), BAR)
            made["at"], made["volume"] = times[known], -1
            for name in ("open", "high", "low", "close"):
                made[name] = whole
            within.append(IntradayBars(underlying=row, date=date, count=len(made), payload=pack(made)))
    _store_bars(row, bars)
    IntradayBars.objects.bulk_create(within)


def _store_bars(underlying: Underlying, bars: list[tuple[dt.date, tuple[int, int, int, int]]]) -> None:
    Bar.objects.bulk_create(
        Bar(underlying=underlying, date=date, open=first, high=high, low=low, close=close)
        for date, (first, high, low, close) in bars
    )


def _store_contracts(underlying: Underlying, calendar: SessionCalendar, listed: Listed) -> None:
    dates = sorted({key.expiration for key in listed})
    expirations = Expiration.objects.bulk_create(
        Expiration(
            underlying=underlying, date=date,
            settles_at=dt.datetime.fromtimestamp(calendar.session(date).close, dt.UTC),
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

"""The market now: quotes as last published, the session as recorded so far."""

from __future__ import annotations

import datetime as dt
import threading
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import zstandard
from django.db import transaction
from django.db.models import F

from config.errors import Conflict
from config.push import notify_market
from market.calendars import calendar_for
from market.models import Bar, Contract, Expiration, LiveChain, RecordedSnapshot, SessionChainRow, Underlying, Venue
from market.own import market_for
from market.terms import terms
from market.timelines import timeline
from strell_core.formats import cubes
from strell_core.market.chains import SessionChain, decode, digest, encode
from strell_core.market.continued import continued
from strell_core.market.instruments import ContractKey
from strell_core.market.instruments import Underlying as Terms
from strell_core.market.market import Market
from strell_core.market.prices import SPOT_SCALE
from strell_core.market.timeline import Timeline
from strell_core.orders.order import Sided
from strell_core.pricing.surface import CONVENTIONS


@dataclass(frozen=True)
class Live:
    """The chain as last published."""

    symbol: str
    sequence: int
    session: dt.date
    at: int
    published: dt.datetime
    chain: SessionChain
    bid_size: np.ndarray
    ask_size: np.ndarray
    last: np.ndarray
    row: Underlying
    unit: Sided | None = None
    """Of the underlying itself, where it is dealt."""
    key: tuple[int, int] = (0, 0)
    """Of the stored row, and which of its publications this is."""

    @cached_property
    def timeline(self) -> Timeline:
        """One snapshot as a timeline, so that everything that reads history reads now as well."""
        return cubes.in_memory(
            [self.chain], terms(self.row), calendar_for(self.row), f"live {self.sequence}", unfinished=True
        )

    @cached_property
    def _row(self) -> dict[ContractKey, int]:
        return {contract: row for row, contract in enumerate(self.chain.contracts)}

    def sided(self, contract: ContractKey) -> Sided | None:
        """Quote with sizes, ``None`` when the contract is not listed."""
        if contract.is_unit:
            # a market deals in the underlying by contracts of as many units as one option delivers
            return self.unit if contract.divisor == 1 else None
        row = self._row.get(contract)
        if row is None:
            return None
        bid, ask = int(self.chain.bid[row, 0]), int(self.chain.ask[row, 0])
        return Sided(bid, ask, int(self.bid_size[row]), int(self.ask_size[row]), self.at)

    def quotes(self, contracts: set[ContractKey]) -> dict[ContractKey, Sided]:
        return {contract: quote for contract in contracts if (quote := self.sided(contract)) is not None}

    def listed(self, contract: ContractKey) -> bool:
        """Whether a contract, or the underlying itself, is quoted here."""
        return self.sided(contract) is not None

    def row_of(self, contract: ContractKey) -> int | None:
        return self._row.get(contract)

    @cached_property
    def delta(self) -> np.ndarray:
        """0.0001 of delta a contract, in the chain's order."""
        # within an expiration a cube has calls by strike, then puts, as the chain does
        return np.concatenate([self.timeline.cubes[date].delta[:, 0] for date in self.chain.expirations])

    @property
    def spot(self) -> float:
        return int(self.chain.spot[0]) / 100


_known: dict[str, Live] = {}
_lock = threading.Lock()


def live(symbol: str) -> Live:
    """The market now; raises :class:`Conflict` before the first quote."""
    key = LiveChain.objects.filter(underlying__symbol=symbol).values_list("pk", "sequence").first()
    if key is None:
        raise Conflict(f"There are no quotes of {symbol} yet. Is the practice exchange running?")
    with _lock:
        known = _known.get(symbol)
        if known is None or known.key != key:
            row = LiveChain.objects.select_related("underlying").get(underlying__symbol=symbol)
            sizes = np.frombuffer(zstandard.ZstdDecompressor().decompress(bytes(row.sizes)), "<i4").reshape(3, -1)
            known = Live(
                symbol, row.sequence, row.session, row.at, row.published, decode(bytes(row.payload)), sizes[0],
                sizes[1], sizes[2], row.underlying, _unit(row), (row.pk, row.sequence),
            )  # fmt: skip
            _known[symbol] = known
    return known


def _unit(row: LiveChain) -> Sided | None:
    if not row.unit:
        return None
    bid, ask, bid_size, ask_size = row.unit
    step = round(row.underlying.quantum * SPOT_SCALE)
    return Sided(bid // step, -(-ask // step), bid_size, ask_size, row.at)


def publish(
    underlying: Underlying, chain: SessionChain, bid_size: np.ndarray, ask_size: np.ndarray, last: np.ndarray,
    unit: tuple[int, int, int, int] | None = None,
) -> None:  # fmt: skip
    """Make a snapshot the market's now; ``last`` are prices of last trades in quanta, -1 for none; ``unit`` is what is
    quoted for the underlying itself: bid, ask (0.01 points) and contracts of it at each."""
    sizes = zstandard.ZstdCompressor(level=1).compress(np.stack([bid_size, ask_size, last]).astype("<i4").tobytes())
    facts = {
        "session": chain.date, "at": int(chain.times[0]), "published": dt.datetime.now(dt.UTC),
        "payload": encode(chain), "sizes": sizes, "unit": list(unit or ()),
    }  # fmt: skip
    if not LiveChain.objects.filter(underlying=underlying).update(sequence=F("sequence") + 1, **facts):
        LiveChain.objects.create(underlying=underlying, sequence=1, **facts)
    notify_market(underlying.symbol, "quotes")


def record(underlying: Underlying, chain: SessionChain) -> None:
    """Keep a snapshot of the recording grid. Recording it again changes nothing."""
    row = RecordedSnapshot(
        underlying=underlying,
        session=chain.date,
        at=int(chain.times[0]),
        spot=int(chain.spot[0]),
        payload=encode(chain),
    )
    RecordedSnapshot.objects.bulk_create([row], ignore_conflicts=True)
    notify_market(underlying.symbol, "recorded")


def last_recorded(underlying: Underlying) -> int:
    """Instant of the latest recorded snapshot, 0 without one."""
    rows = RecordedSnapshot.objects.filter(underlying=underlying).order_by("-at")
    return rows.values_list("at", flat=True).first() or 0


def _joined(columns: list[SessionChain]) -> SessionChain:
    """Snapshots of one session as one chain."""
    last = columns[-1]
    return replace(
        last, times=np.concatenate([c.times for c in columns]), spot=np.concatenate([c.spot for c in columns]),
        forward=np.concatenate([c.forward for c in columns], axis=1),
        bid=np.concatenate([c.bid for c in columns], axis=1), ask=np.concatenate([c.ask for c in columns], axis=1),
        iv=np.concatenate([c.iv for c in columns], axis=1),
    )  # fmt: skip


_columns: dict[str, dict[int, SessionChain]] = {}
"""Decoded snapshots by symbol and stored row, of the session that was asked for last: each market keeps its own."""


def _recorded_session(underlying: Underlying, date: dt.date) -> SessionChain | None:
    rows = RecordedSnapshot.objects.filter(underlying=underlying, session=date).order_by("at")
    have, known = list(rows.values_list("pk", flat=True)), _columns.get(underlying.symbol, {})
    columns = {pk: known[pk] for pk in have if pk in known}
    for row in rows.filter(pk__in=[pk for pk in have if pk not in columns]):
        columns[row.pk] = decode(bytes(row.payload))
    _columns[underlying.symbol] = columns
    return _joined([columns[pk] for pk in have if pk in columns]) if columns else None


def recorded(symbol: str) -> Timeline:
    """All that is known of an underlying, as decisions see it: the history, sessions sealed since it was made, and what
    is recorded of the one being traded. Of an underlying that no market trades: its history."""
    row = Underlying.objects.get(symbol=symbol)
    base, venue = _completed(row), Venue.objects.filter(underlying=row).first()
    if venue is None or venue.sealed or base.dates[-1] >= venue.session:
        return base
    traded = _recorded_session(row, venue.session)
    if traded is None:
        return base
    unfinished = int(traded.times[-1]) < base.calendar.session(traded.date).close
    mark, deltas = f"{symbol} to {int(traded.times[-1])}", _deltas_of(row, traded.date, base.underlying)
    return continued(base, cubes.in_memory([traded], base.underlying, base.calendar, mark, None, unfinished, deltas))


def observed(document: Mapping[str, Any], owner_id: int) -> Market:
    """What is known now of all that a strategy looks at."""
    return market_for(document, owner_id, recorded)


_bases: dict[str, Timeline] = {}
"""By symbol what :func:`_completed` gave last."""


def _completed(row: Underlying) -> Timeline:
    """The history, and the sessions sealed since it was made."""
    history = timeline(row.symbol)
    sealed = SessionChainRow.objects.filter(underlying=row, current=True, date__gt=history.dates[-1]).order_by("date")
    digests = list(sealed.values_list("digest", flat=True))
    if not digests:
        return history
    mark, known = " ".join(digests), _bases.get(row.symbol)
    if known is None or known.digest != f"{history.digest} and {mark}":
        chains = [decode(bytes(payload)) for payload in sealed.values_list("payload", flat=True)]
        since = cubes.in_memory(chains, history.underlying, history.calendar, mark)
        _bases[row.symbol] = known = continued(history, since)
    return known


_deltas: dict[str, tuple[tuple[int, dt.date, Terms], cubes.Deltas]] = {}
"""Deltas of the snapshots recorded so far by symbol, with the stored underlying and session that they are of and the
terms that they rest on."""


def _deltas_of(row: Underlying, session: dt.date, now: Terms) -> cubes.Deltas:
    key, known = (row.pk, session, now), _deltas.get(row.symbol)
    if known is None or known[0] != key:
        _deltas[row.symbol] = known = (key, {})
    return known[1]


@transaction.atomic
def seal(underlying: Underlying, date: dt.date) -> None:
    """Make the session that was traded part of what is known: its chain, bar and contracts."""
    chain = _recorded_session(underlying, date)
    if chain is None or SessionChainRow.objects.filter(underlying=underlying, date=date).exists():
        return
    payload = encode(chain)
    crossed = int(((chain.bid > chain.ask) & (chain.ask > 0)).sum())
    SessionChainRow.objects.create(
        underlying=underlying, date=date, digest=digest(payload), conventions=CONVENTIONS, payload=payload,
        snapshots=len(chain.times), contracts=len(chain.contracts), crossed=crossed, size=len(payload),
    )  # fmt: skip
    Bar.objects.create(
        underlying=underlying, date=date, open=int(chain.spot[0]), high=int(chain.spot.max()),
        low=int(chain.spot.min()), close=int(chain.spot[-1]),
    )  # fmt: skip
    calendar = calendar_for(underlying)
    for expiration in chain.expirations:
        settles = dt.datetime.fromtimestamp(calendar.session(expiration).close, dt.UTC)
        Expiration.objects.get_or_create(underlying=underlying, date=expiration, defaults={"settles_at": settles})
    by_date = {row.date: row for row in Expiration.objects.filter(underlying=underlying, date__in=chain.expirations)}
    Contract.objects.bulk_create(
        [
            Contract(
                expiration=by_date[key.expiration], right=key.right, strike=key.strike, first_session=date,
                last_session=date,
            )
            for key in chain.contracts
        ],
        update_conflicts=True, unique_fields=["expiration", "right", "strike"], update_fields=["last_session"],
    )  # fmt: skip

"""A ticket read and judged: what the order would be, what it costs at worst, what stands against it."""

from __future__ import annotations

import dataclasses
import datetime as dt
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from django.db.models import Q

from config.errors import Refused
from desk.models import Account, Deployment, DeskOrder, Holding
from desk.positions import Standing, Standings, reserve, standing, standings
from market.models import Underlying, Venue
from market.terms import terms as contract_terms
from strell_core.engine.ledger import options_in
from strell_core.market.instruments import ContractKey, finest_step, step_at
from strell_core.market.prices import grouped, money, number
from strell_core.orders import check, limits, protection
from strell_core.orders.order import Leg, OrderType, Sides, Terms, TimeInForce, sides
from venue.clock import STALE_SECONDS, is_open, market_now, session_of
from venue.live import Live, live

HOLDING_PARTS = {"target", "stop"}
MOST_CLOSING = 6
"""Closing orders of one position at work: whichever of them are filled, there is capital for what they leave."""


@dataclass(frozen=True)
class Ticket:
    """What a person, a script or a deployment asks for, before anyone looked at it."""

    legs: list[tuple[str, int]]
    """Contract code, signed contracts a lot."""
    lots: Any
    type: str = "limit"
    limit: Any = None
    """Points a lot; paid positive, taken in negative."""
    time_in_force: str = "day"
    holding: int | None = None
    """The holding it closes, all or part; ``None``: it opens."""
    protection: dict[str, Any] = field(default_factory=dict)
    client_id: str = ""
    changes: int | None = None
    """The holding it changes: legs of it are closed and others opened, in one order."""


@dataclass(frozen=True)
class Judged:
    """A ticket at the market now. ``problems`` are (place, sentence); none: it may go."""

    account: Account
    venue: Venue
    live: Live
    terms: Terms
    holding: Holding | None
    """What it closes."""
    changes: Holding | None
    protection: protection.Protection
    sides: Sides | None
    standings: Standings
    capital: Decimal
    problems: list[tuple[str, str]]

    def refuse(self) -> None:
        """Raise :class:`Refused` with everything that stands against the order."""
        if self.problems:
            raise Refused(
                " ".join(text for _, text in self.problems),
                [{"path": place, "message": text} for place, text in self.problems],
            )


def whole(value: Any, place: str, problems: list[tuple[str, str]]) -> int:
    """A whole number, 0 with a problem if it is none."""
    try:
        given = number(value)
        if given == int(given):
            return int(given)
    except ValueError:
        pass
    problems.append((place, f"{place.capitalize()} must be a whole number, not {str(value)[:40]}."))
    return 0


def step_of(row: Underlying, legs: int, price: Decimal) -> Decimal:
    """The exchange's price step for an order; one of several legs is priced in the finest."""
    known = contract_terms(row)
    return finest_step(known.ticks, known.quantum) if legs > 1 else step_at(known.ticks, price, known.quantum)


def read_terms(ticket: Ticket, row: Underlying) -> tuple[Terms, list[tuple[str, str]]]:
    """The order a ticket means, with what could not be read in it."""
    problems: list[tuple[str, str]] = []
    lots = whole(ticket.lots, "lots", problems)
    if problems:
        lots = 1
    legs = []
    for code, ratio in ticket.legs:
        try:
            legs.append(Leg(ContractKey.parse(code, row.symbol), int(ratio)))
        except ValueError as error:
            problems.append(("legs", f"{error}."))
    try:
        kind = OrderType(ticket.type)
    except ValueError:
        problems.append(("type", f"'{ticket.type}' is no order type here; use limit or market."))
        kind = OrderType.MARKET
    try:
        time_in_force = TimeInForce(ticket.time_in_force)
    except ValueError:
        problems.append(("time_in_force", f"'{ticket.time_in_force}' is unknown; an order is good for the day or gtc."))
        time_in_force = TimeInForce.DAY
    limit = None if ticket.limit is None or ticket.limit == "" else read_limit(ticket.limit, row, len(legs), problems)
    return Terms(tuple(legs), lots, kind, limit, time_in_force), problems


def read_limit(value: Any, row: Underlying, legs: int, problems: list[tuple[str, str]]) -> int | None:
    """Points as quanta; a problem when it is no number or off the tick."""
    try:
        points = number(value)
        if abs(points) > 1_000_000:
            raise ValueError
    except ValueError:
        problems.append(("limit", f"'{str(value)[:40]}' is not a price."))
        return None
    step = step_of(row, legs, points)
    if points % step:
        low = abs(points) // step * step
        problems.append(
            (
                "limit",
                f"A price of {abs(points)} lies off the tick of {step.normalize()}; next to it are {low:.2f} and {low + step:.2f}.",
            )
        )
        return None
    return int(points / row.quantum)


def read_protection(raw: dict[str, Any]) -> tuple[protection.Protection, list[tuple[str, str]]]:
    """``{target: {value, unit}, stop: {value, unit}}``."""
    levels: dict[str, protection.Level] = {}
    problems: list[tuple[str, str]] = []
    for name, level in raw.items():
        if name not in HOLDING_PARTS:
            problems.append((name, f"A position is protected by a target and a stop, not by '{name}'."))
        if level is None or name not in HOLDING_PARTS:
            continue
        try:
            levels[name] = protection.Level(number(level["value"]), level.get("unit", "money"))
            if levels[name].unit not in ("money", "percent"):
                problems.append((name, "A level is money or percent of the premium."))
        except (ValueError, KeyError, TypeError, AttributeError):
            problems.append((name, f"The {name} needs a number."))
    made = protection.Protection(levels.get("target"), levels.get("stop"))
    return made, problems or protection.problems(made)


def stale(venue: Venue, now: Live) -> float | None:
    """Wall seconds by which quotes are older than they may be, else ``None``."""
    if not venue.running:
        return None
    age = (market_now(venue) - now.at) / max(1.0, venue.rate)
    return age if age > STALE_SECONDS else None


def judge(account: Account, ticket: Ticket, by: str = "person", deployment: Deployment | None = None) -> Judged:
    """Look at a ticket from every side. Raises :class:`Refused` only when nothing can be said of it."""
    venue = Venue.objects.with_terms().get(underlying=account.underlying)
    now = live(account.underlying.symbol)
    terms, problems = read_terms(ticket, account.underlying)
    shield, wrong = read_protection(ticket.protection)
    problems += wrong
    time = market_now(venue)
    problems += check.problems(terms, now.listed, lambda c: _last_trade(now, c), time)
    holding = _holding(account, ticket.holding, problems)
    changes = _holding(account, ticket.changes, problems)
    opens = holding is None and ticket.holding is None
    whose = holding or changes
    held = None if whose is None else standing(whose, now)
    if held is not None and holding is not None:
        _fits(terms, held, problems)
    problems += _session(venue, terms)
    terms = dataclasses.replace(terms, closes=not opens)
    readable = bool(terms.legs) and not any(place in ("legs", "type") for place, _ in problems)
    quotes = now.quotes({leg.contract for leg in terms.legs})
    found = sides(terms.legs, quotes, terms.closes) if readable else None
    if not problems and found is None and (opens or terms.type is OrderType.MARKET):
        problems.append(("legs", "Not every leg has a price on both sides now; wait for one or leave that leg out."))
    at = standings(account, now)
    need = _capital(now, terms, found, account.commission, held) if readable else Decimal(0)
    if not problems:
        problems += _account(account, venue, now, opens, by)
    if not problems:
        broken = _broken(account, deployment, at, terms, _facts(account, at, terms, found, opens))
        if broken is not None:
            problems.append(("limits", broken))
        elif need > 0 and (at.free is None or need > at.free):
            problems.append(("capital", _too_much(account, need, at.free, held)))
    return Judged(account, venue, now, terms, holding, changes, shield, found, at, need, problems)


def _last_trade(now: Live, contract: ContractKey) -> int:
    return now.timeline.settles_at(contract) - 60 * now.timeline.underlying.last_trade_minutes


def _holding(account: Account, key: int | None, problems: list[tuple[str, str]]) -> Holding | None:
    if key is None:
        return None
    found = account.holdings.filter(pk=key, closed_at=None).first()
    if found is None:
        problems.append(("holding", "There is no such open position in this account."))
    return found


def _fits(terms: Terms, held: Standing, problems: list[tuple[str, str]]) -> None:
    """A closing order closes what is held, and no more than is not being closed already."""
    have = {contract: contracts for contract, contracts in ((h.contract, h.contracts) for h in held.open)}
    if len(held.closing) >= MOST_CLOSING:
        problems.append(("holding", f"{MOST_CLOSING} orders that close it are at work already; cancel one of them."))
    for order in held.closing:
        for code, ratio in order.legs:
            contract = ContractKey.parse(code)
            # what a change would open is not there to be closed
            if have.get(contract, 0) * ratio < 0:
                have[contract] += ratio * order.left
    for leg in terms.legs:
        left, wanted = have.get(leg.contract, 0), leg.ratio * terms.lots
        if wanted * left >= 0 or abs(wanted) > abs(left):
            why = " (the rest is being closed already)" if held.closing else ""
            problems.append(("lots", f"Of {leg.contract.label} {abs(left)} can be closed, not {abs(wanted)}{why}."))


def _session(venue: Venue, terms: Terms) -> list[tuple[str, str]]:
    if is_open(venue) or (terms.time_in_force is TimeInForce.GOOD_TILL_CANCELLED and terms.type is OrderType.LIMIT):
        return []
    from market.calendars import calendar_for

    session, local = session_of(venue), calendar_for(venue.underlying).local
    hours = f"{local(session.open):%H:%M} to {local(session.close):%H:%M}"
    return [("session", f"The session ({hours}) is over. Send it good till cancelled, or in the next session.")]


def _account(account: Account, venue: Venue, now: Live, opens: bool, by: str) -> list[tuple[str, str]]:
    if not opens:
        return []
    if account.quarantine:
        return [("account", f"The account is in quarantine: {account.quarantine} Only closing is possible.")]
    if account.locked_in == venue.generation:
        return [("account", f"The account is halted until the next session ({account.locked_because}).")]
    old = stale(venue, now)
    if old is not None:
        return [("quotes", f"Quotes are {old:.0f} s old; nothing is opened on quotes older than {STALE_SECONDS} s.")]
    return []


def _capital(now: Live, terms: Terms, found: Sides | None, commission: Decimal, held: Standing | None) -> Decimal:
    """Capital the whole order takes, with what crossing the spread and commission cost at once; of a closing order what
    the position it leaves takes beyond the one that is there, nothing where that is less."""
    legs = [(leg.contract, leg.ratio * terms.lots) for leg in terms.legs]
    if held is None and found is None:
        return Decimal(0)
    more = reserve(now, legs) if held is None else held.reserved_with(legs) - held.reserved
    if held is not None and more <= 0:
        return Decimal(0)
    spread = Decimal(0) if found is None else Decimal(found.other - found.own)
    half = spread / 2 * now.row.quantum * now.row.multiplier * terms.lots
    return money(more + half + commission * options_in(legs))


def _too_much(account: Account, need: Decimal, free: Decimal | None, held: Standing | None) -> str:
    takes = f"{grouped(need)} {account.underlying.currency} of capital"
    have = "what is free cannot be told now" if free is None else f"free is {grouped(free)}"
    if held is None:
        return f"It takes {takes}; {have}."
    return f"What it leaves takes {takes} more; {have}. Close what is short first, or all legs in one order."


def _broken(
    account: Account, deployment: Deployment | None, at: Standings, terms: Terms, facts: limits.Facts
) -> str | None:
    """The first limit that is broken: the account's, then the deployment's own."""
    broken = limits.refusal(limits.Limits.parse(account.limits), terms, facts)
    if broken is not None or deployment is None or not deployment.limits:
        return broken
    own = dataclasses.replace(facts, session_pnl=deployment_pnl(deployment, at.live))
    broken = limits.refusal(limits.Limits.parse(deployment.limits), terms, own)
    return None if broken is None else f"Limit of the deployment: {broken}"


def deployment_pnl(deployment: Deployment, now: Live) -> Decimal | None:
    """P/L at mid of a deployment's positions that are open or were closed in this session; ``None``: unvalued."""
    opened = session_of(Venue.objects.with_terms().get(underlying=now.row)).open
    total = Decimal(0)
    rows = deployment.holdings.filter(Q(closed_at=None) | Q(closed_at__gte=opened))
    for row in rows.select_related("account__underlying"):
        its = row.account.underlying
        mid = standing(row, now if its.pk == now.row.pk else live(its.symbol)).mid
        if mid is None:
            return None
        total += mid
    return total


def _facts(account: Account, at: Standings, terms: Terms, found: Sides | None, opens: bool) -> limits.Facts:
    minute = dt.datetime.now(dt.UTC) - dt.timedelta(seconds=60)
    rate = account.orders.filter(placed_at__gt=minute).exclude(state=DeskOrder.State.REFUSED).count()
    row = account.underlying
    prices = ((leg, at.live.spot if leg.contract.is_unit else leg.contract.strike) for leg in terms.legs)
    notional = sum(abs(leg.ratio) * price for leg, price in prices) * terms.lots * row.multiplier
    return limits.Facts(opens, rate, at.session_pnl, Decimal(notional), found, row.quantum, row.currency)

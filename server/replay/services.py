"""Starting replay sessions, moving their clock, trading in them."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any

from django.contrib.auth.models import User
from django.db import transaction
from django.db.models import Max

from config.errors import Conflict, NotThere, Refused
from config.versions import version_of
from market.own import market_for
from market.timelines import instant_of, timeline
from replay.life import Life, life
from replay.models import ReplayFill, ReplaySession
from runs import services as runs
from strategies import services as strategies
from strell_core.engine.fills import price_of
from strell_core.engine.stored import closed_trade
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Market
from strell_core.market.prices import money
from strell_core.market.timeline import Timeline
from strell_core.strategy.document import Strategy, parse

MAX_CONTRACTS = 10_000
LONGEST_SECOND = 12
"""Digits of an epoch second."""
DEFAULT_COMMISSION = Decimal("0.80")


def find(user: User, session_id: int, lock: bool = False) -> ReplaySession:
    rows = ReplaySession.objects.of(user)
    found = (
        (rows.select_for_update(of=("self",), no_key=True) if lock else rows)
        .select_related("underlying", "revision", "trade__run")
        .filter(pk=session_id)
        .first()
    )
    if found is None:
        raise NotThere("There is no such replay session.")
    return found


def _held(user: User, session_id: int) -> ReplaySession:
    """The session, held until the transaction ends: two actions at once happen one after the other."""
    ReplaySession.objects.of(user).select_for_update(no_key=True).filter(pk=session_id).first()
    return find(user, session_id)


def history_of(session: ReplaySession) -> Timeline:
    return timeline(session.underlying.symbol)


@transaction.atomic
def from_trade(user: User, run_id: int, number: int) -> ReplaySession:
    """A session that starts where a run's trade was decided, with the trade's entry made."""
    run = runs.find(user, run_id)
    row = run.trades.filter(number=number).first()
    if row is None:
        raise NotThere(f"Run {run.number} has no trade {number}.")
    if run.values:
        raise Refused(
            "This run is a variant of the sheet. Take its values into the sheet and run it again to replay it."
        )
    market = market_for(run.revision.document, user.pk)
    history = market.main
    trade = closed_trade(row.trade, history.underlying.symbol)
    cubes = market.timeline(trade.symbol).cubes
    shown = history.calendar.local(trade.opened_at)
    marks = [
        {"at": trade.opened_at, "kind": "entry", "text": "entered"},
        {"at": trade.left_at, "kind": "exit", "text": f"rules left: {row.row['reason']}"},
    ]
    for date in sorted({leg.contract.expiration for leg in trade.legs if not leg.contract.is_unit}):
        marks.append({"at": cubes[date].settlement_at, "kind": "expiration", "text": f"expires {date:%-d %b}"})
    session = ReplaySession.objects.create(
        owner=user, underlying=run.strategy.underlying, strategy=run.strategy, revision=run.revision, trade=row,
        name=f"Run {run.number}, trade {number}, {shown:%-d %b %Y}", cash=run.cash, cursor=trade.opened_at,
        start=trade.opened_at, marks=marks, entry=trade.entry,
    )  # fmt: skip
    opened_by = parse(run.revision.document)
    when = next((e.schedule.id for e in opened_by.entries if e.id == trade.entry), "")
    for leg in trade.legs:
        if leg.opened_at:  # it came in another's place later
            continue
        ReplayFill.objects.create(
            session=session, at=trade.opened_at, order=1, contract=leg.contract.code, contracts=leg.contracts,
            price_parts=leg.opened_parts, by="rules",
            commission=_commission(opened_by, leg.contract, leg.contracts, history.underlying.multiplier),
            rule=when, leg=leg.leg_id,
        )  # fmt: skip
    return session


@transaction.atomic
def blank(user: User, strategy_id: int, at: str | None, cash: Decimal) -> ReplaySession:
    """A session without a position at an instant of a strategy's underlying."""
    if not Decimal(1000) <= cash <= Decimal("1e9"):
        raise Refused(
            "Starting cash must lie between 1 000 and 1 000 000 000.", [{"path": "cash", "message": "out of range"}]
        )
    strategy = strategies.find(user, strategy_id)
    history = timeline(strategy.underlying.symbol)
    instant = int(history.times[instant_of(history, at)])
    shown = history.calendar.local(instant)
    return ReplaySession.objects.create(
        owner=user, underlying=strategy.underlying, strategy=strategy, revision=strategy.latest,
        name=f"From {shown:%-d %b %Y %H:%M}", cash=cash, cursor=instant, start=instant, marks=[],
    )  # fmt: skip


def _commission(rules: Strategy | None, contract: ContractKey, contracts: int, units: int) -> Decimal:
    """What dealing in a contract costs by the session's rules; ``units``: so many one option delivers."""
    if contract.is_unit:
        each = 0 if rules is None else rules.orders["unit_commission"]["per_unit"]
        return money(Decimal(str(each)) * (abs(contracts) * units // contract.divisor))
    return money(
        (DEFAULT_COMMISSION if rules is None else Decimal(str(rules.orders["commission"]["per_contract"])))
        * abs(contracts)
    )


@transaction.atomic
def let_act(user: User, session_id: int, acts: str) -> ReplaySession:
    """Say what the session's rules do by themselves: nothing, leave, or everything."""
    session = _held(user, session_id)
    if acts not in ReplaySession.Acts.values:
        raise Refused(f"Rules {', '.join(ReplaySession.Acts.values)}; not '{acts}'.")
    if session.revision is None and acts != ReplaySession.Acts.ADVISE:
        raise Refused("This session has no rules that could act.")
    session.acts = acts
    session.save(update_fields=["acts", "updated_at"])
    return session


def lived(session: ReplaySession) -> Life:
    """The session up to its clock."""
    return life(session, history_of(session), active_fills(session))


def active_fills(session: ReplaySession) -> list[ReplayFill]:
    return list(session.fills.filter(set_aside=None))


@transaction.atomic
def move(user: User, session_id: int, to: str) -> ReplaySession:
    """Move the clock: ``step``, ``step-back``, ``session``, ``session-back``, ``next-mark``,
    ``previous-mark``, an epoch second, or a local date and time."""
    if not to:
        raise Refused("Say where to move the clock: a step, a mark, or a date and time.")
    session = _held(user, session_id)
    history = history_of(session)
    index = history.at_or_before(session.cursor)
    last = len(history.times) - 1
    day = int(history.session_of[index])
    if to in ("step", "step-back"):
        index = min(last, index + 1) if to == "step" else max(0, index - 1)
    elif to == "session":
        index = int(history.first[day + 1]) if day + 1 < len(history.dates) else last
    elif to == "session-back":
        first = int(history.first[day])
        index = first if index > first else int(history.first[max(0, day - 1)])
    elif to in ("next-mark", "previous-mark"):
        index = _mark_index(session, history, to == "next-mark")
    elif to.isascii() and to.isdigit() and len(to) <= LONGEST_SECOND:
        index = history.at_or_before(min(max(int(to), int(history.times[0])), int(history.times[-1])))
    else:
        index = instant_of(history, to)
    session.cursor = int(history.times[index])
    session.save(update_fields=["cursor", "updated_at"])
    return session


def _mark_index(session: ReplaySession, history: Timeline, forward: bool) -> int:
    here = session.cursor
    places = sorted({m["at"] for m in session.marks} | {f.at for f in active_fills(session)})
    indices = sorted({history.at_or_before(min(at, int(history.times[-1]))) for at in places})
    instants = [int(history.times[i]) for i in indices]
    found = [t for t in instants if t > here] if forward else [t for t in reversed(instants) if t < here]
    if not found:
        raise Refused(f"There is no {'later' if forward else 'earlier'} mark.")
    return history.at_or_before(found[0])


@transaction.atomic
def trade(user: User, session_id: int, orders: list[tuple[str, int]]) -> ReplaySession:
    """Buy (positive) or sell contracts now, all at once, at the other side of the quotes.

    Fills made later than now belong to a future that this changes: they are set aside, and
    :func:`undo` brings them back.
    """
    session = _held(user, session_id)
    history = history_of(session)
    index = history.at_or_before(session.cursor)
    here = lived(session)
    held = {row.contract: row.contracts for row in here.open}
    if not orders:
        raise Refused("Name at least one contract to trade.")
    number = (session.fills.aggregate(n=Max("order"))["n"] or 0) + 1
    made, rules = [], None if session.revision is None else parse(session.revision.document)
    for code, contracts in orders:
        contract = _contract(here.market, code)
        if contracts == 0 or abs(contracts) > MAX_CONTRACTS:
            raise Refused(f"Trade between 1 and {MAX_CONTRACTS} contracts, not {contracts}.")
        closes = contracts * held.get(contract, 0) < 0 and abs(contracts) <= abs(held[contract])
        price = price_of(here.plan, here.of(contract).view(index), contract, contracts, 100, closes)
        if price is None:
            raise Refused(f"{contract.label} has no price to {'buy' if contracts > 0 else 'sell'} at now.")
        made.append(
            ReplayFill(
                session=session, at=session.cursor, order=number, contract=contract.code, contracts=contracts,
                price_parts=price,
                commission=_commission(rules, contract, contracts, here.of(contract).underlying.multiplier),
            )
        )  # fmt: skip
    session.fills.filter(set_aside=None, at__gt=session.cursor).update(set_aside=number)
    ReplayFill.objects.bulk_create(made)
    session.save(update_fields=["updated_at"])
    return session


def _contract(market: Market, code: str) -> ContractKey:
    try:
        contract = ContractKey.parse(code, market.main.underlying.symbol, only=False)
        history = market.timeline(contract.underlying)
    except ValueError as error:
        raise Refused(f"{error}.") from error
    except KeyError as error:
        raise Refused(f"This session does not trade {contract.underlying}.") from error
    if contract.is_unit:
        if not history.underlying.dealt:
            raise Refused(f"{history.underlying.symbol} is an index, which cannot be dealt in itself.")
        if contract not in (ContractKey.unit(contract.underlying), history.single_unit(history.dates[-1])):
            raise Refused(
                f"{code} is not dealt in; write {ContractKey.unit(contract.underlying).code} for the underlying itself."
            )
        return contract
    cube = history.cubes.get(contract.expiration)
    if cube is None or cube.row(contract.right, contract.strike) is None:
        raise Refused(f"There is no contract {contract.label} on {history.underlying.symbol}.")
    return contract


def close_all(user: User, session_id: int) -> ReplaySession:
    session = find(user, session_id)
    held = lived(session).open
    if not held:
        raise Refused("There is no position to close.")
    return trade(user, session_id, [(h.contract.code, -h.contracts) for h in held])


@transaction.atomic
def undo(user: User, session_id: int, undoes: int) -> ReplaySession:
    """Take back the latest action by hand, to which the fill ``undoes`` belongs, and bring back what it set aside."""
    session = _held(user, session_id)
    latest = session.fills.filter(by="hand", set_aside=None).order_by("order", "pk").last()
    if latest is None:
        raise Refused("There is nothing to undo.")
    if latest.pk != undoes:
        raise Conflict("Something else was done since. Look at it, then undo that.")
    number = latest.order
    session.fills.filter(order=number).delete()
    session.fills.filter(set_aside=number).update(set_aside=None)
    return session


def version(session: ReplaySession) -> str:
    """Of name and note: what a change of them was made to."""
    return version_of([session.name, session.note])


@transaction.atomic
def describe(user: User, session_id: int, based_on: str, name: str | None, note: str | None) -> ReplaySession:
    """Write name or note; ``based_on`` is the version they were read in."""
    session = find(user, session_id, lock=True)
    if version(session) != based_on:
        raise Conflict(
            "Name or note were changed elsewhere meanwhile. Copy what you wrote, load the page anew, and write it there."
        )
    if name is not None:
        if not name.strip() or len(name) > 80:
            raise Refused("A name has 1 to 80 characters.", [{"path": "name", "message": "1 to 80 characters"}])
        session.name = name.strip()
    if note is not None:
        if len(note) > 20_000:
            raise Refused("A note has at most 20 000 characters.", [{"path": "note", "message": "too long"}])
        session.note = note
    session.save(update_fields=["name", "note", "updated_at"])
    return session


def delete(user: User, session_id: int, restore: bool = False) -> None:
    found = ReplaySession.objects.filter(owner=user, pk=session_id).first()
    if found is None:
        raise NotThere("There is no such replay session.")
    found.deleted_at = None if restore else dt.datetime.now(dt.UTC)
    found.save(update_fields=["deleted_at"])


def facts(session: ReplaySession) -> dict[str, Any]:
    history = history_of(session)
    here = lived(session)
    return {
        "id": session.pk, "name": session.name, "note": session.note, "version": version(session), "strategy": session.strategy_id,
        "underlying": session.underlying.symbol, "cash": float(session.cash), "updated_at": session.updated_at,
        "shown": history.calendar.local(session.cursor).strftime("%a %-d %b %Y %H:%M"),
        "open_legs": len(here.open), "acts": session.acts, "run_trade": session.trade.number if session.trade else None,
        "run": session.trade.run_id if session.trade else None,
        "run_number": session.trade.run.number if session.trade else None,
    }  # fmt: skip

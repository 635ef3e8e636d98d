"""Reading the desk: accounts, positions, orders, deployments, the clock."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any

from django.contrib.auth.models import User

from desk import book, leader
from desk.compare import sessions_of
from desk.deployed import document_of, plan_of, state_of
from desk.models import Account, Connection, Deployment, DeskOrder, Holding, Leader
from desk.positions import Standing, Standings, greeks, standing, standings
from desk.services import terms_of
from desk.tickets import read_protection
from market.calendars import calendar_for
from market.models import LiveChain, RecordedSnapshot, Venue
from market.terms import terms
from observe import payoffs
from observe.chain_table import chain_table
from runs.outlook import outlooks
from strategies.models import Strategy
from strell_core.engine.plan import Plan
from strell_core.engine.state import EngineState
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Observation
from strell_core.market.prices import PARTS, grouped, parts_to_price
from strell_core.orders.order import sides
from strell_core.strategy.document import parse
from strell_core.strategy.sentences import sheet
from venue.clock import RATES, is_open, market_now, session_of, venue_of
from venue.live import Live, live, observed

ORDERS_SHOWN = 60
STRIKES_EACH_SIDE = 13
WEEKDAYS = ("mon", "tue", "wed", "thu", "fri")


def clock_facts(user: User, venue: Venue) -> dict[str, Any]:
    calendar, session = calendar_for(venue.underlying), session_of(venue)
    now = market_now(venue)
    published = LiveChain.objects.filter(underlying=venue.underlying).only("sequence", "at").first()
    local = calendar.local(now)
    age = None
    if published is not None and venue.running:
        age = round(max(0.0, (now - published.at) / max(1.0, venue.rate)), 1)
    return {
        "symbol": venue.underlying.symbol, "session": venue.session, "generation": venue.generation, "reached": venue.reached,
        "now": now, "local": local.strftime("%Y-%m-%dT%H:%M:%S"), "zone": local.tzname() or "", "open": session.open, "close": session.close,
        "open_local": calendar.local(session.open).strftime("%H:%M"), "close_local": calendar.local(session.close).strftime("%H:%M"),
        "running": venue.running, "rate": venue.rate, "rates": list(RATES), "quiet": venue.quiet, "sealed": venue.sealed,
        "jumping": venue.jump_to is not None, "is_open": is_open(venue), "age": age,
        "sequence": published.sequence if published else 0, "may_operate": user.is_staff,
    }  # fmt: skip


def desk_status() -> dict[str, Any]:
    row = Leader.objects.filter(name="desk").first()
    line = Connection.objects.first()
    fresh = line is not None and line.beat is not None and (dt.datetime.now(dt.UTC) - line.beat).total_seconds() < 8
    return {
        "alive": leader.alive(), "says": row.says if row else "", "line_up": bool(line and line.up and fresh),
        "reconciled": bool(line and line.reconciled), "line_since": line.since if line else None,
    }  # fmt: skip


def account_row(account: Account) -> dict[str, Any]:
    venue = venue_of(account.underlying.symbol)
    halted = account.locked_in == venue.generation
    return {
        "id": account.pk, "name": account.name, "kind": account.kind, "symbol": account.underlying.symbol,
        "currency": account.underlying.currency, "limits": account.limits, "halted": halted,
        "halted_because": account.locked_because if halted else "", "quarantine": account.quarantine,
    }  # fmt: skip


def accounts(user: User) -> list[dict[str, Any]]:
    return [account_row(account) for account in Account.objects.of(user).select_related("underlying")]


def _number(value: Decimal | None) -> float | None:
    return None if value is None else float(value)


def account_facts(at: Standings) -> dict[str, Any]:
    def total(values: list[Decimal | None]) -> float | None:
        return None if None in values else float(sum((v for v in values if v is not None), Decimal(0)))

    legs = [(held.contract, held.contracts) for s in at.holdings for held in s.open]
    return {
        **account_row(at.account), "cash": float(at.cash), "costs": float(at.costs), "equity": _number(at.equity),
        "free": _number(at.free), "reserved": float(at.reserved), "session_pnl": _number(at.session_pnl),
        "open_mid": total([s.mid for s in at.holdings]), "open_closable": total([s.closable for s in at.holdings]),
        "greeks": greeks(at.live, legs),
    }  # fmt: skip


def holding_facts(at: Standing) -> dict[str, Any]:
    row, now = at.row, at.live
    quantum = now.row.quantum
    closing = row.orders.filter(opens=False, state__in=DeskOrder.ALIVE).exists()
    legs: list[dict[str, Any]] = [
        {
            "contract": held.contract.code, "label": held.contract.label, "strike": held.contract.strike,
            "contracts": held.contracts, "opened": round(float(parts_to_price(round(held.average), quantum)), 4), **_marks(now, held.contract, quantum),
        }
        for held in at.open
    ]  # fmt: skip
    mid_price = None
    if at.lots and all(leg["mid"] is not None for leg in legs):
        mid_price = round(sum(leg["mid"] * leg["contracts"] for leg in legs) / at.lots, 4)
    opened = calendar_for(now.row).local(row.opened_at)
    return {
        "id": row.pk, "name": row.name, "deployment": row.deployment_id, "trade": row.trade,
        "strategy": row.deployment.strategy_id if row.deployment else None, "lots": at.lots, "legs": legs,
        "glyph": payoffs.glyph(at.payoff_holdings(), now.spot), "opened": opened.strftime("%a %-d %b %H:%M"),
        "opened_price": at.opened_price, "premium": float(at.premium), "mid_price": mid_price, "realised": float(at.realised),
        "mid": _number(at.mid), "closable": _number(at.closable), "reserved": float(at.reserved), "greeks": at.greeks,
        "protection": row.protection, "protected_by": row.protected_by, "next": next_words(at), "closing": closing,
    }  # fmt: skip


def _marks(now: Live, contract: ContractKey, quantum: Decimal) -> dict[str, float | None]:
    quote = now.sided(contract)
    if quote is None or not quote.valid:
        return {"bid": None, "ask": None, "mid": None}
    step = float(quantum)
    return {
        "bid": round(quote.bid * step, 4),
        "ask": round(quote.ask * step, 4),
        "mid": round((quote.bid + quote.ask) * step / 2, 4),
    }


def next_words(at: Standing) -> str:
    """What will happen to a position, in words."""
    row = at.row
    if row.protected_by:
        return f"{row.protected_by} reached, being closed"
    shield, _ = read_protection(row.protection)
    parts = []
    if shield.target is not None:
        parts.append(f"target +{grouped(shield.target.amount(at.premium))}")
    if shield.stop is not None:
        parts.append(f"stop −{grouped(shield.stop.amount(at.premium))}")
    if len(parts) == 2:
        parts.append("one cancels the other")
    if row.deployment:
        armed = row.deployment.armed and row.deployment.ended_at is None
        parts.append("its rules leave it" if armed else "its rules are disarmed")
    return ", ".join(parts) or "nothing protects it"


def order_facts(order: DeskOrder, now: Live) -> dict[str, Any]:
    quantum = now.row.quantum
    current = None
    if order.alive and order.legs:
        terms = terms_of(order)
        found = sides(terms.legs, now.quotes({leg.contract for leg in terms.legs}), terms.closes)
        current = None if found is None else float(found.mid_twice * quantum / 2)
    local = calendar_for(now.row).local(order.placed_market)
    return {
        "id": order.pk, "account": order.account_id, "holding": order.holding_id, "deployment": order.deployment_id,
        "by": order.by, "because": order.because, "rule": order.rule, "opens": order.opens, "changes": order.changes,
        "words": book.structure_words(order.legs) if _readable(order) else "an order that could not be read", "legs": [{"contract": code, "ratio": ratio} for code, ratio in order.legs],
        "lots": order.lots, "filled": order.filled, "type": order.type,
        "limit": None if order.limit is None else float(order.limit * quantum),
        "new_limit": None if order.new_limit is None else float(order.new_limit * quantum), "time_in_force": order.time_in_force,
        "state": order.state, "alive": order.alive,
        "can_change": order.state in DeskOrder.AT_VENUE and order.type == "limit" and not order.cancel_wanted and order.new_limit is None,
        "cancel_wanted": order.cancel_wanted, "reason": order.reason, "placed": local.strftime("%a %H:%M:%S"),
        "placed_at": order.placed_at, "now": current, "fills": [_fill(fill, now) for fill in order.fills.all()] if order.filled else [], "protection": order.protection,
    }  # fmt: skip


def _readable(order: DeskOrder) -> bool:
    try:
        return bool([ContractKey.parse(code) for code, _ in order.legs])
    except ValueError:
        return False


def _fill(fill: Any, now: Live) -> dict[str, Any]:
    net = sum(n * parts for _, n, parts in fill.legs) / max(1, fill.lots)
    return {
        "at": calendar_for(now.row).local(fill.at).strftime("%H:%M:%S"), "lots": fill.lots, "kind": fill.kind,
        "price": round(float(net) * float(now.row.quantum) / PARTS, 4), "commission": float(fill.commission), "execution": fill.execution,
    }  # fmt: skip


def deployment_facts(deployment: Deployment) -> dict[str, Any]:
    state = state_of(deployment)
    account = deployment.account
    return {
        "id": deployment.pk, "strategy": deployment.strategy_id, "name": deployment.revision.document["name"],
        "revision": deployment.revision.number, "latest": deployment.strategy.latest.number, "account": account.pk,
        "account_name": account.name, "account_kind": account.kind,
        "beside": [_beside(deployment, one) for one in deployment.accounts[1:]], "size": deployment.size, "armed": deployment.armed,
        "ended": deployment.ended_at is not None, "says": deployment.says, "next": _next_decision(deployment),
        "open_trades": len(state.trades), "checklist": deployment.checklist, "sessions": sessions_of(deployment)[:30],
        "limits": deployment.limits, "late_exits": _late_exits(deployment, state),
    }  # fmt: skip


def _beside(deployment: Deployment, account: Account) -> dict[str, Any]:
    clock, its = (venue_of(one.underlying.symbol) for one in (deployment.account, account))
    return {
        "account": account.pk, "name": account.name, "symbol": account.underlying.symbol,
        "stands": its.session != clock.session or (clock.running and not its.running),
    }  # fmt: skip


def outlook_of(deployment: Deployment) -> dict[str, Any]:
    """What its rules say of every open trade on the last recorded snapshot."""
    market = observed(deployment.revision.document, deployment.owner_id)
    plan, index = plan_of(deployment, market), len(market.main.times) - 1
    here = Observation(market, index)
    trades = outlooks(document_of(deployment), plan, state_of(deployment), here)
    local = market.main.calendar.local(here.instant)
    return {"at": local.strftime("%a %-d %b %H:%M"), "trades": trades}


def _late_exits(deployment: Deployment, state: EngineState) -> list[str]:
    """Decisions to leave of an earlier session that are not carried out, each with what stands in the way now (semantics
    rule 8)."""
    venue = venue_of(deployment.account.underlying.symbol)
    late = [order for order in state.orders if order.purpose == "close" and order.session < venue.session]
    if not late:
        return []
    calendar, written = calendar_for(venue.underlying), sheet(deployment.revision.document)
    out = []
    for order in late:
        quotes = live(order.symbol or venue.underlying.symbol).quotes({leg.contract for leg in order.legs})
        missing = [
            leg.contract.label for leg in order.legs if (found := quotes.get(leg.contract)) is None or not found.valid
        ]
        decided = calendar.local(order.decided_at).strftime("%a %-d %b %H:%M")
        number = written.numbered(order.rule)
        why = f"no valid quote for {' and '.join(missing)}" if missing else "its order is not filled yet"
        out.append(
            f"Trade {order.trade}: decided on {decided}{f' (sentence {number})' if number else ''} to leave, not done: {why}."
        )
    return out


def _next_decision(deployment: Deployment) -> str | None:
    """When its rules look at entries next: an exchange-local time, or what they wait for."""
    venue = venue_of(deployment.account.underlying.symbol)
    calendar = calendar_for(venue.underlying)
    now = market_now(venue)
    every = {one.underlying.symbol: terms(one.underlying) for one in deployment.accounts}
    plan = Plan(parse(deployment.revision.document), every)
    looks = [entry.schedule.next_after(calendar, venue.session, now) for entry in plan.entries]
    first = min((at for at in looks if at is not None), default=None)
    told = [] if first is None else [calendar.local(first).strftime("%a %-d %b %H:%M")]
    told += sorted({f"on a value of {name}" for entry in plan.entries for name in entry.schedule.series})
    told += sorted({f"after a trade of {name}" for entry in plan.entries for name in entry.schedule.after})
    return ", ".join(told) or None


def deployments(user: User, account: Account | None = None, strategy: int | None = None) -> list[dict[str, Any]]:
    found = Deployment.objects.of(user).select_related("strategy", "revision", "account__underlying")
    if account is not None:
        found = found.within(account).filter(ended_at=None)
    if strategy is not None:
        found = found.filter(strategy_id=strategy)
    return [deployment_facts(deployment) for deployment in found]


def orders(account: Account, now: Live) -> list[dict[str, Any]]:
    """Every live order, and the latest that ended."""
    rows = account.orders.select_related("account__underlying", "deployment").prefetch_related("fills")
    ended = rows.exclude(state__in=DeskOrder.ALIVE)[:ORDERS_SHOWN]
    alive = rows.filter(state__in=DeskOrder.ALIVE)
    both = sorted({row.pk: row for row in [*alive, *ended]}.values(), key=lambda row: -row.pk)
    return [order_facts(row, now) for row in both]


def desk(user: User, account: Account) -> dict[str, Any]:
    """Everything the desk page shows of an account, from one reading of the market."""
    now = live(account.underlying.symbol)
    at = standings(account, now)
    return {
        "account": account_facts(at), "holdings": [holding_facts(s) for s in at.holdings], "orders": orders(account, now),
        "deployments": deployments(user, account), "clock": clock_facts(user, venue_of(account.underlying.symbol)),
        "desk": desk_status(),
    }  # fmt: skip


def live_chain(symbol: str, expiration: str | None, account: Account | None) -> dict[str, Any]:
    now = live(symbol)
    held: dict[ContractKey, int] = {}
    if account is not None:
        for at in standings(account, now).holdings:
            for item in at.open:
                held[item.contract] = held.get(item.contract, 0) + item.contracts
    return {
        **chain_table(now.timeline, 0, held, expiration, STRIKES_EACH_SIDE), "at": now.at, "session": now.session, "spot": now.spot,
        "sequence": now.sequence, "symbol": symbol, "unit": _unit(now, held),
    }  # fmt: skip


def _unit(now: Live, held: dict[ContractKey, int]) -> dict[str, Any] | None:
    """The underlying itself as a line of the chain; ``None`` where it is not dealt."""
    contract = ContractKey.unit(now.symbol)
    if now.unit is None:
        return None
    quantum = float(now.row.quantum)
    return {
        "contract": contract.code, "label": contract.label, "held": held.get(contract, 0), "units": now.row.multiplier,
        "bid": round(now.unit.bid * quantum, 2), "ask": round(now.unit.ask * quantum, 2),
    }  # fmt: skip


def live_path(symbol: str) -> dict[str, Any]:
    """The underlying over the session so far, on the recording grid."""
    now = live(symbol)
    venue = venue_of(symbol)
    session = session_of(venue)
    rows = RecordedSnapshot.objects.filter(underlying=venue.underlying, session=venue.session)
    points = [(at, spot / 100) for at, spot in rows.values_list("at", "spot")]
    if now.session == venue.session and (not points or points[-1][0] < now.at):
        points.append((now.at, now.spot))
    return {
        "at": [at for at, _ in points],
        "spot": [spot for _, spot in points],
        "start": session.open,
        "end": session.close,
    }


def holding_detail(user: User, row: Holding) -> dict[str, Any]:
    now = live(row.account.underlying.symbol)
    at = standing(row, now)
    legs = at.payoff_holdings()
    picture = payoffs.payoff(now.timeline, 0, legs, float(at.realised)) if legs else None
    return {"holding": holding_facts(at), "payoff": picture, "fills": [_fill(fill, now) for fill in at.fills]}


def on_track(strategy: Strategy) -> dict[str, Any]:
    """How often a strategy is deployed, whether it is armed, and how many sessions it has decided in."""
    armed = list(strategy.deployments.filter(ended_at=None).values_list("armed", flat=True))
    sessions = strategy.deployments.values_list("decisions__session", flat=True).distinct()
    return {
        "deployments": len(armed), "armed": any(armed), "paper_sessions": sum(date is not None for date in sessions),
    }  # fmt: skip

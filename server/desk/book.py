"""What happens to orders and holdings. Every change of state and every fill goes through here, once."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from config.push import notify
from desk.models import DIVIDEND, Account, DeskFill, DeskOrder, Holding, LedgerRow
from desk.quarantine import quarantine
from journal import services as journal
from strell_core.engine.ledger import cash_of, holdings, options_in
from strell_core.market.instruments import ContractKey, Right
from strell_core.market.prices import money, parts_to_price, signed
from strell_core.orders.order import price_words

State = DeskOrder.State


class Overfilled(Exception):
    """A venue reports more lots than were ordered."""


def structure_words(legs: Sequence[tuple[str, int]]) -> str:
    """Legs in short: ``27 Nov 3190 call −1, 3220 call +1``."""
    out, last = [], None
    for code, contracts in legs:
        contract = ContractKey.parse(code)
        if contract.is_unit:
            out.append(f"{contract.label} {signed(contracts)}")
            continue
        date = "" if contract.expiration == last else f"{contract.expiration:%-d %b} "
        last = contract.expiration
        out.append(f"{date}{contract.strike} {contract.right} {signed(contracts)}")
    return ", ".join(out)


def order_words(order: DeskOrder) -> str:
    quantum = order.account.underlying.quantum
    price = "at the market" if order.limit is None else f"at {price_words(order.limit, quantum)}"
    lots = "1 lot" if order.lots == 1 else f"{order.lots} lots"
    return f"{lots} of {structure_words(order.legs)} {price}, {'day' if order.time_in_force == 'day' else 'good till cancelled'}"


def tell(order: DeskOrder, who: str, kind: str, text: str, market_at: int | None, **values: object) -> None:
    """Journal an event of an order and push it to its owner's browsers."""
    account = order.account
    journal.write(
        account.owner_id, who, kind, text, market_at, rule=order.rule, values=values, account=account.pk, order=order.pk,
        deployment=order.deployment_id, strategy=order.deployment.strategy_id if order.deployment else None,
        symbol=account.underlying.symbol, push=False,
    )  # fmt: skip
    notify(account.owner_id, "order", order.pk, account=account.pk, state=order.state)


def move_to(order: DeskOrder, state: str, who: str, text: str, market_at: int | None, reason: str = "") -> None:
    """Bring an order into a state; an order that has ended stays as it is."""
    if not order.alive:
        return
    order.state, order.reason = state, reason[:300]
    if state == State.WORKING and order.arrived_market is None:
        order.arrived_market = market_at
    order.save()
    tell(order, who, state, text, market_at)


def end(order: DeskOrder, state: str, who: str, reason: str, market_at: int | None) -> None:
    """The order is over without (more) fills."""
    part = f" after {order.filled} of {order.lots} lots" if order.filled else ""
    move_to(order, state, who, f"Order {order.pk} {state}{part}: {reason}", market_at, reason)


def book_fill(
    order: DeskOrder, execution: str, market_at: int, lots: int, prices: Sequence[int], who: str
) -> DeskFill | None:
    """Enter a fill of ``lots`` at ``prices`` (parts, one a leg). ``None``: this execution was booked before.

    The order must be held, with its account (:mod:`desk.locks`). A closing fill of what the position does not hold is
    booked, for it happened, and puts the account in quarantine. Raises :class:`Overfilled`.
    """
    account = order.account
    if DeskFill.objects.filter(account=account, execution=execution).exists():
        return None
    if lots < 1 or lots > order.left:
        raise Overfilled(f"{lots} lots filled of order {order.pk}, which has {order.left} left")
    if order.holding is None:
        order.holding = _open_holding(order, market_at)
    legs = [[code, ratio * lots, int(parts)] for (code, ratio), parts in zip(order.legs, prices, strict=True)]
    missing = "" if order.opens or order.changes else _not_held(order.holding, legs)
    contracts = options_in((ContractKey.parse(code), n) for code, n, _ in legs)
    fill = DeskFill.objects.create(
        account=account, order=order, holding=order.holding, execution=execution, at=market_at, lots=lots, legs=legs,
        commission=money(account.commission * contracts), told=order.holding.deployment_id is None,
    )  # fmt: skip
    enter(fill, "premium")
    order.filled += lots
    if order.left == 0:
        order.state, order.reason = State.FILLED, ""
    elif order.alive:
        order.state = State.PARTLY
    order.save()
    if order.opens and not order.changes:
        _protect(order)
    else:
        close_if_flat(order.holding, market_at)
    if missing:
        quarantine(account, f"Order {order.pk} closed what position {order.holding.pk} does not hold: {missing}.", who)
    quantum = account.underlying.quantum
    net = sum(ratio * parts for (_, ratio), parts in zip(order.legs, prices, strict=True))
    price = parts_to_price(abs(net), quantum)
    words = f"{price:.2f} {'debit' if net > 0 else 'credit'}" if net else "even"
    tell(
        order, who, "filled", f"Order {order.pk}: {lots} of {order.lots} filled at {words}", market_at, lots=lots,
        execution=execution, price=float(price if net > 0 else -price),
    )  # fmt: skip
    return fill


def _not_held(holding: Holding, legs: Sequence[Sequence[Any]]) -> str:
    """What a closing fill takes that its position does not hold, in words."""
    from desk.positions import moves

    held, missing = holdings(moves(holding.fills.order_by("id"))), []
    for code, contracts, _ in legs:
        contract = ContractKey.parse(code)
        there = held[contract].contracts if contract in held else 0
        if there * contracts >= 0 or abs(contracts) > abs(there):
            missing.append(f"{contract.label} {signed(contracts)} of {signed(there) if there else 'none'}")
    return ", ".join(missing)


def enter(fill: DeskFill, kind: str) -> None:
    """The fill's money in the account's ledger."""
    terms = fill.account.underlying
    rows = [
        LedgerRow(
            account=fill.account, fill=fill, at=fill.at, kind=kind, contract=code, contracts=contracts, price_parts=parts,
            amount=cash_of(-contracts if kind == DIVIDEND else contracts, parts, terms.quantum, terms.multiplier),
        )
        for code, contracts, parts in fill.legs
    ]  # fmt: skip
    if fill.commission:
        rows.append(LedgerRow(account=fill.account, fill=fill, at=fill.at, kind="commission", amount=-fill.commission))
    LedgerRow.objects.bulk_create(rows)


def _open_holding(order: DeskOrder, market_at: int) -> Holding:
    """A new holding, or that of the same trade of the deployment."""
    trade = int(order.intent.split("-")[0]) if order.deployment_id and order.intent else None
    if trade is not None:
        found = Holding.objects.filter(deployment=order.deployment, trade=trade, closed_at=None).first()
        if found is not None:
            return found
    name = order.deployment.revision.document["name"] if order.deployment else "by hand"
    return Holding.objects.create(
        account=order.account, name=name, deployment=order.deployment, trade=trade, opened_at=market_at
    )


def _protect(order: DeskOrder) -> None:
    """Protection that came with the ticket holds from the first fill on."""
    holding = order.holding
    if holding is not None and order.protection and not holding.protection:
        holding.protection = order.protection
        holding.save(update_fields=["protection"])


def close_if_flat(holding: Holding, market_at: int) -> None:
    """A position is closed when nothing of it is held, and open as long as anything is."""
    from desk.positions import moves

    flat = not any(item.contracts for item in holdings(moves(holding.fills.all())).values())
    if flat != (holding.closed_at is not None):
        holding.closed_at = market_at if flat else None
        holding.save(update_fields=["closed_at"])
        notify(holding.account.owner_id, "position", holding.pk, account=holding.account_id)


def settle(holding: Holding, contract: ContractKey, contracts: int, parts: int, market_at: int) -> None:
    """Settle an expired contract of a holding in cash, once."""
    price = parts_to_price(parts, holding.account.underlying.quantum)
    _happened(
        holding, f"settled {holding.pk} {contract.code}", "settlement", [[contract.code, -contracts, parts]], market_at,
        "settled", f"{contract.label}: {signed(contracts)} settled in cash at {price:.2f}",
    )  # fmt: skip


def deliver(holding: Holding, contract: ContractKey, contracts: int, parts: int, market_at: int, how: str) -> None:
    """An option becomes units of the underlying at its strike (``parts``), by its exercise or ``how`` else, once a
    session."""
    units = contracts if contract.right == Right.CALL else -contracts
    unit = ContractKey.unit(contract.underlying)
    price = parts_to_price(parts, holding.account.underlying.quantum)
    flow = "come in" if units > 0 else "go out"
    _happened(
        holding, f"{how} {holding.pk} {contract.code} {market_at}", "delivery",
        [[contract.code, -contracts, 0], [unit.code, units, parts]], market_at, how,
        f"{contract.label}: {signed(contracts)} {how}, {abs(units)} of {unit.label} {flow} at {price:.2f}",
    )  # fmt: skip


def pay(holding: Holding, date: dt.date, units: int, parts: int, market_at: int) -> None:
    """A dividend of units held over the day it goes ex, to longs and by shorts, once."""
    unit = ContractKey.unit(holding.account.underlying.symbol)
    amount = parts_to_price(parts, holding.account.underlying.quantum)
    words = "is paid to" if units > 0 else "is owed by"
    _happened(
        holding, f"dividend {holding.pk} {date}", DIVIDEND, [[unit.code, units, parts]], market_at, DIVIDEND,
        f"A dividend of {amount.normalize():f} {words} {holding.name}, {signed(units)} of {unit.label}",
    )  # fmt: skip


def _happened(
    holding: Holding, execution: str, kind: str, legs: list[list[Any]], market_at: int, event: str, text: str
) -> None:
    """Enter what a contract or its underlying brought about by itself, once, and say it."""
    account = holding.account
    fill, made = DeskFill.objects.get_or_create(
        account=account, execution=execution,
        defaults={
            "holding": holding, "kind": kind, "at": market_at, "lots": 0, "commission": Decimal(0), "told": True,
            "legs": legs,
        },
    )  # fmt: skip
    if not made:
        return
    enter(fill, kind)
    close_if_flat(holding, market_at)
    journal.write(
        account.owner_id, "market", event, text, market_at, account=account.pk, deployment=holding.deployment_id,
        symbol=account.underlying.symbol,
    )  # fmt: skip


def holding_of_account(account: Account, holding_id: int) -> Holding | None:
    return account.holdings.filter(pk=holding_id, closed_at=None).first()

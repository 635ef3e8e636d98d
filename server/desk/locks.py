"""Whoever deals in an account holds it until their transaction ends: tickets, closings, protection, rules, Halt, expiry and a
broker's reports, so that what is held and what is on its way out are read and changed by one at a time.

Everybody locks in one order: the desk's epoch, accounts by their number, then deployments, positions and orders.
"""

from __future__ import annotations

from collections.abc import Iterable

from desk.models import Account, Deployment, DeskOrder, Holding


def hold_account(account_id: int) -> Account:
    """The account, held until the transaction ends."""
    rows = Account.objects.select_for_update(of=["self"], no_key=True).select_related("underlying")
    return rows.get(pk=account_id)


def hold_accounts(account_ids: Iterable[int]) -> None:
    """Several of them, in the order in which everybody does."""
    for account_id in sorted(set(account_ids)):
        hold_account(account_id)


def accounts_of(deployment: Deployment) -> set[int]:
    """Those in which a deployment trades."""
    return {deployment.account_id, *deployment.beside.values_list("pk", flat=True)}


def locked_order(order_id: int) -> DeskOrder:
    """The order, held with its account until the transaction ends."""
    hold_account(DeskOrder.objects.values_list("account_id", flat=True).get(pk=order_id))
    DeskOrder.objects.select_for_update(no_key=True).get(pk=order_id)
    return DeskOrder.objects.select_related("account__underlying", "deployment__revision", "holding").get(pk=order_id)


def locked_holding(holding_id: int) -> Holding:
    """The position, held with its account until the transaction ends."""
    hold_account(Holding.objects.values_list("account_id", flat=True).get(pk=holding_id))
    Holding.objects.select_for_update(no_key=True).get(pk=holding_id)
    return Holding.objects.select_related("account__underlying").get(pk=holding_id)

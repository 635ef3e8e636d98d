"""Accounts at the practice broker, opened at its counter: everything else is said over FIX."""

from __future__ import annotations

from practice_broker.models import BrokerAccount


def open_account() -> str:
    """A new account's code: Account (1) of its messages."""
    return BrokerAccount.objects.create().code


def known(account: str) -> bool:
    return BrokerAccount.objects.filter(code=account).exists()

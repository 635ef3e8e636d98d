"""An account whose books do not agree with what happened opens nothing more until a person has looked at it."""

from __future__ import annotations

from config.push import notify
from desk.models import Account, Deployment
from journal import services as journal


def quarantine(account: Account, why: str, who: str, **values: object) -> None:
    """Bar an account from opening, disarm what trades in it, and say why. The account must be held."""
    if account.quarantine:
        return
    account.quarantine = why[:1000]
    account.save(update_fields=["quarantine"])
    for deployment in Deployment.objects.within(account).filter(armed=True):
        deployment.armed, deployment.says = False, "disarmed: the account is in quarantine"
        deployment.save(update_fields=["armed", "says"])
    journal.write(
        account.owner_id, who, "quarantine", f"{account.name}: {account.quarantine}", account=account.pk,
        symbol=account.underlying.symbol, values=values,
    )  # fmt: skip
    notify(account.owner_id, "account", account.pk)

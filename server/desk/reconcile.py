"""What the broker holds against what the ledger knows. A difference quarantines; nothing is repaired by guess."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterable
from fractions import Fraction

from django.db import transaction

from desk import book
from desk.leader import still_leading
from desk.locks import hold_account
from desk.models import PRACTICE, Account, DeskFill, DeskOrder, Holding, Inbox
from desk.positions import mark, moves
from desk.quarantine import quarantine
from strell_core.engine.ledger import holdings
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import signed
from venue.live import Live


def ledger_positions(account: Account) -> Counter[str]:
    """Contracts held, by code, as the ledger has them."""
    held = holdings(moves(DeskFill.objects.filter(account=account).order_by("id")))
    return Counter({contract.code: item.contracts for contract, item in held.items() if item.contracts})


def in_flight(account: Account) -> bool:
    """Whether reports are still to be applied or orders' fates unknown: positions cannot be compared yet."""
    unsure = account.orders.filter(state__in=(DeskOrder.State.CLAIMED, DeskOrder.State.SENT, DeskOrder.State.UNKNOWN))
    return (
        unsure.exists()
        or Inbox.objects.filter(applied_at=None, account_code=account.broker_code).exclude(kind="positions").exists()
    )


def compare(epoch: int, account_id: int, reported: dict[str, int]) -> bool | None:
    """Compare once; ``None``: not yet possible. A difference puts the account in quarantine."""
    with transaction.atomic():
        still_leading(epoch)
        account = hold_account(account_id)
        if in_flight(account):
            return None
        known = ledger_positions(account)
        theirs = Counter({code: n for code, n in reported.items() if n})
        if known == theirs:
            return True
        quarantine(account, difference(known, theirs), "desk", broker=theirs, ledger=known)
        return False


def check_books(epoch: int, accounts: Iterable[Account]) -> None:
    """Compare positions with the sum of their fills: one that counts as closed and is not puts its account in
    quarantine."""
    for account in accounts:
        fills: dict[int, list[DeskFill]] = defaultdict(list)
        for fill in DeskFill.objects.filter(holding__account=account).exclude(holding__closed_at=None).order_by("id"):
            fills[fill.holding_id].append(fill)
        for number, own in fills.items():
            left = {c.label: h.contracts for c, h in holdings(moves(own)).items() if h.contracts}
            if left:
                what = ", ".join(f"{label} {signed(contracts)}" for label, contracts in left.items())
                with transaction.atomic():
                    still_leading(epoch)
                    words = f"Position {number} counts as closed, and its fills leave {what}."
                    quarantine(hold_account(account.pk), words, "desk", left=left)


def difference(ledger: Counter[str], broker: Counter[str]) -> str:
    parts = []
    for code in sorted({*ledger, *broker}):
        if ledger[code] != broker[code]:
            parts.append(
                f"{ContractKey.parse(code).label}: broker {signed(broker[code])}, ledger {signed(ledger[code])}"
            )
    return f"Broker and ledger differ ({'; '.join(parts)})."


def adopt(account: Account, now: Live) -> None:
    """Book the difference to the last reported positions at mid, as a holding of its own: what a person
    who ends a quarantine accepts. On paper nobody else holds anything: the fills are what is held, and a position that
    was taken for closed is open again."""
    if account.kind != PRACTICE:
        for holding in account.holdings.exclude(closed_at=None):
            if any(held.contracts for held in holdings(moves(holding.fills.order_by("id"))).values()):
                holding.closed_at = None
                holding.save(update_fields=["closed_at"])
        return
    last = Inbox.objects.filter(kind="positions", account_code=account.broker_code).order_by("-id").first()
    theirs: Counter[str] = Counter(last.report["positions"] if last else {})
    known = ledger_positions(account)
    legs = []
    for code in sorted({*known, *theirs}):
        if gap := theirs[code] - known[code]:
            value = mark(now, ContractKey.parse(code), gap, "mid")
            legs.append([code, gap, round(value if value is not None else Fraction(0))])
    if not legs:
        return
    holding = Holding.objects.create(account=account, name="taken over from the broker", opened_at=now.at)
    fill = DeskFill.objects.create(
        account=account, holding=holding, execution=f"taken over {last.pk if last else 0} {holding.pk}", kind="taken over",
        at=now.at, lots=1, legs=legs, commission=0, told=True,
    )  # fmt: skip
    book.enter(fill, "premium")

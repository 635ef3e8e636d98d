"""Promoting a strategy to an account, arming and disarming it, and Halt."""

from __future__ import annotations

import datetime as dt
import time
from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from django.contrib.auth.models import User
from django.db import OperationalError, transaction

from config.errors import Conflict, NotThere, Refused
from config.push import notify, notify_desk
from desk.beside import not_traded
from desk.locks import accounts_of, hold_accounts, locked_order
from desk.models import PRACTICE, Account, Deployment, DeskOrder, Holding
from desk.positions import standings
from desk.services import closing_ticket, find_account, keep_refusal, read_limits, send, withdraw
from journal import services as journal
from runs.models import Run
from strategies import services as strategies
from strategies.models import Revision, Strategy
from strell_core.engine.state import EngineState
from strell_core.engine.stored import dump
from strell_core.strategy.document import parse
from venue.clock import market_now, session_of, venue_of
from venue.live import live

MAX_SIZE = 100
HALT_TRIES = 5


def find_deployment(user: User, deployment_id: int) -> Deployment:
    found = (
        Deployment.objects.of(user)
        .select_related("strategy", "revision", "account__underlying")
        .filter(pk=deployment_id)
        .first()
    )
    if found is None:
        raise NotThere("There is no such deployment.")
    return found


def checklist(strategy: Strategy, account: Account, beside: Sequence[Account] = ()) -> list[dict[str, Any]]:
    """What should be so before a strategy trades in an account, and in accounts ``beside`` it for its other underlyings; what is
    required must be."""
    latest = strategy.latest
    done = Run.objects.there().filter(strategy=strategy, revision__digest=latest.digest, status=Run.Status.DONE).first()
    rehearsed = strategy.replays.filter(deleted_at=None).count()
    paper = (
        Deployment.objects.filter(strategy=strategy, account__kind="paper", decisions__isnull=False).distinct().count()
    )
    every = [account, *beside]
    amiss = "; ".join(
        f"{one.name}: {one.quarantine}" if len(every) > 1 else one.quarantine for one in every if one.quarantine
    )
    items = [
        _item("run", done is not None, True, f"Run {done.number} is of these very rules" if done else "No finished run is of these very rules: run a backtest"),
        _item("replay", rehearsed > 0, False, f"{rehearsed} replay sessions" if rehearsed else "Not lived through in a replay yet"),
        *_trades_there(latest, strategy, account, beside),
        _item("limits", all(one.limits for one in every), True, "The account has limits" if len(every) == 1 else "The accounts have limits"),
        _item("quarantine", not amiss, True, amiss or ("The account agrees with its broker" if len(every) == 1 else "The accounts agree with their broker")),
    ]  # fmt: skip
    missing = not_traded(latest.document["underlyings"][1:])
    items.append(
        _item("known", not missing, True, f"It looks at {', '.join(missing)}, which no connected market trades" if missing else "Every underlying it looks at is traded")
    )  # fmt: skip
    if account.kind == PRACTICE:
        items.insert(2, _item("paper", paper > 0, False, "Was on paper before" if paper else "Was never on paper"))
    return items


def _trades_there(
    latest: Revision, strategy: Strategy, account: Account, beside: Sequence[Account]
) -> list[dict[str, Any]]:
    """Whether there is one account for every underlying that the rules trade, that of the clock first."""
    symbol, clock = account.underlying.symbol, strategy.underlying.symbol
    if symbol != clock:
        return [
            _item("underlying", False, True, f"It decides by the snapshots of {clock}; the account trades {symbol}")
        ]
    items = [_item("underlying", True, True, f"The account trades {symbol}")]
    others = [other for other in parse(latest.document).traded if other != symbol]
    for other in others:
        mine = [one for one in beside if one.underlying.symbol == other]
        fits = len(mine) == 1 and mine[0].kind == account.kind
        if fits:
            text = f"{mine[0].name} trades {other}"
        elif not mine:
            text = f"It trades {other} too: choose an account that trades it, or open one at the desk"
        elif len(mine) > 1:
            text = f"One account for {other}"
        else:
            text = f"{mine[0].name} is not of the same kind as {account.name}"
        items.append(_item(f"beside {other}", fits, True, text))
    idle = [one.underlying.symbol for one in beside if one.underlying.symbol not in others]
    if idle:
        items.append(_item("idle", False, True, f"Its rules do not trade {', '.join(idle)} beside {symbol}"))
    return items


def _item(key: str, ok: bool, required: bool, text: str) -> dict[str, Any]:
    return {"id": key, "ok": ok, "required": required, "text": text}


@transaction.atomic
def promote(
    user: User, strategy_id: int, account_id: int, size: int, raw_limits: dict[str, Any], looked_at: bool,
    beside_ids: Sequence[int] = (),
) -> Deployment:  # fmt: skip
    """A deployment of a strategy's latest revision in an account, not yet armed; ``beside_ids``: accounts in which it trades
    its other underlyings."""
    strategy, account = strategies.find(user, strategy_id), find_account(user, account_id)
    beside = [find_account(user, key) for key in dict.fromkeys(beside_ids)]
    if not 1 <= size <= MAX_SIZE:
        raise Refused(f"The size must lie between 1 and {MAX_SIZE}.", [{"path": "size", "message": f"1 to {MAX_SIZE}"}])
    by_itself = [
        s
        for e in strategy.latest.document["entries"]
        for s in e["size"]
        if s["rule"] != "fixed_lots" and not s.get("off")
    ]
    if by_itself and size != 1:
        message = "Its sheet sizes every trade by itself; the size is 1."
        raise Refused(message, [{"path": "size", "message": message}])
    items = checklist(strategy, account, beside)
    missing = [item["text"] for item in items if item["required"] and not item["ok"]]
    if missing:
        raise Refused(
            f"Not ready yet: {'; '.join(missing)}.", [{"path": "checklist", "message": text} for text in missing]
        )
    if not looked_at:
        raise Refused(
            "Say that you looked at the run and its trades.", [{"path": "looked_at", "message": "not ticked"}]
        )
    if Deployment.objects.filter(strategy=strategy, account=account, ended_at=None).exists():
        raise Conflict(f"The strategy is deployed in {account.name} already. End that deployment first.")
    own = read_limits({**dict.fromkeys(account.limits), **raw_limits}).plain() if raw_limits else {}
    venue = venue_of(account.underlying.symbol)
    equity = sum((_equity(one) for one in (account, *beside)), Decimal(0))
    deployment = Deployment.objects.create(
        owner=user, strategy=strategy, revision=strategy.latest, account=account, size=size, limits=own,
        checklist=items, state=dump(EngineState(equity)), cursor=market_now(venue),
    )  # fmt: skip
    deployment.beside.set(beside)
    named = " and ".join(one.name for one in (account, *beside))
    _say(
        deployment,
        "promoted",
        f"Promoted {deployment.revision.document['name']}, revision {deployment.revision.number}, to {named}",
        values={"size": size},
    )
    notify(user.pk, "deployment", deployment.pk, account=account.pk)
    return deployment


def _equity(account: Account) -> Decimal:
    """What an account is worth at mid, what it began with where that is not known."""
    found = standings(account, live(account.underlying.symbol)).equity
    return account.cash_start if found is None else found


def _say(deployment: Deployment, kind: str, text: str, who: str = "person", **facts: Any) -> None:
    journal.write(
        deployment.owner_id, who, kind, text, market_now(venue_of(deployment.account.underlying.symbol)),
        account=deployment.account_id, deployment=deployment.pk, strategy=deployment.strategy_id,
        symbol=deployment.account.underlying.symbol, **facts,
    )  # fmt: skip


def arm(user: User, deployment_id: int) -> Deployment:
    """Permit a deployment to send orders from its next decision on; what is refused is recorded."""
    deployment = find_deployment(user, deployment_id)
    try:
        return _arm(user, deployment_id)
    except (Conflict, Refused) as error:
        _say(deployment, "refused", f"Not armed: {error.message}")
        raise


@transaction.atomic
def _arm(user: User, deployment_id: int) -> Deployment:
    deployment = _held(user, deployment_id)
    venue = venue_of(deployment.account.underlying.symbol)
    if deployment.armed:
        raise Conflict("It is armed already.")
    for account in deployment.accounts:
        if account.locked_in == venue_of(account.underlying.symbol).generation:
            raise Conflict(f"{account.name} is halted until the next session ({account.locked_because}).")
        if account.quarantine:
            raise Conflict(f"{account.name} is in quarantine: {account.quarantine}")
    deployment.armed, deployment.armed_at = True, dt.datetime.now(dt.UTC)
    # what was missed while it was disarmed stays undecided
    deployment.cursor = max(deployment.cursor, venue.reached)
    deployment.says = "armed; decides on the next snapshot"
    deployment.save(update_fields=["armed", "armed_at", "cursor", "says"])
    _say(deployment, "armed", f"Armed {deployment.revision.document['name']} in {deployment.account.name}")
    notify(user.pk, "deployment", deployment.pk, account=deployment.account_id)
    notify_desk("deployment")
    return deployment


def _held(user: User, deployment_id: int) -> Deployment:
    hold_accounts(accounts_of(find_deployment(user, deployment_id)))
    Deployment.objects.select_for_update(no_key=True).get(pk=deployment_id)
    found = find_deployment(user, deployment_id)
    if found.ended_at is not None:
        raise Conflict("The deployment has ended.")
    return found


@transaction.atomic
def disarm(user: User, deployment_id: int) -> Deployment:
    deployment = _held(user, deployment_id)
    if not deployment.armed:
        raise Conflict("It is not armed.")
    _disarm(deployment, "person", "disarmed by hand")
    return deployment


def _disarm(deployment: Deployment, who: str, why: str) -> None:
    deployment.armed, deployment.says = False, why[:300]
    deployment.save(update_fields=["armed", "says"])
    for order in deployment.orders.filter(by="rule", state__in=DeskOrder.ALIVE):
        withdraw(locked_order(order.pk), who, why)
    _say(deployment, "disarmed", f"{deployment.revision.document['name']} in {deployment.account.name}: {why}", who)
    notify(deployment.owner_id, "deployment", deployment.pk, account=deployment.account_id)


@transaction.atomic
def end(user: User, deployment_id: int) -> Deployment:
    """End a deployment for good; its positions stay and are from now on a person's."""
    deployment = _held(user, deployment_id)
    if deployment.armed:
        _disarm(deployment, "person", "ended")
    deployment.ended_at = dt.datetime.now(dt.UTC)
    deployment.save(update_fields=["ended_at"])
    _say(deployment, "ended", f"Ended {deployment.revision.document['name']} in {deployment.account.name}")
    notify(user.pk, "deployment", deployment.pk, account=deployment.account_id)
    return deployment


def halt(accounts: list[Account], who: str, because: str, flatten: bool) -> dict[str, int]:
    """Cancel every order, disarm every deployment, lock until the next session; then, if asked, close
    all positions. Each account in a transaction of its own, cancelling first. Counts what it did."""
    counts = {"orders": 0, "deployments": 0, "closing": 0}
    for account in accounts:
        _halt_surely(account.pk, who, because, counts)
    if flatten:
        for account in accounts:
            counts["closing"] += _flatten(account, because)
    notify_desk("order")
    return counts


def _halt_surely(account_id: int, who: str, because: str, counts: dict[str, int]) -> None:
    """Halting is never given up because somebody else was at the same rows: it is tried again."""
    for left in reversed(range(HALT_TRIES)):
        before = dict(counts)
        try:
            _halt(account_id, who, because, counts)
            return
        except OperationalError:
            counts.update(before)
            if not left:
                raise
            time.sleep(0.1)


@transaction.atomic
def _halt(account_id: int, who: str, because: str, counts: dict[str, int]) -> None:
    within = Deployment.objects.within(Account.objects.get(pk=account_id))
    hold_accounts([account_id, *(key for row in within.filter(armed=True) for key in accounts_of(row))])
    account = Account.objects.select_related("underlying").get(pk=account_id)
    venue = venue_of(account.underlying.symbol)
    account.locked_in, account.locked_because = venue.generation, because[:200]
    account.save(update_fields=["locked_in", "locked_because"])
    for row in Deployment.objects.filter(pk__in=within.values("pk"), armed=True).select_for_update(no_key=True):
        _disarm(Deployment.objects.select_related("revision", "account__underlying").get(pk=row.pk), who, "halted")
        counts["deployments"] += 1
    for key in account.orders.filter(state__in=DeskOrder.ALIVE).values_list("pk", flat=True):
        order = locked_order(key)
        if order.alive and not order.cancel_wanted:
            withdraw(order, who, "halted")
            counts["orders"] += 1
    # what a target or stop had reached waits for a person, too
    Holding.objects.filter(account=account, closed_at=None).exclude(protected_by="").update(protected_by="")
    journal.write(
        account.owner_id, who, "halted", f"Halted {account.name}: {because}", market_now(venue), account=account.pk,
        symbol=account.underlying.symbol, values={"until": f"after {session_of(venue).date}"},
    )  # fmt: skip
    notify(account.owner_id, "account", account.pk)


def _flatten(account: Account, because: str) -> int:
    """Market orders that close everything which no order is closing."""
    count = 0
    for holding in account.holdings.filter(closed_at=None).select_related("account__underlying"):
        ticket = closing_ticket(holding)
        client_id = f"halt-{holding.pk}-{holding.orders.count()}"
        facts = {"by": "halt", "because": f"Halt: {because}"[:300], "deployment": holding.deployment}
        try:
            send(account, ticket, client_id, **facts)
            count += 1
        except Refused as error:
            keep_refusal(account, ticket, client_id, error.message, **facts)
    return count

"""The desk's routes, and the practice market's clock and faults."""

import datetime as dt
from typing import Annotated, Any

from ninja import Query, Router

from config.errors import Refused
from desk import compare, deployments, queries, readback, services
from desk.models import PRACTICE, Account, DeskOrder
from desk.schemas import (
    AccountRow,
    CheckItem,
    ClockIn,
    ClockOut,
    CloseIn,
    ComparedOut,
    DeploymentOut,
    DeskOut,
    Halted,
    HaltIn,
    HoldingDetail,
    JumpIn,
    LimitsIn,
    LiveChainOut,
    LivePathOut,
    NewAccount,
    OrderOut,
    OutlookOut,
    PriceIn,
    PromoteIn,
    ProtectionIn,
    QuietIn,
    TicketIn,
    TicketOut,
)
from desk.tickets import Ticket
from people.access import SignedRequest, need, need_confirmed
from strategies import services as strategies
from strell_core.strategy.parts import LIMITS
from venue import clock
from venue.live import live

router = Router(tags=["desk"])


def ticket_of(body: TicketIn) -> Ticket:
    shield = {} if body.protection is None else {
        name: {"value": level.value, "unit": level.unit}
        for name, level in (("target", body.protection.target), ("stop", body.protection.stop)) if level is not None
    }  # fmt: skip
    return Ticket(
        [(leg.contract, leg.ratio) for leg in body.legs], body.lots, body.type, body.limit, body.time_in_force, body.holding,
        shield, body.client_id,
    )  # fmt: skip


def may_trade(request: SignedRequest, account: Account) -> None:
    need(request, "trade" if account.kind == PRACTICE else "paper")


def one_order(order: DeskOrder) -> dict[str, Any]:
    return queries.order_facts(order, live(order.account.underlying.symbol))


# -- the market now
@router.get("/market/{symbol}/clock", response=ClockOut, operation_id="clock")
def clock_now(request: SignedRequest, symbol: str) -> dict[str, Any]:
    return queries.clock_facts(request.user, clock.venue_of(symbol))


@router.post("/market/{symbol}/clock/run", response=ClockOut, operation_id="run_clock")
def run_clock(request: SignedRequest, symbol: str, body: ClockIn) -> dict[str, Any]:
    return queries.clock_facts(request.user, clock.run(request.user, symbol, body.rate))


@router.post("/market/{symbol}/clock/pause", response=ClockOut, operation_id="pause_clock")
def pause_clock(request: SignedRequest, symbol: str) -> dict[str, Any]:
    return queries.clock_facts(request.user, clock.pause(request.user, symbol))


@router.post("/market/{symbol}/clock/jump", response=ClockOut, operation_id="jump_clock")
def jump_clock(request: SignedRequest, symbol: str, body: JumpIn) -> dict[str, Any]:
    return queries.clock_facts(request.user, clock.jump(request.user, symbol, body.to))


@router.post("/market/{symbol}/clock/next-session", response=ClockOut, operation_id="next_session")
def next_session(request: SignedRequest, symbol: str) -> dict[str, Any]:
    return queries.clock_facts(request.user, clock.next_session(request.user, symbol))


@router.post("/market/{symbol}/clock/quiet", response=ClockOut, operation_id="hush_clock")
def hush(request: SignedRequest, symbol: str, body: QuietIn) -> dict[str, Any]:
    return queries.clock_facts(request.user, clock.hush(request.user, symbol, body.quiet))


@router.get("/market/{symbol}/live", response=LiveChainOut, operation_id="live_chain")
def live_chain(
    request: SignedRequest, symbol: str, expiration: str | None = None, account: int | None = None
) -> dict[str, Any]:
    found = None if account is None else services.find_account(request.user, account)
    return queries.live_chain(symbol, expiration, found)


@router.get("/market/{symbol}/live/path", response=LivePathOut, operation_id="live_path")
def live_path(request: SignedRequest, symbol: str) -> dict[str, Any]:
    return queries.live_path(symbol)


# -- accounts
@router.get("/accounts", response=list[AccountRow], operation_id="accounts")
def accounts(request: SignedRequest) -> list[dict[str, Any]]:
    return queries.accounts(request.user)


@router.post("/accounts", response=AccountRow, operation_id="open_account")
def open_account(request: SignedRequest, body: NewAccount) -> dict[str, Any]:
    need(request, "trade" if body.kind == PRACTICE else "paper")
    return queries.account_row(services.open_account(request.user, body.name, body.kind, body.symbol, body.cash))


@router.get("/accounts/{account_id}/desk", response=DeskOut, operation_id="desk")
def desk(request: SignedRequest, account_id: int) -> dict[str, Any]:
    return queries.desk(request.user, services.find_account(request.user, account_id))


@router.put("/accounts/{account_id}/limits", response=AccountRow, operation_id="set_limits")
def set_limits(request: SignedRequest, account_id: int, body: LimitsIn) -> dict[str, Any]:
    return queries.account_row(services.set_limits(request.user, account_id, body.model_dump(exclude_unset=True)))


@router.post("/accounts/{account_id}/take-over", response=AccountRow, operation_id="take_over")
def take_over(request: SignedRequest, account_id: int) -> dict[str, Any]:
    return queries.account_row(services.take_over(request.user, account_id))


# -- orders
@router.post("/accounts/{account_id}/ticket", response=TicketOut, operation_id="preview_ticket")
def preview_ticket(request: SignedRequest, account_id: int, body: TicketIn) -> dict[str, Any]:
    return readback.preview(services.preview(request.user, account_id, ticket_of(body)))


@router.post("/accounts/{account_id}/orders", response=OrderOut, operation_id="place_order")
def place_order(request: SignedRequest, account_id: int, body: TicketIn) -> dict[str, Any]:
    account = services.find_account(request.user, account_id)
    may_trade(request, account)
    return one_order(services.place(account, ticket_of(body)))


@router.get("/orders/{order_id}", response=OrderOut, operation_id="order")
def order(request: SignedRequest, order_id: int) -> dict[str, Any]:
    return one_order(services.find_order(request.user, order_id))


@router.post("/orders/{order_id}/cancel", response=OrderOut, operation_id="cancel_order")
def cancel_order(request: SignedRequest, order_id: int) -> dict[str, Any]:
    may_trade(request, services.find_order(request.user, order_id).account)
    return one_order(services.cancel(request.user, order_id))


@router.post("/orders/{order_id}/price", response=OrderOut, operation_id="change_order")
def change_order(request: SignedRequest, order_id: int, body: PriceIn) -> dict[str, Any]:
    may_trade(request, services.find_order(request.user, order_id).account)
    return one_order(services.change(request.user, order_id, body.limit))


# -- positions
@router.get("/positions/{holding_id}", response=HoldingDetail, operation_id="position")
def position(request: SignedRequest, holding_id: int) -> dict[str, Any]:
    return queries.holding_detail(request.user, services.find_holding(request.user, holding_id))


@router.put("/positions/{holding_id}/protection", response=HoldingDetail, operation_id="protect_position")
def protect(request: SignedRequest, holding_id: int, body: ProtectionIn) -> dict[str, Any]:
    may_trade(request, services.find_holding(request.user, holding_id).account)
    raw = {
        name: {"value": level.value, "unit": level.unit}
        for name, level in (("target", body.target), ("stop", body.stop)) if level is not None
    }  # fmt: skip
    return queries.holding_detail(request.user, services.protect(request.user, holding_id, raw))


@router.post("/positions/{holding_id}/close", response=OrderOut, operation_id="close_position")
def close_position(request: SignedRequest, holding_id: int, body: CloseIn) -> dict[str, Any]:
    holding = services.find_holding(request.user, holding_id)
    may_trade(request, holding.account)
    ticket = services.closing_ticket(holding, body.lots, body.type, body.limit)
    ticket = Ticket(**{**ticket.__dict__, "client_id": body.client_id})
    return one_order(services.place(holding.account, ticket))


# -- Halt
@router.post("/halt", response=Halted, operation_id="halt")
def halt(request: SignedRequest, body: HaltIn) -> dict[str, int]:
    if body.account is None:
        found = list(Account.objects.of(request.user).select_related("underlying"))
    else:
        found = [services.find_account(request.user, body.account)]
    if not found:
        raise Refused("There is no account to halt.")
    for account in found:
        may_trade(request, account)
    return deployments.halt(found, "person", body.because, body.flatten)


# -- deployments
@router.get("/strategies/{strategy_id}/checklist", response=list[CheckItem], operation_id="checklist")
def checklist(
    request: SignedRequest, strategy_id: int, account: int, beside: Annotated[list[int] | None, Query()] = None
) -> list[dict[str, Any]]:
    """``beside``: accounts in which it would trade its other underlyings."""
    asked = (beside or [])[: LIMITS["underlyings"]]
    found = [services.find_account(request.user, key) for key in (account, *asked)]
    return deployments.checklist(strategies.find(request.user, strategy_id), found[0], found[1:])


@router.get("/strategies/{strategy_id}/deployments", response=list[DeploymentOut], operation_id="deployments")
def of_strategy(request: SignedRequest, strategy_id: int) -> list[dict[str, Any]]:
    return queries.deployments(request.user, strategy=strategies.find(request.user, strategy_id).pk)


@router.post("/strategies/{strategy_id}/promote", response=DeploymentOut, operation_id="promote")
def promote(request: SignedRequest, strategy_id: int, body: PromoteIn) -> dict[str, Any]:
    for key in (body.account, *body.beside):
        may_trade(request, services.find_account(request.user, key))
    made = deployments.promote(
        request.user, strategy_id, body.account, body.size, body.limits, body.looked_at, body.beside
    )
    return queries.deployment_facts(deployments.find_deployment(request.user, made.pk))


@router.post("/deployments/{deployment_id}/arm", response=DeploymentOut, operation_id="arm")
def arm(request: SignedRequest, deployment_id: int) -> dict[str, Any]:
    account = deployments.find_deployment(request.user, deployment_id).account
    may_trade(request, account)
    if account.kind == PRACTICE:
        need_confirmed(request)
    return queries.deployment_facts(deployments.arm(request.user, deployment_id))


@router.post("/deployments/{deployment_id}/disarm", response=DeploymentOut, operation_id="disarm")
def disarm(request: SignedRequest, deployment_id: int) -> dict[str, Any]:
    may_trade(request, deployments.find_deployment(request.user, deployment_id).account)
    return queries.deployment_facts(deployments.disarm(request.user, deployment_id))


@router.post("/deployments/{deployment_id}/end", response=DeploymentOut, operation_id="end_deployment")
def end(request: SignedRequest, deployment_id: int) -> dict[str, Any]:
    may_trade(request, deployments.find_deployment(request.user, deployment_id).account)
    return queries.deployment_facts(deployments.end(request.user, deployment_id))


@router.get("/deployments/{deployment_id}/outlook", response=OutlookOut, operation_id="deployment_outlook")
def outlook(request: SignedRequest, deployment_id: int) -> dict[str, Any]:
    """What its exits and adjustments say of every open trade on the last recorded snapshot."""
    return queries.outlook_of(deployments.find_deployment(request.user, deployment_id))


@router.get("/deployments/{deployment_id}/compare/{session}", response=ComparedOut, operation_id="compare_session")
def compare_session(request: SignedRequest, deployment_id: int, session: dt.date) -> dict[str, Any]:
    return compare.compare(deployments.find_deployment(request.user, deployment_id), session)

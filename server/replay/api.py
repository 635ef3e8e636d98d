"""Replay sessions."""

from typing import Any

from ninja import Query, Router

from people.access import SignedRequest
from replay import queries, services
from replay.models import ReplaySession
from replay.schemas import ActsIn, Describe, FoundReplay, Look, Move, NewReplay, OrdersIn, ReplayRow, SceneOut, UndoIn
from strategies import services as strategies

router = Router(tags=["replay"])


@router.get("/strategies/{strategy_id}/replays", response=list[ReplayRow], operation_id="replays")
def replays(request: SignedRequest, strategy_id: int) -> list[dict[str, Any]]:
    strategy = strategies.find(request.user, strategy_id)
    found = ReplaySession.objects.of(request.user).filter(strategy=strategy).select_related("underlying", "trade")
    return [services.facts(session) for session in found.order_by("-updated_at")]


@router.get("/replays", response=list[FoundReplay], operation_id="latest_replays")
def latest(request: SignedRequest) -> list[dict[str, Any]]:
    """The sessions that were last gone on with."""
    return queries.latest(request.user)


@router.post("/replays", response=ReplayRow, operation_id="start_replay")
def start(request: SignedRequest, body: NewReplay) -> dict[str, Any]:
    if body.run is not None and body.trade is not None:
        return services.facts(services.from_trade(request.user, body.run, body.trade))
    return services.facts(services.blank(request.user, body.strategy or 0, body.at, body.cash))


@router.get("/replays/{session_id}", response=SceneOut, operation_id="replay")
def replay(request: SignedRequest, session_id: int, look: Query[Look]) -> dict[str, Any]:
    return _scene(services.find(request.user, session_id), look)


@router.post("/replays/{session_id}/move", response=SceneOut, operation_id="move_replay")
def move(request: SignedRequest, session_id: int, body: Move, look: Query[Look]) -> dict[str, Any]:
    return _scene(services.move(request.user, session_id, body.to), look)


@router.post("/replays/{session_id}/orders", response=SceneOut, operation_id="trade_replay")
def trade(request: SignedRequest, session_id: int, body: OrdersIn, look: Query[Look]) -> dict[str, Any]:
    return _scene(services.trade(request.user, session_id, [(o.contract, o.contracts) for o in body.orders]), look)


@router.post("/replays/{session_id}/close", response=SceneOut, operation_id="close_replay_position")
def close(request: SignedRequest, session_id: int, look: Query[Look]) -> dict[str, Any]:
    return _scene(services.close_all(request.user, session_id), look)


@router.put("/replays/{session_id}/acts", response=SceneOut, operation_id="let_replay_rules_act")
def acts(request: SignedRequest, session_id: int, body: ActsIn, look: Query[Look]) -> dict[str, Any]:
    """What the rules do by themselves: advise, leave, or live."""
    return _scene(services.let_act(request.user, session_id, body.acts), look)


@router.post("/replays/{session_id}/undo", response=SceneOut, operation_id="undo_replay")
def undo(request: SignedRequest, session_id: int, body: UndoIn, look: Query[Look]) -> dict[str, Any]:
    return _scene(services.undo(request.user, session_id, body.undoes), look)


def _scene(session: ReplaySession, look: Look) -> dict[str, Any]:
    return queries.scene(session, look.expiration, look.payoff_at, look.symbol)


@router.patch("/replays/{session_id}", response=ReplayRow, operation_id="describe_replay")
def describe(request: SignedRequest, session_id: int, body: Describe) -> dict[str, Any]:
    return services.facts(services.describe(request.user, session_id, body.based_on, body.name, body.note))


@router.delete("/replays/{session_id}", response={204: None}, operation_id="delete_replay")
def delete(request: SignedRequest, session_id: int) -> tuple[int, None]:
    services.delete(request.user, session_id)
    return 204, None


@router.post("/replays/{session_id}/restore", response=ReplayRow, operation_id="restore_replay")
def restore(request: SignedRequest, session_id: int) -> dict[str, Any]:
    services.delete(request.user, session_id, restore=True)
    return services.facts(services.find(request.user, session_id))

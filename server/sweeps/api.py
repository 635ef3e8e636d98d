"""Sweeps."""

from typing import Any

from ninja import Router

from people.access import SignedRequest
from runs.queries import run_facts
from runs.schemas import RunRow
from strategies import services as strategies
from sweeps import held, queries, services
from sweeps.schemas import HeldBackOut, HoldBack, PlaceOut, SweepOut, SweepRequest, SweepRow, WalkOut

router = Router(tags=["sweeps"])


@router.get("/strategies/{strategy_id}/dials", response=list[PlaceOut], operation_id="dials")
def dials(request: SignedRequest, strategy_id: int) -> list[dict[str, Any]]:
    """Values of a strategy's sheet that a sweep can vary."""
    return queries.dials(strategies.find(request.user, strategy_id).latest.document)


@router.put("/strategies/{strategy_id}/held-back", response=HeldBackOut, operation_id="hold_back")
def hold(request: SignedRequest, strategy_id: int, body: HoldBack) -> Any:
    """Keep sessions from a day on out of backtests and sweeps, or no longer."""
    return held.hold_back(request.user, strategy_id, body.since)


@router.get("/strategies/{strategy_id}/sweeps", response=list[SweepRow], operation_id="sweeps")
def sweeps(request: SignedRequest, strategy_id: int) -> list[dict[str, Any]]:
    strategy = strategies.find(request.user, strategy_id)
    return [queries.sweep_facts(sweep) for sweep in strategy.sweeps.there().select_related("revision")]


@router.post("/strategies/{strategy_id}/sweeps", response=SweepRow, operation_id="ask_sweep")
def ask(request: SignedRequest, strategy_id: int, body: SweepRequest) -> dict[str, Any]:
    asked = [(dial.paths, dial.text) for dial in body.dials]
    sweep = services.ask(request.user, strategy_id, body.start, body.end, body.cash, asked, body.drawn)
    return queries.sweep_facts(sweep)


@router.get("/sweeps/{sweep_id}", response=SweepOut, operation_id="sweep")
def sweep(request: SignedRequest, sweep_id: int) -> dict[str, Any]:
    return queries.whole(services.find(request.user, sweep_id))


@router.get("/sweeps/{sweep_id}/walk", response=WalkOut, operation_id="walk_sweep")
def walk(
    request: SignedRequest, sweep_id: int, train: int = 252, test: int = 63, anchored: bool = False
) -> dict[str, Any]:
    """Variants chosen on ``train`` sessions (``anchored``: on all before) and judged on the ``test`` that follow."""
    return queries.walked(services.find(request.user, sweep_id), train, test, anchored)


@router.post("/sweeps/{sweep_id}/cancel", response=SweepRow, operation_id="cancel_sweep")
def cancel(request: SignedRequest, sweep_id: int) -> dict[str, Any]:
    return queries.sweep_facts(services.cancel(request.user, sweep_id))


@router.post("/sweeps/{sweep_id}/go-on", response=SweepRow, operation_id="go_on_sweep")
def go_on(request: SignedRequest, sweep_id: int) -> dict[str, Any]:
    return queries.sweep_facts(services.go_on(request.user, sweep_id))


@router.delete("/sweeps/{sweep_id}", response={204: None}, operation_id="delete_sweep")
def delete(request: SignedRequest, sweep_id: int) -> tuple[int, None]:
    services.delete(request.user, sweep_id)
    return 204, None


@router.post("/sweeps/{sweep_id}/restore", response=SweepRow, operation_id="restore_sweep")
def restore(request: SignedRequest, sweep_id: int) -> dict[str, Any]:
    return queries.sweep_facts(services.restore(request.user, sweep_id))


@router.post("/sweeps/{sweep_id}/cells/{place}/run", response=RunRow, operation_id="open_cell")
def open_cell(request: SignedRequest, sweep_id: int, place: int) -> dict[str, Any]:
    """A variant as a run, made again where there is none."""
    return run_facts(services.open_cell(request.user, sweep_id, place))

"""Faults of the practice broker, played on demand by whoever operates the practice market."""

from typing import Any

from ninja import Router, Schema

from config.errors import Forbidden, Refused
from config.schemas import Asked
from people.access import SignedRequest
from practice_broker.models import BrokerFault

router = Router(tags=["practice broker"])


class FaultIn(Asked):
    kind: str
    count: int = 1


class FaultOut(Schema):
    kind: str
    left: int


@router.get("/practice-broker/faults", response=list[FaultOut], operation_id="broker_faults")
def faults(request: SignedRequest) -> list[dict[str, Any]]:
    due = {row.kind: row.left for row in BrokerFault.objects.filter(left__gt=0).order_by("-id")}
    return [{"kind": kind, "left": due.get(kind, 0)} for kind in BrokerFault.KINDS]


@router.post("/practice-broker/faults", response={204: None}, operation_id="play_fault")
def play_fault(request: SignedRequest, body: FaultIn) -> tuple[int, None]:
    if not request.user.is_staff:
        raise Forbidden("Only who operates the practice broker may make it fail.")
    if body.kind not in BrokerFault.KINDS:
        raise Refused(f"The practice broker knows no fault '{body.kind}': {', '.join(BrokerFault.KINDS)}.")
    if not 1 <= body.count <= 20:
        raise Refused("A fault is played 1 to 20 times.")
    BrokerFault.objects.create(kind=body.kind, left=body.count)
    return 204, None

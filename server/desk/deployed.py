"""A deployment's rules and state made ready, and what they say in words."""

from __future__ import annotations

import json
from decimal import Decimal
from typing import Any

from desk.models import Deployment
from runs.queries import labels
from runs.rows import amount_text, exit_reason, happened
from strell_core.engine.plan import Plan, make_plan
from strell_core.engine.state import EngineState, Reason
from strell_core.engine.stored import load
from strell_core.market.market import Market
from strell_core.market.prices import money, parts_to_money
from strell_core.market.timeline import Timeline
from strell_core.strategy.document import parse
from strell_core.strategy.reasons import sentence_said
from strell_core.strategy.sentences import Sheet, sheet


def document_of(deployment: Deployment) -> dict[str, Any]:
    """The revision's rules with the deployment's size."""
    document = json.loads(json.dumps(deployment.revision.document))
    for entry in document["entries"]:
        for rule in entry["size"]:
            if "lots" in rule:
                rule["lots"] = rule["lots"] * deployment.size
    return document


def symbol_of(deployment: Deployment) -> str:
    return deployment.account.underlying.symbol


def state_of(deployment: Deployment) -> EngineState:
    """What its engine remembers, whichever version stored it."""
    return load(deployment.state, symbol_of(deployment))


_plans: dict[tuple[int, int], Plan] = {}


def plan_of(deployment: Deployment, market: Market) -> Plan:
    """The deployment's rules made ready; a revision never changes, so it is made once."""
    key = (deployment.revision_id, deployment.size)
    if key not in _plans:
        while len(_plans) > 64:
            del _plans[next(iter(_plans))]
        _plans[key] = make_plan(parse(document_of(deployment)), market, single_units=False)
    return _plans[key]


def reason_words(document: dict[str, Any], timeline: Timeline, reason: Reason) -> str:
    """A reason as a sentence. ``timeline``: of the underlying of the trade that it speaks of."""
    written = sheet(document)
    number = written.numbered(reason.rule)
    said = f" (sentence {number})" if number else ""
    values = reason.values
    moment = timeline.calendar.local(reason.at)
    today, local = moment.date(), moment.strftime("%H:%M")

    def amount(parts: int) -> str:
        value = money(parts_to_money(parts, timeline.underlying.quantum, timeline.multiplier(today)))
        return amount_text(value, timeline.underlying.currency)

    def contracts() -> str:
        several = len(document["underlyings"]) > 1
        return labels(values["contracts"], timeline.underlying.symbol, several)

    if reason.kind == "entry":
        return f"entered trade {reason.trade} at {local}{said}: {contracts()}"
    if reason.kind == "no entry":
        return f"no entry at {local}: {values.get('message') or _said_no(document, written, reason)}{said}"
    if reason.kind == "skipped":
        return f"decision time skipped at {local}: {values['message']}"
    if reason.kind == "left":
        shown = {key: value for key, value in values.items() if key != "also"}
        return f"left trade {reason.trade} at {local}: {exit_reason(timeline, document, written, reason.rule, shown, today)}{said}"
    if reason.kind == "moved":
        return f"adjusts trade {reason.trade} at {local}{said}: {contracts()}"
    if reason.kind == "no adjustment":
        return f"trade {reason.trade} is not adjusted at {local}: {values.get('message', '')}{said}"
    if reason.kind == "stop moved":
        return f"trade {reason.trade} at {local}: {happened(timeline, reason.kind, values)}{said}"
    if reason.kind == "re-entry given up":
        return f"no re-entry after trade {reason.trade} at {local}: {values.get('message') or 'sentence ' + str(written.numbered(values['said_no'])) + ' said no'}{said}"
    if reason.kind == "filled":
        what = "premium" if values["kind"] == "open" else "P/L"
        return f"trade {reason.trade}: {values['kind']} filled, {what} {amount(values['premium' if values['kind'] == 'open' else 'pnl'])}"
    if reason.kind == "ended":
        return f"trade {reason.trade}: {happened(timeline, reason.kind, values)}"
    if reason.kind in ("adjusted", "waits"):
        return f"trade {reason.trade} at {local}: {happened(timeline, reason.kind, values)}"
    if reason.kind == "settled":
        delivered, legs = values.get("delivered", 0), values.get("legs", 0)
        how = "delivered" if delivered == legs else "settled in cash, or delivered" if delivered else "settled in cash"
        return f"trade {reason.trade}: its expired contracts were {how}"
    if reason.kind == "call":
        cash = timeline.underlying.currency
        return (
            f"call at {local}: equity {amount_text(Decimal(str(values['equity'])), cash)} is less than the capital needed, "
            f"{amount_text(Decimal(str(values['needed'])), cash)}{said}"
        )
    return f"trade {reason.trade}: {values.get('message', reason.kind)}"


def _said_no(document: dict[str, Any], written: Sheet, reason: Reason) -> str:
    """What the sentence that was not true said, in its own words."""
    sentence = next((s for s in written.sentences if s.id == reason.rule), None)
    if sentence is None or reason.truth is None:
        return ", ".join(f"{key} {value}" for key, value in reason.values.items())
    return sentence_said(written, document, sentence, reason.truth, reason.values)

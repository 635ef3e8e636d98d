"""A trade's history in words: every decision with its sentence and the values that made it true, every fill, what was refused."""

from __future__ import annotations

from typing import Any

from runs.rows import ENDS, amount_text, exit_reason, happened
from strell_core.market.instruments import ContractKey
from strell_core.market.prices import money, parts_to_money, shown_price
from strell_core.market.timeline import Timeline
from strell_core.measures.frames import TRUE
from strell_core.results.trade_events import TradeEvent
from strell_core.strategy.reasons import sentence_said
from strell_core.strategy.sentences import Sheet

TITLES = {
    "entry": "Entry decided", "left": "Exit decided", "moved": "Adjustment decided", "no adjustment": "Adjustment refused",
    "filled": "Filled", "lapsed": "Order lapsed", "ended": "Rest of the order ended", "settled": "Settled", "delivered": "Delivered",
    "dividend": "Dividend", "stop moved": "Stop moved", "adjusted": "Split", "re-entry given up": "No re-entry", "waits": "Waits",
}  # fmt: skip
FILLED = {"open": "Opened", "close": "Closed", "adjust": "Adjusted"}
NOT_VALUES = ("also", "contracts", "reentry")


def history_of(
    timeline: Timeline, document: dict[str, Any], written: Sheet, events: list[TradeEvent]
) -> list[dict[str, Any]]:  # fmt: skip
    """What happened to a trade as its page, the API and files tell it. ``timeline``: of its underlying; ``written``: the
    document's sheet."""
    return [_event(timeline, document, written, event) for event in events]


def _event(timeline: Timeline, document: dict[str, Any], written: Sheet, event: TradeEvent) -> dict[str, Any]:
    local, quantum = timeline.calendar.local, timeline.underlying.quantum
    title = FILLED[event.values["kind"]] if event.kind == "filled" else TITLES.get(event.kind, event.kind)
    return {
        "at": event.at, "local": local(event.at).strftime("%Y-%m-%dT%H:%M"), "shown": local(event.at).strftime("%a %-d %b %Y %H:%M"),
        "kind": event.kind, "title": title, "rule": event.rule, "sentence": written.numbered(event.rule), "times": event.times,
        "until": local(event.until).strftime("%a %-d %b %Y %H:%M") if event.until else "",
        "text": _text(timeline, document, written, event),
        "dealt": [
            {
                "contract": entry.contract.label, "contracts": entry.contracts,
                "price": shown_price(entry.contract, entry.price_parts, quantum), "amount": float(entry.amount),
            }
            for entry in event.dealt
            if entry.contract is not None
        ],
        "amount": float(event.amount), "moves_money": bool(event.dealt),
    }  # fmt: skip


def _text(timeline: Timeline, document: dict[str, Any], written: Sheet, event: TradeEvent) -> str:
    values, day = event.values, timeline.calendar.local(event.at).date()

    def amount(parts: int) -> str:
        found = money(parts_to_money(parts, timeline.underlying.quantum, timeline.multiplier(day)))
        return amount_text(found, timeline.underlying.on(day).currency)

    if event.kind in ("entry", "moved"):
        codes = [ContractKey.parse(code, timeline.underlying.symbol, only=False).label for code in values["contracts"]]
        why = _said(document, written, event) if event.kind == "moved" else ""
        again = f"re-entry {values['reentry']}: " if values.get("reentry") else ""
        return f"{why}: {', '.join(codes)}" if why else f"{again}{', '.join(codes)}"
    if event.kind == "left":
        shown = {key: value for key, value in values.items() if key != "also"}
        also = [str(number) for rule in values.get("also", ()) if (number := written.numbered(rule))]
        told = (
            exit_reason(timeline, document, written, event.rule, shown, day)
            if _is_known(written, event)
            else event.rule
        )
        return f"{told}; sentence {', '.join(also)} said so too" if also else told
    if event.kind == "filled":
        if values["kind"] == "open":
            return f"premium {amount(values['premium'])}"
        return f"realised so far {amount(values['pnl'])}"
    if event.kind == "delivered":
        code = ContractKey.parse(values["contract"], timeline.underlying.symbol, only=False).label
        return f"{code} was {'assigned' if values['how'] == 'assignment' else 'exercised'}: {values['units']:+d} contracts of the underlying at its strike".replace("-", "−")  # fmt: skip
    if event.kind == "dividend":
        return f"{amount(values['parts'])} on the units held"
    if event.kind == "settled":
        delivered, legs = values.get("delivered", 0), values.get("legs", 0)
        if timeline.underlying.delivers:
            return "delivered" if delivered == legs else "expired, or delivered" if delivered else "expired worthless"
        return "at the official value"
    if event.kind == "re-entry given up" and not values.get("message"):
        number = written.numbered(values["said_no"])
        return f"sentence {number} said no" if number else "a limit said no"
    return happened(timeline, event.kind, values) or str(values.get("message", ""))


def _is_known(written: Sheet, event: TradeEvent) -> bool:
    """Whether a sentence, or what ends a trade by itself, is what decided it."""
    return event.rule in (*ENDS, "settlement", "split") or written.numbered(event.rule) is not None


def _said(document: dict[str, Any], written: Sheet, event: TradeEvent) -> str:
    sentence = written.sentence(event.rule)
    if sentence is None:
        return ""
    shown = {key: value for key, value in event.values.items() if key not in NOT_VALUES}
    return sentence_said(written, document, sentence, TRUE, shown)

"""What the rules would do at an instant: verdicts, candidates, picked structure, payoff."""

from __future__ import annotations

import datetime as dt
from typing import Any

import numpy as np
import numpy.typing as npt

from market.own import market_for, plan_for
from market.timelines import instant_of
from observe.payoffs import glyph, greeks, payoff
from strell_core.engine.entering import EntryDecision, decide_entry
from strell_core.engine.fills import price_of
from strell_core.engine.plan import EntryPlan, Plan
from strell_core.market.market import Market, Observation
from strell_core.market.prices import PARTS
from strell_core.market.timeline import Timeline
from strell_core.measures.frames import FALSE, TRUE, TRUTH_WORDS, Account, just_opened
from strell_core.pricing.held import Holding
from strell_core.selection.select import LegChoice, Selection
from strell_core.strategy import conditions, kinds
from strell_core.strategy.condition_truths import truths
from strell_core.strategy.document import parse
from strell_core.strategy.kinds import EntryFrame
from strell_core.strategy.reasons import condition_text, sentence_said
from strell_core.strategy.schedule import DUE, MISSED, POLICY_SKIP
from strell_core.strategy.sentences import Sheet, sheet

RUNNERS_UP = 6
Looks = npt.NDArray[np.int64]
"""Indices of decision times."""
CASH = 50_000.0
"""In a preview the account was just opened with so much money: nothing is open, nothing was lost yet."""
LOOKS_BACK = 250
"""Decision times that are looked at for when a condition was last true."""
STATUS_TEXT = {
    DUE: "a decision time", MISSED: "the decision time has no snapshot near it",
    POLICY_SKIP: "single-snapshot session, entries are skipped", None: "not a decision time: what if it were",
}  # fmt: skip


def preview(document: dict[str, Any], owner_id: int, at: str | None, entry_id: str | None = None) -> dict[str, Any]:
    """Everything the Rules stage shows for one instant, of one entry: the first unless it is named. ``owner_id``:
    whose series it may read."""
    whole = market_for(document, owner_id)
    history = whole.main
    plan = plan_for(parse(document), whole)
    entry = next((item for item in plan.entries if item.id == entry_id), plan.entries[0])
    there = whole.on_clock(entry.entry.underlying)
    looks = entry.schedule.looks(whole, 0, len(history.times))
    last = int(looks[-1]) if len(looks) else len(history.times) - 1
    index = last if at is None else instant_of(history, at)
    decision = decide_entry(entry, Observation(whole, index), _account(entry), RUNNERS_UP, thorough=True)
    written = sheet(document)
    barred = _barred(written, plan, entry, whole, index)
    local = history.calendar.local(int(history.times[index]))
    status = entry.schedule.status(whole, index)
    out: dict[str, Any] = {
        "at": int(history.times[index]), "local": local.strftime("%Y-%m-%dT%H:%M"),
        "shown": local.strftime("%a %-d %b %Y %H:%M"), "asked": _asked(history, index, at), "zone": local.tzname(), "spot": int(there.spot[index]) / 100, "symbol": entry.entry.underlying,
        "status": status, "status_text": STATUS_TEXT[status], "enters": decision.entered and not any(barred.values()), "said_no": _no_of_all(barred, decision), "last_true": _last_true(entry, whole, looks[looks < index], decision),
        "entry": entry.id, "entries": [_in_short(written, plan, item, whole, index) for item in plan.entries],
        "neighbours": _neighbours(history, looks, index), "verdicts": _verdicts(document, decision, barred),
        "legs": [_leg(there, index, choice) for choice in decision.selection.choices] if decision.selection else [],
        "single": bool(history.is_single[index]), "structure": None,
    }  # fmt: skip
    if decision.selection is not None and decision.selection.failed is None:
        out["structure"] = _structure(plan, there, index, decision.selection, max(1, decision.lots))
    return out


def _account(entry: EntryPlan) -> Account:
    return just_opened(CASH, entry.entry.underlying)


def _in_short(written: Sheet, plan: Plan, entry: EntryPlan, whole: Market, index: int) -> dict[str, Any]:
    """Whether an entry would enter, and which sentence says no."""
    decision, barred = (
        decide_entry(entry, Observation(whole, index), _account(entry)),
        _barred(written, plan, entry, whole, index),
    )
    due, no = entry.schedule.status(whole, index) == DUE, _no_of_all(barred, decision)
    return {"id": entry.id, "due": due, "enters": decision.entered and not any(barred.values()), "said_no": no}


def _barred(written: Sheet, plan: Plan, entry: EntryPlan, whole: Market, index: int) -> dict[str, str]:
    """Limits that let nothing be entered while they hold, in the sheet's order: what one says that does hold or cannot be
    told, nothing of one that does not."""
    frame = EntryFrame(Observation(whole, index), _account(entry), entry.entry.underlying).frame()
    out = {}
    for rule in plan.strategy.guards:
        kind = kinds.limit_rules[rule.kind]
        if kind.bars:
            truth = int(truths(rule.params, frame)[0])
            words = condition_text(written, rule.params, truth, conditions.told(rule.params, frame))
            out[rule.id] = "" if truth == FALSE else words
    return out


def _no_of_all(barred: dict[str, str], decision: EntryDecision) -> str | None:
    """Id of the sentence that says no first: limits are asked before everything else."""
    return next((name for name, said in barred.items() if said), _said_no(decision))


def _asked(history: Timeline, index: int, at: str | None) -> str | None:
    """The instant asked for, in words, when the last snapshot before it lies in an earlier session."""
    when = dt.datetime.fromisoformat(at) if at else None
    if when is None or when.date() == history.dates[int(history.session_of[index])]:
        return None
    return when.strftime("%a %-d %b %Y %H:%M")


def _said_no(decision: EntryDecision) -> str | None:
    """Id of the first sentence, in the order of deciding, that was not true."""
    return next((key for key, verdict in decision.verdicts if verdict.truth != TRUE), None)


def _last_true(entry: EntryPlan, whole: Market, before: Looks, decision: EntryDecision) -> str | None:
    """When the condition that says no was last true at a decision time before, in words; ``None``: it is no condition."""
    rule = next((rule for rule in entry.entry.conditions if rule.id == _said_no(decision)), None)
    looks = before[-LOOKS_BACK:]
    if rule is None or not len(looks):
        return None
    for at in reversed(looks.tolist()):
        frame = EntryFrame(Observation(whole, at), _account(entry), entry.entry.underlying)
        if kinds.enter_conditions[rule.kind].judge(frame, rule.params).truth == TRUE:
            return f"last true on {whole.date(at):%-d %b %Y}"
    return f"not true at any of the {len(looks)} decision times before"


def _neighbours(history: Timeline, found: Looks, index: int) -> dict[str, str | None]:
    def local(candidates: Any, which: int) -> str | None:
        if not len(candidates):
            return None
        return history.calendar.local(int(history.times[candidates[which]])).strftime("%Y-%m-%dT%H:%M")

    return {"before": local(found[found < index], -1), "after": local(found[found > index], 0)}


def _verdicts(document: dict[str, Any], decision: EntryDecision, barred: dict[str, str]) -> list[dict[str, Any]]:
    out, written = [], sheet(document)
    for sentence in written.sentences:
        if sentence.id in barred:
            said = barred[sentence.id]
            out.append(
                {"id": sentence.id, "number": sentence.number, "truth": TRUTH_WORDS[FALSE if said else TRUE],
                 "text": said or "bars nothing", "sentence": sentence.text}
            )  # fmt: skip
            continue
        found = next((verdict for key, verdict in decision.verdicts if key == sentence.id), None)
        if found is None or sentence.off:
            continue
        text = sentence_said(written, document, sentence, found.truth, found.values)
        out.append(
            {"id": sentence.id, "number": sentence.number, "truth": TRUTH_WORDS[found.truth], "text": text,
             "sentence": sentence.text}
        )  # fmt: skip
    return out


def _leg(history: Timeline, index: int, choice: LegChoice) -> dict[str, Any]:
    view, quantum = history.view(index), float(history.underlying.quantum)
    today = history.dates[int(history.session_of[index])]
    rows = []
    for candidate in sorted(choice.candidates, key=lambda c: c.contract.strike):
        quote = view.quote(candidate.contract)
        chain = view.slice(candidate.contract.expiration, candidate.contract.right)
        row = int((chain.strikes == candidate.contract.strike).argmax())
        rows.append(
            {
                "strike": candidate.contract.strike, "delta": None if quote.delta is None else quote.delta / 10_000,
                "bid": round(quote.bid * quantum, 2), "ask": round(quote.ask * quantum, 2), "iv": None if quote.iv is None else quote.iv / 100,
                "open_interest": int(chain.open_interest[row]), "picked": candidate.rank == 0, "rank": candidate.rank,
            }
        )  # fmt: skip
    days = [{"date": date.isoformat(), "days": (date - today).days} for date in choice.expirations[:4]]
    contract = choice.picked.contract if choice.picked else None
    return {
        "id": choice.leg_id, "message": choice.message, "expirations": days, "candidates": rows,
        "right": contract.right if contract else None, "label": contract.label if contract else None,
    }  # fmt: skip


def _structure(plan: Plan, history: Timeline, index: int, selection: Selection, lots: int) -> dict[str, Any]:
    view = history.view(index)
    quantum, scale = float(history.underlying.quantum), view.underlying.multiplier
    share = plan.strategy.orders["fill_model"]["share"]
    holdings: list[Holding] = []
    legs: list[dict[str, Any]] = []
    for leg in selection.legs:
        contracts = leg.contracts * lots
        parts = price_of(plan, view, leg.contract, contracts, share)
        opened = (parts if parts is not None else (leg.quote.bid + leg.quote.ask) * PARTS // 2) / PARTS * quantum
        holding = Holding(leg.contract, contracts, opened)
        holdings.append(holding)
        legs.append(
            {
                "id": leg.leg_id, "contract": leg.contract.code, "label": leg.contract.label, "contracts": contracts,
                "price": round(opened, 4), "fillable": parts is not None, **greeks(history, index, holding),
            }
        )  # fmt: skip
    credit = -sum(h.contracts * h.opened for h in holdings if not h.contract.is_unit) * scale
    totals = {
        name: sum(leg[name] * leg["contracts"] for leg in legs) * scale
        if all(leg[name] is not None for leg in legs) else None
        for name in ("delta", "gamma", "theta", "vega")
    }  # fmt: skip
    return {
        "lots": lots, "legs": legs, "credit": round(credit, 2), "greeks": totals,
        "payoff": payoff(history, index, holdings), "glyph": glyph(holdings, view.spot / 100),
        "currency": history.underlying.currency,
    }  # fmt: skip

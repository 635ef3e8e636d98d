"""What the rules of open trades say at an instant, in words (:mod:`strell_core.engine.outlook`)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from ninja import Schema

from observe.payoffs import glyph, greeks
from observe.schemas import GlyphOut
from runs.rows import amount_text
from strell_core.engine.capital import Backed
from strell_core.engine.outlook import AdjustmentNow, ExitNow, Proposal, TradeNow, outlook
from strell_core.engine.plan import Plan
from strell_core.engine.state import EngineState, LegStop, TradeState
from strell_core.market.market import Observation
from strell_core.market.prices import PARTS, money, parts_to_money, shown_price, signed
from strell_core.market.timeline import Timeline
from strell_core.measures.frames import TRUTH_WORDS, UNVALUED
from strell_core.pricing.held import Holding
from strell_core.strategy import catalogue
from strell_core.strategy.document import Rule
from strell_core.strategy.reasons import reason_text
from strell_core.strategy.sentences import Sheet, sheet, value_words


class RuleOut(Schema):
    id: str
    """Of its sentence, or of the leg whose stop another exit has set."""
    number: int | None
    """Of its sentence; ``None``: a stop that another exit has set."""
    sentence: str
    truth: str
    text: str


class ProposedLeg(Schema):
    label: str
    contracts: int
    price: float | None
    """Points, where the sheet would fill it; ``None``: it cannot be dealt now."""
    closes: bool


class ProposalOut(Schema):
    """What an adjustment would do now."""

    legs: list[ProposedLeg]
    cash: float | None
    """What it brings, or costs where negative, commission included; ``None``: it cannot be dealt whole."""
    capital_before: float
    """Of the trade."""
    capital_after: float
    delta_before: float | None
    """Of the position, money a point."""
    delta_after: float | None
    glyph: GlyphOut
    """The position after."""
    refused: str


class AdjustmentOut(RuleOut):
    does: ProposalOut | None
    """``None``: nothing fits."""
    asked: bool
    """It is looked at on this snapshot."""
    otherwise: str
    """What it would do where it cannot be done; empty: hold."""


class TradeOutlook(Schema):
    """An open trade: how far every exit and adjustment is."""

    number: int
    entry: str
    legs: str
    currency: str
    leaving: int | None
    """Number of the sentence by which it is being closed already; zero: by something else."""
    exits: list[RuleOut]
    adjustments: list[AdjustmentOut]


def outlooks(
    document: dict[str, Any], plan: Plan, state: EngineState, observation: Observation
) -> list[dict[str, Any]]:
    """Every open trade as a :class:`TradeOutlook`, oldest first."""
    written = sheet(document)
    return [_trade(written, observation, found) for found in outlook(plan, state, observation)]


def _trade(written: Sheet, observation: Observation, found: TradeNow) -> dict[str, Any]:
    trade = found.trade
    there = observation.market.on_clock(trade.symbol)
    terms = there.underlying.on(trade.opened_on)

    def told(rule: Rule, part: str, truth: int, values: Mapping[str, Any]) -> str:
        def as_money(parts: int) -> str:
            return amount_text(money(parts_to_money(parts, terms.quantum, terms.multiplier)), terms.currency)

        text = reason_text(catalogue.sentences(part)[rule.kind], truth, values, as_money)
        # a general condition says its numbers; whose they are stands before them
        left = rule.params.get("left")
        return text if left is None or values.get("which") else f"{value_words(written, left)}: {text}"

    exits = sorted((_exit(written, there, item, told) for item in found.exits), key=lambda row: row["number"] or 1000)
    leaving = None if found.leaves_by is None else written.numbered(found.leaves_by) or 0
    return {
        "number": trade.number, "entry": trade.entry, "legs": _legs_text(trade),
        "currency": terms.currency, "leaving": leaving, "exits": exits,
        "adjustments": [_adjustment(written, there, observation.index, trade, item, told) for item in found.adjustments],
    }  # fmt: skip


def _legs_text(trade: TradeState) -> str:
    return ", ".join(f"{signed(leg.contracts)} {leg.contract.label}" for leg in trade.legs)


def _rule(written: Sheet, rule: str, truth: int, text: str) -> dict[str, Any]:
    sentence = written.sentence(rule)
    return {
        "id": rule, "number": sentence.number if sentence else None, "sentence": sentence.text if sentence else "",
        "truth": TRUTH_WORDS[truth], "text": text,
    }  # fmt: skip


def _exit(written: Sheet, there: Timeline, item: ExitNow, told: Any) -> dict[str, Any]:
    if isinstance(item.wish.by, LegStop):
        point = float(there.underlying.quantum) / PARTS
        price, stop = item.values["price"] * point, item.values["stop"] * point
        text = f"leg at {price:g}, its stop is at {stop:g}" if item.truth != UNVALUED else "its leg has no valid quote"
        return {**_rule(written, item.wish.rule, item.truth, text), "id": f"stop {item.wish.by.leg_id}", "number": None}
    return _rule(written, item.wish.rule, item.truth, told(item.wish.by.rule, "leave", item.truth, item.values))


def _adjustment(
    written: Sheet, there: Timeline, index: int, trade: TradeState, item: AdjustmentNow, told: Any
) -> dict[str, Any]:
    text = told(item.rule, "adjust", item.truth, item.values)
    does = None if item.proposal is None else _proposal(there, index, trade, item.proposal)
    return {
        **_rule(written, item.rule.id, item.truth, text),
        "does": does,
        "asked": item.asked,
        "otherwise": _otherwise(item),
    }


def _otherwise(item: AdjustmentNow) -> str:
    if item.otherwise is None:
        return ""
    return "close the position and enter again" if item.otherwise else "close the position"


def _proposal(there: Timeline, index: int, trade: TradeState, found: Proposal) -> dict[str, Any]:
    quantum = there.underlying.quantum
    held = {(leg.leg_id, leg.contract) for leg in trade.legs}
    before = [Backed(leg.contract, leg.contracts, leg.opened_parts) for leg in trade.legs]
    return {
        "legs": [
            {
                "label": leg.contract.label, "contracts": leg.contracts, "price": None if price is None else round(shown_price(leg.contract, price, quantum), 4),
                "closes": (leg.leg_id, leg.contract) in held,
            }
            for leg, price in zip(found.legs, found.prices, strict=True)
        ],
        "cash": found.cash, "capital_before": round(found.needed[0], 2), "capital_after": round(found.needed[1], 2),
        "delta_before": _delta(there, index, trade, before), "delta_after": _delta(there, index, trade, found.after),
        "glyph": glyph([Holding(leg.contract, leg.contracts, shown_price(leg.contract, leg.parts, quantum)) for leg in found.after], int(there.spot[index]) / 100),
        "refused": found.refused,
    }  # fmt: skip


def _delta(there: Timeline, index: int, trade: TradeState, legs: Sequence[Backed]) -> float | None:
    """Delta of a position, money a point; ``None``: a leg's is not known."""
    total = 0.0
    for leg in legs:
        delta = greeks(there, index, Holding(leg.contract, leg.contracts, 0.0))["delta"]
        if delta is None:
            return None
        total += delta * leg.contracts
    return round(total * there.multiplier(trade.opened_on), 2)

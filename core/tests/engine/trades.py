"""Finished trades as the engine and the second implementation tell them, to be compared."""

from __future__ import annotations

from typing import Any

from strell_core.engine.run import History
from strell_core.market.prices import PARTS
from tests.engine.plain_recording import Fraction
from tests.engine.reference import Reference


def trades_of_engine(history: History) -> list[tuple[Any, ...]]:
    return [
        (
            t.number, t.decided_at, t.opened_at, t.left_at, t.closed_at, t.rule, t.pnl,
            sorted((leg.contract[:3], leg.contracts, Fraction(leg.opened_parts, PARTS), Fraction(leg.closed_parts, PARTS)) for leg in t.legs),
        )
        for t in history.closed
    ]  # fmt: skip


def trades_of_reference(reference: Reference) -> list[tuple[Any, ...]]:
    return [
        (
            t["number"], t["decided"], t["opened"], t["left"], t["closed"], t["rule"], t["cash"],
            sorted((leg["contract"], leg["n"], leg["in"], leg["out"]) for leg in t["gone"]),
        )
        for t in reference.closed
    ]  # fmt: skip

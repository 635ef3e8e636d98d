"""Multiples, sums, differences, products and quotients of values, their size, and the larger or smaller of two."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from strell_core.market.market import Market
from strell_core.measures import values
from strell_core.measures.declaration import Declaration, Param
from strell_core.measures.frames import Frame
from strell_core.measures.measure import Measure, Params, Series, measures


@dataclass(frozen=True)
class Arithmetic(Measure):
    """``combine(params, parts)`` of the values that are its parameters."""

    combine: Callable[[Params, list[Series]], Series]

    def _parts(self, params: Params) -> list[Params]:
        return [params[param.name] for param in self.declaration.params if param.kind == "value"]

    def clock(self, params: Params) -> str:
        return values.finest(values.clock_of(part) for part in self._parts(params))

    def over(self, frame: Frame, params: Params) -> Series | None:
        found = [values.over(part, frame) for part in self._parts(params)]
        there = [part for part in found if part is not None]
        return self.combine(params, there) if len(there) == len(found) else None

    def by_session(self, market: Market, symbol: str, params: Params, units_of: dt.date | None = None) -> Series:
        return self.combine(params, [values.by_session(part, market, symbol, units_of) for part in self._parts(params)])


def _scaled(params: Params, parts: list[Series]) -> Series:
    return float(params["times"]) * parts[0] + float(params["plus"])


def _quotient(params: Params, parts: list[Series]) -> Series:
    with np.errstate(divide="ignore", invalid="ignore"):
        made: Series = parts[0] / parts[1]
    made[~np.isfinite(made)] = np.nan
    return made


PAIR = (Param("first", "value", "First", 0), Param("second", "value", "Second", 0))
for _declaration, _combine in (
    (
        Declaration(
            id="scaled", usual=("above", {"measure": "moving_average"}), begins={"of": {"measure": "price"}, "times": 0.98}, section="measure", title="A multiple, plus something", sentence="{times} × {of}{plus}",
            params=(
                Param("of", "value", "Value", 0), Param("times", "amount", "Times", 1.0, -1000, 1000, 0.0001),
                Param("plus", "amount", "Plus", 0.0, -1e9, 1e9, 0.0001, by_sign=(" plus {n}", "", " minus {n}")),
            ),
            explains="A value times a factor, plus an offset. Unvalued with its value.",
            example="0.5 × the expected move over 30 days in points", words=("times", "factor", "offset", "half"), scope="combined",
        ),
        _scaled,
    ),
    (
        Declaration(
            id="sum", usual=("below", -2), begins={"first": {"measure": "move_since_close"}, "second": {"measure": "last_gap"}}, section="measure", title="A sum", sentence="({first} + {second})", params=PAIR,
            explains="Two values together. Unvalued with either.", example="(P/L of leg 3 in EUR + P/L of leg 4 in EUR)",
            words=("plus", "add"), scope="combined",
        ),
        lambda params, parts: parts[0] + parts[1],
    ),
    (
        Declaration(
            id="difference", usual=("above", 0), begins={"first": {"measure": "iv_now"}, "second": {"measure": "realised_volatility"}}, section="measure", title="A difference", sentence="({first} − {second})", params=PAIR,
            explains="One value less another. Unvalued with either.",
            example="(at-the-money IV over 20 days − at-the-money IV over 60 days)",
            words=("minus", "spread", "gap"), scope="combined",
        ),
        lambda params, parts: parts[0] - parts[1],
    ),
    (
        Declaration(
            id="quotient", usual=("above", 1), begins={"first": {"measure": "iv_now", "days": 10}, "second": {"measure": "iv_now", "days": 45}}, section="measure", title="A quotient", sentence="({first} ÷ {second})", params=PAIR,
            explains="One value divided by another. Unvalued with either, and when the second is zero.",
            example="(the price of leg 3 ÷ the price of leg 4)", words=("ratio", "divided"), scope="combined",
        ),
        _quotient,
    ),
    (
        Declaration(
            id="product", usual=("above", 100), begins={"first": {"measure": "iv_rank"}, "second": {"measure": "put_call_interest"}},
            section="measure", title="A product", sentence="({first} times {second})", params=PAIR,
            explains="Two values multiplied. Unvalued with either.",
            example="(IV rank over 252 sessions times open interest of puts against calls out to 60 days)", words=("multiplied", "times"), scope="combined",
        ),
        lambda params, parts: parts[0] * parts[1],
    ),
    (
        Declaration(
            id="absolute", usual=("above", 2), begins={"of": {"measure": "move_since_close"}}, section="measure", title="The size of a value",
            sentence="(the size of {of})", params=(Param("of", "value", "Of", 0),),
            explains="A value without its sign. Unvalued with it.", example="(the size of the move since the last close)",
            words=("absolute", "either way", "without sign", "abs"), scope="combined",
        ),
        lambda params, parts: np.abs(parts[0]),
    ),
    (
        Declaration(
            id="larger", usual=("above", 20), begins={"first": {"measure": "iv_now"}, "second": {"measure": "realised_volatility"}}, section="measure",
            title="The larger of two values", sentence="(the larger of {first} and {second})", params=PAIR,
            explains="Whichever of two values is higher. Unvalued with either.",
            example="(the larger of at-the-money IV over 30 days and realised volatility over 20 sessions)", words=("maximum", "max", "at least"), scope="combined",
        ),
        lambda params, parts: np.maximum(parts[0], parts[1]),
    ),
    (
        Declaration(
            id="smaller", usual=("below", 15), begins={"first": {"measure": "iv_now"}, "second": {"measure": "realised_volatility"}}, section="measure",
            title="The smaller of two values", sentence="(the smaller of {first} and {second})", params=PAIR,
            explains="Whichever of two values is lower. Unvalued with either.",
            example="(the smaller of at-the-money IV over 30 days and realised volatility over 20 sessions)", words=("minimum", "min", "at most"), scope="combined",
        ),
        lambda params, parts: np.minimum(parts[0], parts[1]),
    ),
):  # fmt: skip
    measures.register(Arithmetic(_declaration, _combine))

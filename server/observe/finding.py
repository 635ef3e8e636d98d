"""Contracts found by what people call them: 3150 call, MK30 3050p Dec, 18 Dec 3100 put."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

from market.models import Underlying
from market.timelines import timeline
from strell_core.market.instruments import ContractKey, strike_of, thousandths

MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
MOST = 8
_STRIKE = re.compile(r"^(\d{1,6}(?:\.\d{1,3})?)(c|p|call|put)?$")


@dataclass
class Wanted:
    """What a text says of a contract."""

    strike: float | None = None
    right: str | None = None
    day: int | None = None
    month: int | None = None
    year: int | None = None
    symbol: str | None = None


def wanted(text: str, symbols: list[str]) -> Wanted | None:
    """``None`` where it names no strike, or says something that no contract has."""
    out, words = Wanted(), text.lower().replace(",", " ").split()
    for place, word in enumerate(words):
        following = words[place + 1][:3] if place + 1 < len(words) else ""
        number = _STRIKE.match(word)
        if word.upper() in symbols:
            out.symbol = word.upper()
        elif word in ("c", "call", "calls", "p", "put", "puts"):
            out.right = "call" if word[0] == "c" else "put"
        elif word[:3] in MONTHS and word.isalpha():
            out.month = MONTHS.index(word[:3]) + 1
        elif number and not number[2] and following in MONTHS and word.isdigit() and int(word) <= 31:
            out.day = int(word)
        elif number and not number[2] and out.month and re.fullmatch(r"20\d\d", word):
            out.year = int(word)
        elif number and out.strike is None:
            out.strike = float(number[1])
            out.right = {"c": "call", "p": "put"}[number[2][0]] if number[2] else out.right
        else:
            return None
    return out if out.strike is not None else None


def contracts(text: str) -> list[dict[str, Any]]:
    """Listed contracts that a text may mean, at the last recorded snapshot, the nearest expirations first."""
    rows = list(Underlying.objects.exclude(data_digest="").order_by("symbol"))
    asked = wanted(text[:80], [row.symbol for row in rows])
    if asked is None or asked.strike is None:
        return []
    found: list[dict[str, Any]] = []
    for row in rows:
        if asked.symbol not in (None, row.symbol):
            continue
        history = timeline(row.symbol)
        view = history.view(len(history.times) - 1)
        for date in view.expirations:
            own = (asked.day, date.day), (asked.month, date.month), (asked.year, date.year)
            if any(given not in (None, there) for given, there in own):
                continue
            for right in ("call", "put"):
                strikes = view.slice(date, right).strikes
                if asked.right in (None, right) and asked.strike in strikes:
                    contract = ContractKey(date, right, strike_of(thousandths(asked.strike)), row.symbol)
                    quote = view.quote(contract)
                    found.append({
                        "symbol": row.symbol, "contract": contract.code, "label": contract.label, "expiration": date,
                        "bid": round(quote.bid * float(row.quantum), 4) if quote.valid else None,
                        "ask": round(quote.ask * float(row.quantum), 4) if quote.valid else None,
                    })  # fmt: skip
    return sorted(found, key=lambda item: item["expiration"])[:MOST]

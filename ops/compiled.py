"""Compiles what rules ask of arrays before anybody waits for it: a strategy is walked over a few made sessions."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path

from strell_core.engine.plan import make_plan
from strell_core.engine.variants import Variants
from strell_core.formats.cubes import in_memory
from strell_core.formats.strategies import from_text
from strell_core.market.calendars import marrowick
from strell_core.market.chains import decode
from strell_core.market.market import market_of
from strell_core.scenario.generator import MK30, Settings
from strell_core.scenario.sessions import generate
from strell_core.strategy.document import parse

SESSIONS = 5
STRANGLE = Path(__file__).resolve().parents[1] / "docs" / "strategies" / "harbour-strangle.yaml"

if __name__ == "__main__":
    made = [decode(one.payload) for one in generate(Settings(sessions=SESSIONS, intraday=SESSIONS), SESSIONS, 1)]
    market = market_of(in_memory(made, MK30, marrowick(), "made"))
    plan = make_plan(parse(from_text(STRANGLE.read_text())), market)
    Variants(market, 0, len(market.main.times)).run(plan, Decimal(50_000))

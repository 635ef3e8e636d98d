"""Entries that trade other underlyings than the one whose snapshots are the clock: quotes, fills, marks, capital, delivery and
results are those of what is traded."""

from __future__ import annotations

import dataclasses
import unittest
from decimal import Decimal
from typing import Any

from strell_core.engine.plain import to_plain
from strell_core.engine.plan import Mixed, make_plan
from strell_core.engine.run import History, run_blocks, run_steps
from strell_core.engine.stored import dump, load
from strell_core.formats import cubes
from strell_core.market.calendars import marrowick
from strell_core.market.chains import SessionChain
from strell_core.market.market import Market
from strell_core.market.timeline import Timeline
from strell_core.results.causes import causes
from strell_core.results.delayed import in_the_way
from strell_core.results.equity import equity_curve
from strell_core.results.report import report
from strell_core.scenario.generator import MK30, Scenario, Settings
from strell_core.scenario.single import NAMES
from strell_core.strategy.document import normalise, parse
from tests.engine.byhand import CASH, ByHandCase, entry, leg, snapshots, strategy
from tests.engine.unit_loops import covered_call, hedged, wheel
from tests.handmade import session_chains, timeline_of
from tests.payers import PAYERS, Near, payer

OTHER = dataclasses.replace(MK30, symbol="OTHR", quantum=Decimal("0.01"), multiplier=100)
"""Its quotes are in other steps and of other units than the clock's."""
PUT = "2026-10-16/put/3050"


class ByHandTest(ByHandCase):
    def market(self, main: dict[str, dict[str, str]], other: dict[str, dict[str, str]], every: int = 2) -> Market:
        """The clock's snapshots every five minutes, the other's every ``every``th of them."""
        there = session_chains(snapshots(other))
        thin = [
            dataclasses.replace(
                chain, times=chain.times[::every], spot=chain.spot[::every], bid=chain.bid[:, ::every],
                ask=chain.ask[:, ::every], iv=chain.iv[:, ::every], forward=chain.forward[:, ::every],
            )
            for chain in there
        ]  # fmt: skip
        second = cubes.in_memory(thin, OTHER, marrowick(), "other")
        return Market(timeline_of(session_chains(snapshots(main))), {"OTHR": second})

    def short_put(self, key: str, **more: Any) -> dict[str, Any]:
        return entry(key, [leg(f"{key}-p", "put", 3050, first=True)], **more)

    def test_it_is_filled_on_quotes_recorded_after_the_decision(self) -> None:
        market = self.market(
            {"2026-10-05 15:40": {PUT: "6.00/6.20"}},
            # 6.00 is 120 steps of 0.05, here of 0.01: 1.20
            {"2026-10-05 15:40": {PUT: "6.00/6.20"}, "2026-10-05 15:50": {PUT: "5.00/5.20"}, "2026-10-06 15:40": {PUT: "2.00/2.10"}},
        )  # fmt: skip
        sheet = strategy(
            self.short_put("o", underlying="OTHR"), underlyings=("MK30", "OTHR"),
            leave=[{"id": "t", "rule": "credit_target", "percent": 50}],
        )  # fmt: skip
        history = self.run_all(sheet, market)
        self.assertEqual(
            self.told(history, "entry", "filled", "left"),
            [
                # decided at 15:45 on what was recorded at 15:40; dealt at 15:50, when there is something newer
                ("05 15:45", "entry", "o-when"), ("05 15:50", "filled", "o-when"),
                ("06 15:40", "left", "t"), ("06 15:50", "filled", "t"),
                ("07 15:45", "entry", "o-when"), ("07 15:50", "filled", "o-when"),
            ],
        )  # fmt: skip
        (trade,) = history.closed
        # no snapshot of it lies between a decision and its fill, whatever the clock recorded meanwhile
        seen, contracts = market.on_clock("OTHR"), [trade.legs[0].contract]
        self.assertEqual(in_the_way(seen, contracts, trade.left_at, trade.closed_at), (0, {}))
        self.assertEqual(in_the_way(seen, contracts, trade.decided_at, trade.opened_at), (0, {}))
        self.assertEqual(in_the_way(seen, contracts, trade.opened_at, trade.left_at), (0, {}))
        # at mid: sold at (5.00 + 5.20) / 2 × 20 = 102 steps of 0.01, bought back at 41: 0.61 × 100 units × 2, 4 contracts' costs
        fills = [(leg.contract.underlying, leg.opened_parts, leg.closed_parts) for leg in trade.legs]
        self.assertEqual(trade.symbol, "OTHR")
        share = Decimal("0.61") * 100 * 2
        spread = self._spread(sheet)
        self.assertEqual(trade.pnl, share - spread - trade.costs, fills)

    def _spread(self, sheet: dict[str, Any]) -> Decimal:
        """What the sheet's share of the spread costs at both ends: spreads of 4 and of 2 steps."""
        share = Decimal(parse(sheet).orders["fill_model"]["share"]) / 100
        return share * (Decimal("0.02") + Decimal("0.01")) * 100 * 2

    def test_two_entries_add_up(self) -> None:
        quotes = {"2026-10-05 15:40": {PUT: "6.00/6.20"}, "2026-10-06 15:50": {PUT: "3.00/3.20"}}
        market = self.market(quotes, quotes, every=1)
        leave = [{"id": "t", "rule": "credit_target", "percent": 30}]
        first, second = (
            {**made, "when": [{**made["when"][0], "weekdays": ["mon"]}]}
            for made in (self.short_put("m", limit=2), self.short_put("o", limit=2, underlying="OTHR"))
        )
        both = self.run_all(strategy(first, second, underlyings=("MK30", "OTHR"), leave=leave), market)
        alone = [
            self.run_all(strategy(one, underlyings=("MK30", "OTHR"), leave=leave), market) for one in (first, second)
        ]
        self.assertEqual(
            {trade.symbol: trade.pnl for trade in both.closed},
            {one.closed[0].symbol: one.closed[0].pnl for one in alone},
        )
        # premiums in steps of 0.05 times 50 against 0.01 times 100
        self.assertEqual(both.state.cash - CASH, sum((one.state.cash - CASH for one in alone), Decimal(0)))
        n = len(market.main.times)
        plan = make_plan(parse(strategy(first, second, underlyings=("MK30", "OTHR"), leave=leave)), market)
        made = report(plan, market, both, 0, n, CASH, seed=1)
        self.assertEqual(round(float(made.curve.equity[-1]), 2), float(both.state.cash))
        self.assertEqual(made.figures["trades_count"], 2)
        for trade in both.closed:
            found = causes(market.on_clock(trade.symbol), trade)
            self.assertAlmostEqual(sum(found.total.values()), float(trade.pnl), places=6)

    def test_one_currency(self) -> None:
        quotes = {"2026-10-05 15:40": {PUT: "6.00/6.20"}}
        market = self.market(quotes, quotes)
        there = market.others["OTHR"]
        there.underlying = dataclasses.replace(OTHER, currency="USD")
        document = parse(strategy(self.short_put("o", underlying="OTHR"), underlyings=("MK30", "OTHR")))
        with self.assertRaisesRegex(Mixed, "MK30 in EUR, OTHR in USD"):
            make_plan(document, market)
        read_only = parse(strategy(self.short_put("m"), underlyings=("MK30", "OTHR")))
        self.assertEqual(list(make_plan(read_only, market).underlyings), ["MK30"], "what is only read may be in any")


def on_the_index(document: dict[str, Any]) -> dict[str, Any]:
    """A sheet of one underlying, with the index as its clock."""
    (symbol,) = document["underlyings"]
    entries = [{**item, "underlying": symbol} for item in document["entries"]]
    return normalise({**document, "underlyings": ["MK30", symbol], "entries": entries})


def said(history: History) -> Any:
    return [to_plain(getattr(history, name)) for name in ("reasons", "entries", "closed", "intents", "needs")]


class OnAnothersClockTest(unittest.TestCase):
    """What is decided on the snapshots of a clock that ticks with it comes to the same trades, byte for byte."""

    tags = frozenset({"long"})

    def clock(self, there: Timeline, chains: list[SessionChain]) -> Timeline:
        """A history of the index with a snapshot where the other has one, and nothing but its price."""
        return timeline_of([
            dataclasses.replace(
                chain, symbol="MK30", contracts=(), expirations=(), bid=chain.bid[:0], ask=chain.ask[:0], iv=chain.iv[:0],
                forward=chain.forward[:0], open_interest=chain.open_interest[:0], spot=chain.spot * 60, settlement=chain.settlement * 60,
            )
            for chain in chains
        ])  # fmt: skip

    def same(self, documents: list[dict[str, Any]], there: Timeline, clock: Timeline) -> list[History]:
        out = []
        for document in documents:
            market = Market(clock, {there.underlying.symbol: there})
            alone, other = make_plan(parse(document), there), make_plan(parse(on_the_index(document)), market)
            end = len(there.times)
            wanted = run_blocks(alone, there, 0, end, CASH)
            for run in (run_steps, run_blocks):
                found = run(other, market, 0, end, CASH)
                self.assertEqual(said(found), said(wanted), (document["name"], run.__name__))
            cut = run_blocks(other, market, 0, end // 3, CASH).state
            later = run_blocks(other, market, end // 3, end, CASH, state=load(dump(cut), "MK30"))
            self.assertEqual(later.state, wanted.state)
            curves = [equity_curve(place, wanted, 0, end, CASH) for place in (there, market)]
            self.assertEqual(curves[0].equity.tolist(), curves[1].equity.tolist())
            for trade in wanted.closed[:6]:
                both = [causes(place, trade).total for place in (there, market.on_clock(trade.symbol))]
                self.assertEqual(both[0], both[1])
            out.append(wanted)
        return out

    def test_units_dividends_and_early_assignment_over_two_years(self) -> None:
        name = PAYERS[0]
        there, chains = payer(name).timeline, payer(name).chains
        sheets = [sheet(name.symbol) for sheet in (covered_call, wheel, hedged)]
        histories = self.same(sheets, there, self.clock(there, chains))
        kinds = {entry.kind for history in histories for entry in history.entries}
        self.assertLessEqual({"premium", "delivery", "dividend", "commission"}, kinds)

    def test_sessions_of_half_hours_and_a_split(self) -> None:
        index = Scenario(Settings(sessions=330, intraday=20))
        name = next(name for name in NAMES if name.split)
        scenario = Near(name, index, 320, 16)
        assert name.split is not None
        split = scenario.dates.index(name.split.date)
        vertical = {
            "name": "vertical", "underlyings": [name.symbol],
            "entries": [{
                "when": [{"rule": "decision_times", "weekdays": ["mon", "wed"], "time": "10:30"}],
                "conditions": [{"rule": "open_limit", "limit": 2}, {"rule": "condition", "left": {"measure": "rsi", "sessions": 5}, "is": "above", "right": 20}],
                "legs": [
                    {"rule": "leg", "id": "s", "side": "sell", "right": "put", "strike": {"pick": "nearest_delta", "delta": 0.3}, "expiry": {"pick": "nearest_days", "days": 14, "from": 4, "to": 40}},
                    {"rule": "leg", "side": "buy", "right": "put", "strike": {"pick": "strikes_from_leg", "leg": "s", "strikes": 1}, "expiry": {"pick": "same_expiration"}},
                ],
                "size": [{"rule": "capital_share", "percent": 10}],
            }],
            "leave": [
                {"rule": "credit_target", "percent": 50}, {"rule": "premium_stop", "percent": 100}, {"rule": "before_expiration", "days": 1, "time": "15:30"},
                {"rule": "condition", "left": {"measure": "net_greek", "greek": "delta"}, "is": "above", "right": 900},
                {"rule": "condition", "left": {"measure": "position_capital"}, "is": "above", "right": 40_000},
            ],
        }  # fmt: skip
        parted = dataclasses.replace(name.underlying, splits=((name.split.date, name.split.ratio),))
        for underlying, numbers in ((parted, range(split - 12, split + 12)), (name.underlying, range(304, 320))):
            chains = [scenario.chain(number) for number in numbers]
            there = timeline_of(chains, underlying=underlying)
            (history,) = self.same([normalise(vertical)], there, self.clock(there, chains))
            self.assertGreaterEqual(len(history.closed), 2)
            over = any(leg.how == "split" for trade in history.closed for leg in trade.legs)
            self.assertEqual(over, underlying is parted)

"""A straddle of a stock hedged unit by unit: what its page, its files and a replay say of the units."""

from __future__ import annotations

import csv
import io
from decimal import Decimal
from typing import Any

from config.errors import Refused
from config.tests.demo import DemoTestCase
from demo.load import load_singles
from market.timelines import timeline
from replay import services as replay
from runs import services as runs
from runs import work as run_work
from runs.models import Run
from strategies import services as strategies
from strell_core.market.instruments import ContractKey
from strell_core.scenario.generator import Settings

UNITS = "OSTL/unit/100"
EVERY = ["mon", "tue", "wed", "thu", "fri"]


def rules(*, covered: bool = False) -> dict[str, Any]:
    at_the_money = {"pick": "percent_from_spot", "percent": 0.0}
    expiry = {"pick": "nearest_days", "days": 30, "from": 10, "to": 60}
    legs = [
        {"rule": "leg", "id": right, "side": "buy", "right": right, "strike": at_the_money, "expiry": expiry}
        for right in ("call", "put")
    ]
    if covered:
        legs = [{"rule": "units", "id": "shares", "side": "buy"}, {**legs[0], "side": "sell"}]
    return {
        "strell": 3, "name": "Hedged", "underlyings": ["OSTL"],
        "entries": [{
            "id": "e", "when": [{"rule": "decision_times", "weekdays": EVERY, "time": "15:45"}], "legs": legs,
            "conditions": [{"rule": "open_limit", "limit": 1}], "size": [{"rule": "fixed_lots", "lots": 1}],
            "adjust": [] if covered else [{"rule": "hedge", "band": 2.0, "to": 0.0}],
        }],
        "leave": [{"rule": "days_held", "days": 7, "time": "15:45"}],
        "orders": [{"rule": "unit_commission", "per_unit": 0.01, "per_order": 0.25}],
    }  # fmt: skip


class SingleUnitsTest(DemoTestCase):
    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        load_singles(Settings(sessions=90, intraday=25), 12, lambda what, done, total: None, processes=1)

    def ran(self, document: dict[str, Any]) -> tuple[Run, dict[str, Any], dict[str, Any]]:
        """A run, the row of its first trade and what its page says."""
        dates = timeline("OSTL").dates
        made = strategies.create(self.mara, strategies.checked(document))
        run = runs.ask(self.mara, made.pk, dates[0], dates[-1], Decimal(50_000), "blocks")
        run_work.carry_out(run.pk)
        run.refresh_from_db()
        self.assertEqual(run.status, Run.Status.DONE, run.message)
        found = self.send("get", f"/runs/{run.pk}")[1]
        return run, found["trades"][0], self.send("get", f"/runs/{run.pk}/trades/1")[1]

    def test_prices_of_units_are_those_of_the_stock_everywhere(self) -> None:
        run, row, page = self.ran(rules())
        held = [leg for leg in page["legs"] if leg["contract"] == UNITS]
        self.assertGreater(len(held), 1)
        spots = page["path"]["spot"]
        for leg in held:
            self.assertAlmostEqual(leg["pnl"], leg["contracts"] * (leg["closed"] - leg["opened"]), places=2)
            for price in (leg["opened"], leg["closed"]):
                self.assertTrue(min(spots) - 0.011 <= price <= max(spots) + 0.011, price)
        self.assertEqual([leg["opened"] for leg in row["legs"]], [leg["opened"] for leg in page["legs"]])
        for place, leg in enumerate(page["legs"]):
            if leg["contract"] == UNITS:
                marks = [mark for mark in page["path"]["legs"][place] if mark is not None]
                # at the last it is what it was closed for, half a spread away
                self.assertTrue(marks and all(min(abs(mark - s) for s in spots) < 0.0101 for mark in marks), marks)
        dealt = [item for event in page["events"] for item in event["dealt"] if item["contract"] == "OSTL units"]
        self.assertTrue(all(abs(min(abs(item["price"] - s) for s in spots) - 0.01) < 1e-6 for item in dealt))
        # units and their money: what was paid for each deal, and 0.01 a unit with 0.25 an order
        hedges = [event for event in page["events"] if event["title"] == "Adjusted"]
        for event in hedges:
            (deal,) = event["dealt"]
            paid = -deal["contracts"] * deal["price"] - 0.01 * abs(deal["contracts"]) - 0.25
            self.assertAlmostEqual(event["amount"], paid, places=2)
            self.assertTrue(event["text"].startswith("realised so far "))
        text = self.client.get(f"/api/runs/{run.pk}/history.csv").content.decode()
        self.assertTrue(any("OSTL units" in str(line) for line in csv.DictReader(io.StringIO(text))))

    def test_the_delta_of_a_lot_counts_a_contract_of_units_as_one(self) -> None:
        _, row, page = self.ran(rules(covered=True))
        call = next(leg for leg in page["legs"] if leg["contract"] != "OSTL/unit")
        self.assertAlmostEqual(row["delta"], 1 - call["entry"]["delta"], places=3)
        self.assertTrue(0.3 < row["delta"] < 0.7)

    def test_a_replay_closes_them_and_deals_in_no_other_part_of_a_contract(self) -> None:
        run, _row, _page = self.ran(rules())
        session = replay.from_trade(self.mara, run.pk, 1)
        for code in ("OSTL/unit/7", "OSTL/unit/50"):
            with self.subTest(code), self.assertRaisesRegex(Refused, f"{code} is not dealt in; write OSTL/unit for"):
                replay.trade(self.mara, session.pk, [(code, 1)])
        replay.trade(self.mara, session.pk, [(UNITS, -37)])
        fill = session.fills.get(contract=UNITS)
        spot = timeline("OSTL").view(timeline("OSTL").at_or_before(session.cursor)).spot / 100
        self.assertEqual((fill.contracts, fill.commission), (-37, Decimal("0.37")))
        _, seen = self.send("get", f"/replays/{session.pk}")
        units = next(leg for leg in seen["legs"] if leg["contract"] == UNITS)
        self.assertAlmostEqual(units["opened"], spot - 0.01, places=4)
        self.assertAlmostEqual(units["closable"], spot + 0.01, places=4)
        self.assertAlmostEqual(units["pnl"], -37 * 0.02, places=2)
        replay.close_all(self.mara, session.pk)
        self.assertEqual(sum(f.contracts for f in session.fills.filter(contract=UNITS)), 0)
        self.assertEqual(ContractKey.parse(UNITS).label, "OSTL units")

    def test_a_run_s_sheet_says_when_its_times_act(self) -> None:
        run, _, _ = self.ran(rules())
        sheet = self.send("get", f"/runs/{run.pk}")[1]["sheet"]
        acts = [sentence["acts"] for sentence in sheet if sentence["acts"]]
        self.assertTrue(acts and all("acts at 17:30" in text or "Acts at 17:30" in text for text in acts), acts)

"""A market at an instant through the API: curves, chain, what if."""

from __future__ import annotations

import datetime as dt
import json
from typing import Any

from config.tests.demo import DemoTestCase
from market.models import MarketEvent, Underlying


class ObserveTest(DemoTestCase):
    def surface(self, at: str | None = None) -> dict[str, Any]:
        return self.client.get("/api/market/MK30/surface" + (f"?at={at}" if at else "")).json()

    def what_if(self, legs: list[dict[str, Any]], expect: int = 200, **pulled: Any) -> dict[str, Any]:
        answer = self.client.post(
            "/api/market/MK30/what-if", json.dumps({"legs": legs, **pulled}), content_type="application/json"
        )
        self.assertEqual(answer.status_code, expect, answer.content)
        return answer.json()

    def contract(self, which: int, right: str, away: int) -> str:
        view = self.history().view(len(self.history().times) - 1)
        strike = round(view.spot / 1000) * 10 + away
        return f"{view.expirations[which].isoformat()}/{right}/{strike}"

    def test_curves_of_every_expiration(self) -> None:
        found = self.surface()
        fitted = [row["curve"] for row in found["expirations"] if row["curve"]]
        self.assertGreater(len(fitted), 15)
        self.assertTrue(all(curve["free_of_arbitrage"] for curve in fitted))
        self.assertGreaterEqual(
            sum(curve["inside"] for curve in fitted), 0.98 * sum(curve["quotes"] for curve in fitted)
        )
        self.assertEqual([term["days"] for term in found["terms"]], [7, 14, 30, 60, 90, 180])
        self.assertFalse(found["has_live"])

    def test_steps_lead_to_neighbouring_snapshots_and_sessions(self) -> None:
        last = self.surface()
        self.assertIsNone(last["neighbours"]["step"])
        self.assertIsNone(last["neighbours"]["session"])
        before = self.surface(last["neighbours"]["step_back"])
        self.assertEqual(last["at"] - before["at"], 300)
        self.assertEqual(before["neighbours"]["step"], last["local"])
        earlier = self.surface(last["neighbours"]["session_back"])
        self.assertLess(earlier["local"][:10], last["local"][:10])
        self.assertEqual(earlier["neighbours"]["session"], last["local"])

    def test_a_chain_with_values_and_chances(self) -> None:
        rows = self.client.get("/api/market/MK30/chain?each_side=6").json()["rows"]
        self.assertEqual(len(rows), 12)
        chances = [row["call"]["ends_in"] for row in rows]
        self.assertEqual(chances, sorted(chances, reverse=True))
        for row in rows:
            self.assertAlmostEqual(row["call"]["ends_in"] + row["put"]["ends_in"], 1.0, places=3)
            self.assertGreaterEqual(
                row["call"]["touches"] + 1e-9, row["call"]["ends_in"] if row["strike"] > 3200 else 0
            )
            self.assertLessEqual(row["put"]["bid"] - 0.2, row["put"]["value"])
            self.assertGreaterEqual(row["put"]["ask"] + 0.2, row["put"]["value"])

    def test_a_spread_opened_at_its_mids_stands_at_nothing(self) -> None:
        legs = [{"contract": self.contract(4, "put", away), "contracts": n} for away, n in ((-40, -1), (-80, 1))]
        found = self.what_if(legs)
        self.assertAlmostEqual(found["then_here"], 0.0, delta=2.0)
        self.assertAlmostEqual(found["max_profit"] - found["max_loss"], 40 * 50, places=1)
        self.assertEqual(found["chance_from"], "smile")
        self.assertGreater(found["chance_of_profit"], 0.5)
        self.assertAlmostEqual(found["capital"], -found["max_loss"], delta=1.0)

    def test_pulling_price_date_and_volatility(self) -> None:
        legs = [{"contract": self.contract(n, "put", 0), "contracts": c} for n, c in ((2, -1), (9, 1))]
        base = self.what_if(legs)
        far = legs[1]["contract"][:10]
        wilder = self.what_if(legs, by_expiration={far: 5})
        self.assertGreater(wilder["then_here"], base["then_here"] + 100)
        self.assertEqual(wilder["now"], base["now"], "what is now stays")
        later = self.what_if(legs, when=base["nearest"])
        self.assertEqual(later["then"], later["at_expiration"])
        moved = self.what_if(legs, price=base["spot"] - 100)
        self.assertAlmostEqual(moved["price"], base["spot"] - 100, places=2)
        self.assertLess(moved["then_here"], base["then_here"])
        greek = self.what_if(legs, greek="vanna")["greek"]
        self.assertEqual((greek["name"], len(greek["values"])), ("vanna", len(base["grid"])))
        surface = base["surface"]
        self.assertEqual(len(surface["profit"]), len(surface["dates"]))
        self.assertEqual({len(row) for row in surface["profit"]}, {len(surface["prices"])})
        self.assertEqual(surface["dates"][-1], base["last"])

    def test_what_is_known_to_come(self) -> None:
        row, today = Underlying.objects.get(symbol="MK30"), dt.date.fromisoformat(self.surface()["local"][:10])
        for days in (-3, 5, 100):
            MarketEvent.objects.create(underlying=row, date=today + dt.timedelta(days=days), event=f"Report {days}")
        row.dividends.create(date=today + dt.timedelta(days=2), amount="1.25")
        self.assertEqual([one["what"] for one in self.surface()["ahead"]], ["dividend 1.25", "Report 5"])

    def test_with_the_underlying(self) -> None:
        call = {"contract": self.contract(4, "call", 50), "contracts": -1}
        covered = self.what_if([call, {"contracts": 1}])
        alone = self.what_if([call])
        self.assertIsNone(alone["max_loss"])
        self.assertIsNotNone(covered["max_loss"])
        self.assertAlmostEqual(covered["capital"], covered["spot"] * 50 - covered["premium"], delta=1.0)
        short = self.what_if([call, {"contracts": -1}])
        self.assertIsNone(short["capital"])

    def test_what_cannot_be_valued_says_what_to_do(self) -> None:
        self.assertIn("Add one", self.what_if([], 422)["message"])
        self.assertIn("not a contract", self.what_if([{"contract": "x", "contracts": 1}], 422)["message"])
        gone = {"contract": "2020-01-17/put/3000", "contracts": 1}
        self.assertIn("not listed", self.what_if([gone], 422)["message"])
        far = {"contract": self.contract(4, "put", 0), "contracts": 1}
        self.assertIn("24", json.dumps(self.what_if([far] * 25, 422)))
        self.assertEqual(self.client.get("/api/market/NOPE/surface").status_code, 404)
        self.assertEqual(self.client.get("/api/market/MK30/surface?at=1999-01-01T10:00").status_code, 422)
        self.assertEqual(self.client.get("/api/market/MK30/surface?at=now").status_code, 409, "no exchange runs")


class MovingTest(ObserveTest):
    def test_volatilities_move_with_the_price_or_stay_at_their_strikes(self) -> None:
        legs = [{"contract": self.contract(4, "put", -40), "contracts": -1}]
        price = self.history().view(len(self.history().times) - 1).spot / 100 * 0.98
        still = self.what_if(legs, price=price)
        moving = self.what_if(legs, price=price, moving=True)
        self.assertEqual(still["now"], moving["now"], "the position as it stands is as it is")
        self.assertNotEqual(still["then_here"], moving["then_here"])
        self.assertEqual(self.what_if(legs)["then_here"], self.what_if(legs, moving=True)["then_here"])

    def test_capital_rests_on_the_prices_the_legs_were_opened_at(self) -> None:
        """Common practice: a short spread needs its width less the credit, which is all it can lose."""
        legs = [
            {"contract": self.contract(4, "put", -40), "contracts": -2, "opened": 20.0},
            {"contract": self.contract(4, "put", -60), "contracts": 2, "opened": 15.0},
        ]
        found = self.what_if(legs)
        self.assertEqual((found["capital"], found["max_loss"]), (1500.0, -1500.0))

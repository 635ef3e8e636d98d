"""A sheet whose entries trade two underlyings: what is shown, stored and written out is of the one that was traded."""

import csv
import io
from dataclasses import replace
from typing import Any
from unittest.mock import patch

from config.tests.demo import DemoTestCase, document
from facts import copies
from market.models import Underlying
from market.own import market_for
from market.refresh import refresh
from strategies import services as strategies
from strell_core.strategy.edits import with_entry_like

TWIN = "MINE"
"""A copy of the index under a name of one's own: the same rules on it come to the same."""


def both() -> dict[str, Any]:
    """An entry on the index, and the same one on its copy."""
    raw = document()
    raw["entries"][0]["id"] = "index"
    raw["underlyings"] = ["MK30", TWIN]
    made = with_entry_like(raw, "index")
    made["entries"][1] |= {"id": "copy", "underlying": TWIN}
    for entry in made["entries"]:
        entry["conditions"] = [
            {"rule": "condition", "left": {"measure": "open_trades", "of": "underlying"}, "is": "below", "right": 1},
            *[rule for rule in entry["conditions"] if rule["rule"] != "open_limit"],
        ]
    made["limits"] = [{"rule": "capital", "entries": "allow"}]
    return strategies.checked(made)


class TwoUnderlyingsTest(DemoTestCase):
    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        refresh(copies.copy(cls.mara, "MK30", TWIN))
        cls.two = strategies.create(cls.mara, both())

    def test_the_same_rules_on_a_copy_come_to_the_same(self) -> None:
        run = self.finished_run(self.two)
        _, found = self.send("get", f"/runs/{run.pk}")
        rows: dict[str, list[Any]] = {"MK30": [], TWIN: []}
        for row in found["trades"]:
            rows[row["symbol"]].append(
                {key: row[key] for key in ("opened", "closed", "credit", "pnl", "legs", "lots", "delta")}
            )
        self.assertGreater(len(rows["MK30"]), 3)
        self.assertEqual(rows["MK30"], rows[TWIN])
        entered = [item["text"] for item in found["decisions"] if item["kind"] == "entry"]
        self.assertTrue(any(text.startswith("entered MK30 ") for text in entered))
        self.assertTrue(any(text.startswith(f"entered {TWIN} ") for text in entered))
        number = next(row["number"] for row in found["trades"] if row["symbol"] == TWIN)
        twin = next(row["number"] for row in found["trades"] if row["symbol"] == "MK30")
        pages = [self.send("get", f"/runs/{run.pk}/trades/{n}")[1] for n in (number, twin)]
        for name in ("path", "causes", "payoff"):
            self.assertEqual(pages[0][name], pages[1][name], name)
        others = [self.send("get", f"/runs/{run.pk}/trades/{n}/other-exits")[1] for n in (number, twin)]
        self.assertTrue(others[0]["same"] and others[1]["same"])
        self.assertEqual([row["pnl"] for row in others[0]["exits"]], [row["pnl"] for row in others[1]["exits"]])
        written = self.client.get(f"/api/runs/{run.pk}/trades.csv").content.decode()
        self.assertEqual({row["underlying"] for row in csv.DictReader(io.StringIO(written))}, {"MK30", TWIN})
        daily = self.client.get(f"/api/runs/{run.pk}/greeks.csv").content.decode()
        held = [row["contract"].split("/")[0] for row in csv.DictReader(io.StringIO(daily))]
        self.assertEqual(held.count("MK30"), held.count(TWIN))
        _, slices = self.send("get", f"/runs/{run.pk}/slices")
        cells = next(column["cells"] for column in slices["columns"] if column["id"] == "underlying")
        self.assertEqual(
            {cell["key"]: cell["count"] for cell in cells}, {symbol: len(found) for symbol, found in rows.items()}
        )

    def test_a_preview_is_of_the_underlying_the_entry_trades(self) -> None:
        path = f"/strategies/{self.two.pk}/preview"
        seen = {name: self.send("get", f"{path}?entry={name}")[1] for name in ("index", "copy")}
        self.assertEqual({name: found["symbol"] for name, found in seen.items()}, {"index": "MK30", "copy": TWIN})
        picked = [[leg["contract"].split("/", 1)[1] for leg in found["structure"]["legs"]] for found in seen.values()]
        self.assertEqual(picked[0], picked[1])

    def test_in_a_replay_rules_trade_both(self) -> None:
        at = self.history().dates[-12]
        _, session = self.send("post", "/replays", {"strategy": self.two.pk, "at": f"{at}T09:30", "cash": "500000"})
        path = f"/replays/{session['id']}"
        self.send("put", f"{path}/acts", {"acts": "live"})
        self.send("post", f"{path}/move", {"to": f"{self.history().dates[-6]}T12:00"})
        _, scene = self.send("get", path)
        held = [(leg["contract"].split("/", 1), leg["contracts"], leg["pnl"]) for leg in scene["legs"]]
        by_symbol = {
            symbol: sorted((name[1], count, pnl) for name, count, pnl in held if name[0] == symbol)
            for symbol in ("MK30", TWIN)
        }
        self.assertTrue(by_symbol["MK30"])
        self.assertEqual(by_symbol["MK30"], by_symbol[TWIN])
        self.assertTrue(all(leg["label"].startswith(TWIN) for leg in scene["legs"] if leg["contract"].startswith(TWIN)))
        self.assertIsNotNone(scene["account"]["equity"])
        # chain, payoff and price are those of the underlying that is looked at
        both = {symbol: self.send("get", f"{path}?symbol={symbol}")[1] for symbol in ("MK30", TWIN, "XYZ")}
        self.assertEqual(
            {symbol: found["symbol"] for symbol, found in both.items()}, {"MK30": "MK30", TWIN: TWIN, "XYZ": "MK30"}
        )
        self.assertEqual(both["MK30"]["payoff"], both[TWIN]["payoff"])
        self.assertEqual(both["MK30"]["symbols"], ["MK30", TWIN])
        self.assertTrue(all(row["call"]["contract"].startswith(TWIN) for row in both[TWIN]["chain"]["rows"]))
        # by hand: what is dealt in joins a trade of its own underlying
        quoted = next(row["call"] for row in scene["chain"]["rows"] if row["call"]["ask"])
        status, _ = self.send(
            "post",
            f"{path}/orders",
            {"orders": [{"contract": quoted["contract"].replace("MK30", TWIN), "contracts": 1}]},
        )
        self.assertEqual(status, 200)
        self.assertEqual(
            self.send("post", f"{path}/orders", {"orders": [{"contract": "XYZ/2026-11-20/call/3000", "contracts": 1}]})[
                0
            ],
            422,
        )

    def test_a_trade_is_replayed_where_it_was_traded(self) -> None:
        run = self.finished_run(self.two)
        rows = self.send("get", f"/runs/{run.pk}")[1]["trades"]
        number = next(row["number"] for row in rows if row["symbol"] == TWIN)
        _, session = self.send("post", "/replays", {"run": run.pk, "trade": number, "cash": "50000"})
        _, scene = self.send("get", f"/replays/{session['id']}")
        self.assertEqual((scene["symbol"], scene["underlying"]), (TWIN, "MK30"))
        self.assertIsNotNone(scene["payoff"])
        self.assertTrue(scene["legs"] and all(leg["contract"].startswith(TWIN) for leg in scene["legs"]))

    def test_one_currency(self) -> None:
        Underlying.objects.filter(symbol=TWIN).update(currency="USD")
        document = {**both(), "name": "In two currencies"}
        status, told = self.send("post", "/strategies", {"document": document})
        self.assertEqual((status, told["problems"][0]["path"]), (422, "underlyings"))
        self.assertIn("MK30 in EUR, MINE in USD", told["message"])
        # what was written before the terms changed is refused where it would be run
        market = market_for(self.two.latest.document, self.mara.pk)
        with patch.object(market.others[TWIN], "underlying", replace(market.others[TWIN].underlying, currency="USD")):
            self.assertEqual(self.send("get", f"/strategies/{self.two.pk}/preview")[0], 422)

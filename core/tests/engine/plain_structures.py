"""Legs that are entered together, and what says no to them, as plainly as possible."""

from __future__ import annotations

from typing import Any

from tests.engine.plain_looks import Looks
from tests.engine.plain_recording import Contract


class Structures(Looks):
    def in_contracts(
        self, entry: dict[str, Any], kept: dict[str, tuple[Contract, int]]
    ) -> tuple[str, dict[str, tuple[Contract, int]]]:
        """Legs in contracts that are known, and the sentence that says no to them."""
        picked: dict[str, tuple[Contract, int]] = {}
        for leg in entry["legs"]:
            count = leg["ratio"] * (-1 if leg["side"] == "sell" else 1)
            if leg["id"] in kept:
                contract = kept[leg["id"]][0]
                if not self.opens_on(contract, count):
                    return leg["id"], {}
                picked[leg["id"]] = (contract, count)
        return next(
            (rule["id"] for rule in entry["checks"] if not self.holds(rule, list(picked.values()), picked)), ""
        ), picked

    def structure(self, entry: dict[str, Any]) -> tuple[str, dict[str, tuple[Contract, int]]]:
        """Legs that go together, and the sentence that says no to them."""
        rule = next((rule for rule in entry["checks"] if rule["rule"] == "together"), None)
        found = self.nearest_together(entry, rule) if rule else None
        return found or self.picked_one_by_one(entry)

    def nearest_together(
        self, entry: dict[str, Any], rule: dict[str, Any]
    ) -> tuple[str, dict[str, tuple[Contract, int]]] | None:
        """Of all structures around the picks, the nearest to the wish of those that pass, else the nearest."""
        every: list[tuple[tuple[int, ...], dict[str, tuple[Contract, int]]]] = []

        def go_on(legs: list[dict[str, Any]], places: tuple[int, ...], picked: dict[str, tuple[Contract, int]]) -> None:
            if not legs:
                if picked:
                    every.append((places, picked))
                return
            leg, *rest = legs
            count = leg["ratio"] * (-1 if leg["side"] == "sell" else 1)
            other_way = [c for c, n in picked.values() if n * count < 0]
            alone = leg["expiry"]["pick"] == "nearest_days"
            there = []
            for later in range(rule["expirations"] if alone else 1):
                found = self.ranked(leg, picked, other_way, entry["checks"], later)[: rule["near"]]
                there += [(rank, later, contract) for rank, contract in enumerate(found)]
            if leg["rule"] == "optional_leg" and not [item for item in there if item[1] == 0]:
                raise NotImplementedError("no sheet of the tests chooses legs together that may be left out")
            for place, (_, _, contract) in enumerate(sorted(there)):
                go_on(rest, (*places, place), {**picked, leg["id"]: (contract, count)})

        go_on(entry["legs"], (), {})
        every.sort(key=lambda item: (sum(item[0]), item[0]))
        best = None
        for picked in [picked for _, picked in every][: rule["most"]]:
            away = self.from_wish(rule, picked)
            if away is None:
                continue
            said_no = next((r["id"] for r in entry["checks"] if not self.holds(r, list(picked.values()), picked)), "")
            if best is None or (bool(said_no), away) < best[0]:
                best = ((bool(said_no), away), said_no, picked)
        return None if best is None else best[1:]

    def picked_one_by_one(self, entry: dict[str, Any]) -> tuple[str, dict[str, tuple[Contract, int]]]:
        picked: dict[str, tuple[Contract, int]] = {}
        gone: set[str] = set()
        for leg in entry["legs"]:
            count = leg["ratio"] * (-1 if leg["side"] == "sell" else 1)
            by = {leg[name].get("leg") for name in ("strike", "expiry")} - {None}
            other_way = [c for c, n in picked.values() if n * count < 0]
            contract = None if by & gone else self.pick(leg, picked, other_way, entry["checks"])
            if contract is None and leg["rule"] != "optional_leg" and not by & gone:
                return leg["id"], {}
            if contract is None:
                gone.add(leg["id"])
            else:
                picked[leg["id"]] = (contract, count)
        if not picked:
            return entry["legs"][-1]["id"], {}
        for rule in entry["checks"]:
            if not self.holds(rule, list(picked.values()), picked):
                return rule["id"], picked
        return "", picked

"""Documents made of whatever the declarations allow, and now and then of what they do not."""

from __future__ import annotations

import random
from typing import Any

from strell_core.measures import values
from strell_core.measures.declaration import Declaration
from strell_core.measures.measure import load
from strell_core.measures.params import WEEKDAYS, Param
from strell_core.strategy import catalogue
from strell_core.strategy.condition_truths import MARKET
from tests.demo import BREADTH

Raw = dict[str, Any]


class Maker:
    """Makes one document. ``legs``: ids of the legs there are so far."""

    def __init__(self, seed: int) -> None:
        load()
        catalogue.load()
        self.dice = random.Random(seed)
        self.legs: list[str] = []
        self.entries: list[str] = []

    def param(self, param: Param, scopes: tuple[str, ...] = (), depth: int = 1) -> Any:
        dice = self.dice
        if param.kind in ("integer", "number", "amount"):
            low, high = param.minimum or 0, param.maximum if param.maximum is not None else 100
            if dice.random() < 0.7 and isinstance(param.default, int | float):
                # near what is usual, so that something is found
                low, high = max(low, param.default * 0.5 - 1), min(high, abs(param.default) * 1.5 + 1)
            steps = dice.randint(0, max(0, int((high - low) / param.step)))
            made = round(low / param.step) * param.step + steps * param.step
            made = min(max(made, param.minimum or 0), param.maximum or made)
            return int(made) if param.kind == "integer" else round(made, 6)
        if param.kind == "tolerance":
            return dice.choice((f"{dice.randint(1, 100)} %", round(dice.uniform(0.01, 0.99), 2)))
        if param.kind == "choice":
            return dice.choice(list(param.choices))
        if param.kind == "weekdays":
            return dice.sample(WEEKDAYS, dice.randint(1, 5))
        if param.kind in ("time", "daily"):
            return f"{dice.randint(9, 17):02d}:{dice.randrange(0, 60, 5):02d}"
        if param.kind == "leg":
            return dice.choice(self.legs)
        if param.kind == "entry":
            return dice.choice(self.entries)
        if param.kind == "condition":
            return self.further(param.scopes)
        if param.kind in ("words", "series"):
            return dice.choice(("report", "meeting") if param.kind == "words" else (BREADTH, "NOTHING"))
        return self.value(param.scopes or scopes, depth)

    def value(self, scopes: tuple[str, ...], depth: int) -> Any:
        if self.dice.random() < 0.25 or depth >= values.DEEPEST:
            return round(self.dice.uniform(-50, 150), 2)
        there = [m for m in values.allowed(scopes) if self.legs or all(p.kind != "leg" for p in m.declaration.params)]
        measure = self.dice.choice(there).declaration
        return {"measure": measure.id, **self.filled(measure, scopes, depth + 1)}

    def filled(self, declaration: Declaration, scopes: tuple[str, ...] = (), depth: int = 1) -> Raw:
        return {
            param.name: self.param(param, scopes, depth)
            for param in declaration.params
            if not param.optional and (param.kind != "leg" or self.legs)
        }

    def sentence(self, part: str, leave_out: set[str] = frozenset()) -> Raw:  # type: ignore[assignment]
        found = [
            d for d in catalogue.sentences(part).values()
            if d.id not in leave_out and (self.legs or all(p.kind != "leg" for p in d.params))
        ]  # fmt: skip
        declaration = self.dice.choice(found)
        made = {"rule": declaration.id, **self.filled(declaration)}
        if made.get("is") in ("crosses above", "crosses below") and part == "checks":
            made["is"] = "above"
        if any(param.name == "also" for param in declaration.params):
            self.add(made, declaration.param("also").scopes)
        for param in declaration.params if part == "adjust" else ():
            if param.name in ("daily", "upon", "further", "provided", "otherwise") and self.dice.random() < 0.25:
                made[param.name] = self.param(param)
        return made

    def further(self, scopes: tuple[str, ...]) -> Raw:
        made = {"left": self.value(scopes, 1), "is": self.dice.choice(("above", "below", "at most"))}
        return {**made, "right": round(self.dice.uniform(-50, 150), 2)}

    def add(self, made: Raw, scopes: tuple[str, ...]) -> None:
        """Now and then further conditions, and, of what has a past, for how long and until when."""
        lived = MARKET if "structure" in scopes else scopes
        if self.dice.random() < 0.25:
            made["also"] = [self.further(scopes) for _ in range(self.dice.randint(1, 3))]
            made["join"] = self.dice.choice(("and", "or"))
        if self.dice.random() < 0.15:
            made.update(self.further(lived))
            made["looks"] = self.dice.randint(2, 20)
        elif self.dice.random() < 0.1:
            made.update(self.further(lived))
            made.pop("also", None), made.pop("join", None)
            made["until"] = self.further(lived)

    def leg(self, number: int) -> Raw:
        key = f"leg{number}"
        declaration = catalogue.OPTIONAL_LEG if number and self.dice.random() < 0.15 else catalogue.LEG
        made: Raw = {"id": key, "rule": declaration.id, **self.filled(declaration)}
        made["ratio"] = self.dice.choice((1, 1, 1, 2))
        for name in catalogue.PICKS:
            picks = [
                d for d in catalogue.picks(name).values() if self.legs or (all(p.kind != "leg" for p in d.params) and
                d.id not in ("same_expiration", "days_after"))
            ]  # fmt: skip
            pick = self.dice.choice(picks)
            made[name] = {"pick": pick.id, **self.filled(pick)}
            if {"from", "to", "days"} <= set(made[name]):
                made[name] |= {"from": 0, "to": max(70, made[name]["days"])}
        self.legs.append(key)
        return made

    def entry(self, number: int) -> Raw:
        first = len(self.legs)
        legs = [self.leg(first + n) for n in range(self.dice.randint(1, 4))]
        once: set[str] = set()
        out: Raw = {"id": f"entry {number}", "legs": legs}
        for part, most in (("when", 2), ("conditions", 2), ("checks", 2)):
            out[part] = []
            for _ in range(self.dice.randint(1, most) if part == "when" else self.dice.choice((0, 0, 1, most))):
                made = self.sentence(part, once)
                out[part].append(made)
                if catalogue.sentences(part)[made["rule"]].once:
                    once.add(made["rule"])
        if (
            not {"decision_times", "every_minutes"} & {made["rule"] for made in out["when"]}
            and self.dice.random() < 0.8
        ):
            out["when"].append({"rule": "decision_times", "weekdays": list(WEEKDAYS), "time": "15:45"})
        out["size"] = [self.sentence("size")]
        return out

    def document(self) -> Raw:
        entries: list[Raw] = []
        self.entries = [f"entry {number}" for number in range(self.dice.choice((1, 1, 2)))]
        for number in range(len(self.entries)):
            before, self.legs = self.legs, []
            entries.append({**self.entry(number)})
            rename = {leg["id"]: f"{leg['id']}-{number}" for leg in entries[-1]["legs"]}
            entries[-1] = renamed(entries[-1], rename)
            self.legs = before + list(rename.values())
        out: Raw = {"strell": 2, "name": "any", "underlyings": ["MK30"], "entries": entries}
        out["leave"] = [self.sentence("leave") for _ in range(self.dice.randint(0, 4))]
        out["adjust"] = [self.sentence("adjust") for _ in range(self.dice.choice((0, 0, 1, 2)))]
        if self.dice.random() < 0.4:
            made = [self.sentence("limits") for _ in range(self.dice.randint(1, 3))]
            known: set[str] = set()
            out["limits"] = []
            for rule in made:
                once = catalogue.sentences("limits")[rule["rule"]].once
                if rule["rule"] != "capital" and not (once and rule["rule"] in known):
                    out["limits"].append(rule)
                known.add(rule["rule"])
        out["orders"] = [{"rule": "single_snapshots", "policy": self.dice.choice(("decide", "skip"))}]
        for rule in ("patience", "leg_by_leg"):
            if self.dice.random() < 0.1:
                out["orders"].append({"rule": rule, **self.filled(catalogue.sentences("orders")[rule])})
        return out

    def damaged(self) -> Raw:
        """A document with something in it that nobody means, at a place of its own."""
        out = self.document()
        holder: Any = out
        while True:
            items = list(holder.items()) if isinstance(holder, dict) else list(enumerate(holder))
            nested = [(key, item) for key, item in items if isinstance(item, dict | list) and item]
            if not nested or self.dice.random() < 0.3:
                key = self.dice.choice(items)[0]
                holder[key] = self.dice.choice(
                    (None, "x", -1e12, [], {}, [[]], {"measure": "luck"}, True, "\ud800", 10**30)
                )
                return out
            holder = self.dice.choice(nested)[1]


def renamed(value: Any, names: dict[str, str]) -> Any:
    """A value with every leg under another name."""
    if isinstance(value, dict):
        return {key: renamed(item, names) for key, item in value.items()}
    if isinstance(value, list):
        return [renamed(item, names) for item in value]
    return names.get(value, value) if isinstance(value, str) else value

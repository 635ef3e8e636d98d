"""Exits of legs, shares, what follows them, and adjustments, on histories with holes: engine and second implementation.
``STRELL_HISTORIES`` says how many (thousands are tried by hand)."""

from __future__ import annotations

import os
import random
from collections import Counter
from typing import Any

from strell_core.strategy.document import normalise
from tests.drawn import at_least, drawn
from tests.engine.test_random_histories import AgreeCase, random_history, random_strategy, with_holes
from tests.handmade import session_chains

COUNT = int(os.environ.get("STRELL_HISTORIES", "150"))


def random_condition(rng: random.Random, legs: list[str]) -> dict[str, Any]:
    leg = rng.choice(legs)
    if rng.random() < 0.3:
        return {"left": {"measure": "price"}, "is": "above", "right": 1}
    left, right = rng.choice((
        ({"measure": "price"}, rng.choice((3080, 3100, 3120))),
        ({"measure": "move_since_entry"}, rng.choice((-0.3, 0.3))),
        ({"measure": "pnl", "unit": "money"}, rng.choice((-300, 0, 150))),
        ({"measure": "pnl", "unit": "premium", "basis": "closable"}, rng.choice((-30, 20))),
        ({"measure": "leg_pnl", "leg": leg, "unit": "premium"}, rng.choice((-50, 30))),
        ({"measure": "leg_price", "leg": leg}, rng.choice((3, 10))),
        ({"measure": "leg_distance", "leg": leg, "unit": "percent"}, rng.choice((-1, 0.5))),
        ({"measure": "leg_days", "leg": leg}, rng.choice((2, 5))),
        ({"measure": "leg_contracts", "leg": leg}, rng.choice((-1, 0, 2))),
    ))  # fmt: skip
    made = {"left": left, "is": rng.choice(("above", "below", "at least", "at most")), "right": right}
    if rng.random() < 0.2:
        made["join"], made["also"] = (
            rng.choice(("and", "or")),
            [{"left": {"measure": "price"}, "is": "above", "right": 3090}],
        )
    if rng.random() < 0.3:
        made.update(rng.choice((
            {"looks": rng.choice((2, 3))}, {"is": rng.choice(("crosses above", "crosses below"))},
            {"until": {"left": left, "is": "below" if made["is"] in ("above", "at least") else "above", "right": right}},
            {"until": {"left": {"measure": "price"}, "is": "above", "right": 3110, "looks": 2}},
        )))  # fmt: skip
    return made


def random_exit(rng: random.Random, legs: list[str]) -> dict[str, Any]:
    what, other = rng.choice(legs), rng.choice(legs)
    how = {"as": rng.choice(("other", "loss", "profit")), **random_condition(rng, legs)}
    return rng.choice((
        {"rule": "leg_condition", "what": what, **how}, {"rule": "leg_condition_stop", "what": what, "other": other, **how},
        {"rule": "leg_condition_partner", "what": what, "other": other, **how},
        {"rule": "condition_share", "percent": rng.choice((25, 50, 80)), **how},
        {"rule": "condition_again", "when": rng.choice(("now", "next")), "picks": rng.choice(("fresh", "same")), "times": 2, **how},
        {"rule": "condition", **how},
    ))  # fmt: skip


def random_adjustment(rng: random.Random, legs: list[str]) -> dict[str, Any]:
    what, credit = rng.choice(legs), {"measure": "net_credit", "basis": rng.choice(("fill", "mid"))}
    capital = {"left": {"measure": "capital_a_lot"}, "is": "below", "right": rng.choice((5000, 20_000))}
    own = {"left": {"measure": "adjustment_credit"}, "is": "at least", "right": rng.choice((-4, 0, 1.5))}
    said: dict[str, Any] = random_condition(rng, legs)
    for name, values in (
        ("daily", ("09:07", "15:45", "17:30")), ("upon", ("every", "gone", "closed", "expired")), ("further", ("may", "may", "must")),
        ("provided", ({"left": credit, "is": "above", "right": rng.choice((-5, 3))}, capital, own)), ("otherwise", ("close", "again")),
        ("often", ("often",)), ("only", ("after",)),
    ):  # fmt: skip
        if rng.random() < 0.25:
            said[name] = rng.choice(values)
    if said.get("provided") and rng.random() < 0.5:
        said["provided_also"] = [own, {"left": {"measure": "price"}, "is": "above", "right": 3085}]
    if said.get("only") and rng.random() < 0.5:
        del said["only"]
    where = rng.choice(("away", "toward"))
    moves = rng.choice((
        {"rule": "roll_strikes", "what": what, "strikes": rng.choice((1, 2)), "where": where},
        {"rule": "roll_until", "what": what, "where": where, "most": 3, "goal": credit, "goal_is": "above", "goal_than": rng.choice((-60, -10, 5))},
        {"rule": "roll_anew", "what": what}, {"rule": "close_leg", "what": what}, {"rule": "close_leg", "what": rng.choice(legs)},
        {"rule": "roll_like", "what": what, "other": rng.choice(legs)}, {"rule": "roll_leg_out", "what": what, "days": rng.choice((3, 8))},
        {"rule": "roll_until", "what": what, "where": where, "most": 3, "goal": {"measure": "adjustment_credit"}, "goal_is": "at least", "goal_than": 0.5},
        {"rule": "roll_out", "days": rng.choice((3, 8))},
        {"rule": "recentre", "what": what, "value": {"measure": "price"}, "within": rng.choice((0.0, 2.0))},
        {"rule": "change_lots", "way": rng.choice(("open", "close")), "lots": rng.choice((1, 2)), "bound": rng.choice((1, 3, 5))},
        {"rule": "balance", "what": what, "most": rng.choice((1, 3)), "goal": credit, "to": rng.choice((0, 10))},
    ))  # fmt: skip
    if moves["rule"] == "close_leg":
        # what is closed by itself has no other way
        said.pop("otherwise", None)
    if moves["rule"] == "change_lots" and moves["way"] == "open":
        moves["bound"] = 5
    return {**moves, **said}


def random_of_account(rng: random.Random) -> dict[str, Any]:
    """A condition on the account that needs its past."""
    left, right = rng.choice((
        ({"measure": "pnl_today"}, rng.choice((-100, 0, 50))), ({"measure": "below_high", "unit": "money"}, rng.choice((1, 200))),
        ({"measure": "open_trades"}, 1), ({"measure": "losses_in_a_row"}, 1), ({"measure": "open_trade", "which": "newest", "what": "pnl"}, 0),
    ))  # fmt: skip
    made = {"left": left, "is": rng.choice(("above", "below", "at least", "at most")), "right": right}
    made.update(rng.choice((
        {"looks": rng.choice((2, 3))}, {"is": rng.choice(("crosses above", "crosses below"))},
        {"until": {"left": {"measure": "price"}, "is": "above", "right": 3110, "looks": 2}}, {"until": {**made, "right": right + 1}},
    )))  # fmt: skip
    return made


def random_managed(rng: random.Random) -> dict[str, Any]:
    """A strategy that does not only leave."""
    document = random_strategy(rng)
    document["orders"] = [item for item in document["orders"] if item["rule"] not in ("patience", "leg_by_leg")]
    for entry in document["entries"]:
        entry["size"] = [{"rule": "fixed_lots", "lots": rng.choice((1, 1, 2, 4))}]
        entry["when"][0]["weekdays"] = ["mon", "tue", "wed", "thu", "fri"]
    legs = [leg["id"] for leg in document["entries"][0]["legs"]]
    document["leave"] = rng.sample(document["leave"], min(1, len(document["leave"])))
    document["leave"] += [random_exit(rng, legs) for _ in range(rng.randint(0, 2))]
    if rng.random() < 0.15:
        document["entries"][0]["conditions"].append({"rule": "condition", **random_of_account(rng)})
    if rng.random() < 0.15:
        limit = rng.choice(
            ({"rule": "no_entry"}, {"rule": "close_trades", "which": "newest", "sessions": rng.choice((0, 1))})
        )
        document["limits"].append({**limit, **random_of_account(rng)})
    document["adjust"] = [random_adjustment(rng, legs) for _ in range(rng.randint(0, 4))]
    return normalise(document)


class RandomManagedTest(AgreeCase):
    tags = frozenset({"long"})
    seen: Counter[str] = Counter()

    def test_both_agree_on_what_is_managed(self) -> None:
        for seed in drawn(range(COUNT), 0.4):
            with self.subTest(seed):
                self.managed(seed)

    def managed(self, seed: int) -> None:
        rng = random.Random(seed)
        chains = session_chains(
            with_holes(rng, random_history(rng)) if seed % 2 else random_history(rng), listed=seed % 2 == 0
        )
        for plan, steps in self.agree(rng, chains, random_managed):
            rules = {rule.id: rule.kind for entry in plan.entries for rule in (*entry.entry.leave, *entry.entry.adjust)}
            rules |= {rule.id: rule.kind for rule in (*plan.strategy.leave, *plan.strategy.adjust)}
            for reason in steps.reasons:
                if reason.kind in ("left", "moved", "stop moved", "re-entry given up"):
                    self.seen[f"{reason.kind} {rules.get(reason.rule, '')}"] += 1

    @classmethod
    def tearDownClass(cls) -> None:
        for kind in (
            "roll_strikes",
            "roll_until",
            "roll_anew",
            "roll_like",
            "roll_leg_out",
            "close_leg",
            "roll_out",
            "recentre",
            "change_lots",
            "balance",
        ):
            assert cls.seen[f"moved {kind}"] >= at_least(2, 0.4), (
                f"only {cls.seen[f'moved {kind}']} times something moved by {kind}"
            )
        for kind in (
            "leg_condition",
            "leg_condition_stop",
            "leg_condition_partner",
            "condition_share",
            "condition_again",
        ):
            assert cls.seen[f"left {kind}"] >= at_least(4, 0.4), (
                f"only {cls.seen[f'left {kind}']} times something left by {kind}"
            )
        assert cls.seen["stop moved leg_condition_stop"] >= at_least(3, 0.4), "hardly a stop was moved"

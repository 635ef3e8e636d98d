"""Engine and second implementation on histories nobody would write by hand: missing, crossed and bidless
quotes, lost afternoons, expirations in the middle of a position, rules in odd combinations."""

from __future__ import annotations

import datetime as dt
import random
import shutil
import tempfile
import unittest
from collections.abc import Callable, Iterator
from decimal import Decimal
from pathlib import Path
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from strell_core.engine.plan import Plan, make_plan
from strell_core.engine.run import History, run_blocks, run_steps
from strell_core.engine.settlement import expired
from strell_core.market.calendars import marrowick
from strell_core.market.chains import SessionChain
from strell_core.market.timeline import Timeline
from strell_core.results.equity import equity_curve
from strell_core.scenario.generator import MK30
from strell_core.strategy.document import normalise, parse
from tests.drawn import WHOLE, at_least
from tests.engine.plain_recording import Recording
from tests.engine.reference import Reference
from tests.engine.test_sameness import bytes_of, in_cuts
from tests.engine.test_second_implementation import trades_of_engine, trades_of_reference
from tests.handmade import Snapshot, session_chains, timeline_of

CASH = Decimal(50_000)
FIRST = dt.date(2026, 10, 5)
TIMES = ("09:05", "09:10", "15:40", "15:45", "15:50", "15:55", "17:25", "17:30")
STRIKES = (3000, 3050, 3100, 3150, 3200)
CLOSES = {session.date: session.close for session in marrowick().sessions}


def random_quote(rng: random.Random, fair: float) -> str | None:
    """Bid and ask around a fair value in ticks, now and then none or one that must not be used."""
    kind = rng.random()
    if kind < 0.06:
        return None
    half = rng.choice((1, 2, 4, 12))
    bid, ask = max(0, round(fair * 20) - half), round(fair * 20) + half
    if kind < 0.10:
        bid, ask = ask + 2, bid
    elif kind < 0.16:
        bid = 0
    return f"{bid / 20:.2f}/{max(ask, 1) / 20:.2f}"


def random_history(rng: random.Random) -> list[Snapshot]:
    dates = marrowick().between(FIRST, FIRST + dt.timedelta(days=24))[: rng.randint(6, 15)]
    expirations = rng.sample(marrowick().between(FIRST + dt.timedelta(days=1), FIRST + dt.timedelta(days=28)), 4)
    spot = 3100.0
    snapshots: list[Snapshot] = []
    for date in dates:
        times = ("17:30",) if rng.random() < 0.3 else TIMES
        if len(times) > 1 and rng.random() < 0.2:
            times = times[: rng.randint(2, 7)]
        for time in times:
            spot += rng.gauss(0, 12)
            snapshot: dict[str, Any] = {"at": f"{date} {time}", "spot": round(spot, 2)}
            for expiration in expirations:
                left = (expiration - date).days
                if left < 0:
                    continue
                for strike in STRIKES:
                    for right, sign in (("call", 1), ("put", -1)):
                        intrinsic = max(0.0, sign * (spot - strike))
                        fair = intrinsic + (2 + 4 * left**0.5) * 2.718 ** (-(((spot - strike) / 60) ** 2))
                        quote = random_quote(rng, fair)
                        if quote is not None:
                            snapshot[f"{expiration}/{right}/{strike}"] = quote
            snapshots.append(snapshot)
    return snapshots


def chosen_together(rng: random.Random, legs: int) -> dict[str, Any]:
    goal, to = rng.choice((
        ({"measure": "structure_greek"}, 0), ({"measure": "net_credit", "basis": "mid"}, rng.choice((-5, 4))),
        ({"measure": "leg_strike", "leg": f"leg{rng.randrange(legs)}"}, {"measure": "price"}), ({"measure": "max_loss"}, 30),
    ))  # fmt: skip
    bounds = {"near": rng.choice((1, 2, 3)), "expirations": rng.choice((1, 1, 2)), "most": rng.choice((1, 7, 60))}
    return {"rule": "together", "goal": goal, "to": to, **bounds}


def by_earlier(rng: random.Random, leg: str) -> dict[str, Any]:
    """A strike by a value of a leg that was picked before."""
    price, half = {"measure": "leg_price", "leg": leg}, {"measure": "scaled", "times": 0.5, "plus": 0}
    level = {
        "measure": "sum",
        "first": {"measure": "leg_strike", "leg": leg},
        "second": {"measure": "net_credit", "basis": "mid"},
    }
    rounded, within = rng.choice(("nearest", "outward", "inward")), rng.choice((0.8, 5.0))
    return rng.choice((
        {"pick": "premium_value", "value": {**half, "of": price}, "within": rng.choice((30, 90))},
        {"pick": "at_value", "value": level, "round": rounded, "within": within},
        {"pick": "value_out", "value": price, "round": rounded, "within": within},
        {"pick": "value_from_leg", "value": {**half, "of": price, "times": 3}, "leg": leg, "round": rounded, "within": within},
    ))  # fmt: skip


def random_strategy(rng: random.Random) -> dict[str, Any]:
    def strike(number: int = 0) -> dict[str, Any]:
        if number and rng.random() < 0.3:
            return by_earlier(rng, f"leg{rng.randrange(number)}")
        if rng.random() < 0.5:
            percent, within = rng.choice((-1.0, 0.0, 1.5, 3.0)), rng.choice((0.8, 5.0))
            return {"pick": "percent_from_spot", "percent": percent, "within": within}
        return {"pick": "nearest_premium", "points": rng.choice((2.0, 8.0, 15.0)), "within": rng.choice((30, 75))}

    first = {"pick": "nearest_days", "days": rng.choice((3, 7, 12)), "from": 1, "to": 25}
    legs: list[dict[str, Any]] = []
    for number in range(rng.randint(1, 4)):
        later = rng.choice(({"pick": "same_expiration"}, {"pick": "days_after", "days": 5}))
        legs.append(
            {
                "rule": "leg", "id": f"leg{number}", "side": rng.choice(("sell", "buy")), "right": rng.choice(("call", "put")),
                "ratio": rng.choice((1, 1, 2)), "strike": strike(number), "expiry": first if number == 0 else later,
            }
        )  # fmt: skip
    conditions = [
        {"rule": "net_premium", "kind": rng.choice(("credit", "debit")), "points": rng.choice((0.0, 3.0))},
        {"rule": "spread_width", "percent": rng.choice((10, 60))},
        {"rule": "side_balance", "least": 0.3},
    ]
    whole = [chosen_together(rng, len(legs))] if rng.random() < 0.3 else []
    clock = rng.choice(("09:06", "15:45", "17:30"))
    leave = [
        {"rule": "credit_target", "percent": rng.choice((20, 50))},
        {"rule": "debit_target", "percent": rng.choice((10, 40))},
        {"rule": "premium_stop", "percent": rng.choice((30, 100, 200))},
        {"rule": "trailing_profit", "start": 10, "back": 10},
        {"rule": "strike_fence", "call": rng.choice((-0.5, 0.5)), "put": 0.8},
        {"rule": "days_held", "days": rng.choice((0, 2, 5)), "time": clock},
        {"rule": "before_expiration", "days": rng.choice((0, 1, 3)), "time": clock},
    ]
    orders = [
        {"rule": "fill_model", "share": rng.choice((0, 37, 100))},
        {"rule": "commission", "per_contract": rng.choice((0.0, 0.83)), "per_order": rng.choice((0.0, 1.5))},
        {"rule": "single_snapshots", "policy": rng.choice(("decide", "skip"))},
        {"rule": "doubtful_marks", "percent": rng.choice((20, 200)), "last": rng.choice(("wait", "act"))},
        {"rule": "leg_by_leg", "how": rng.choice(("sides", "each")), "rest": rng.choice(("undo", "keep"))},
        {"rule": "patience", "start": rng.choice((-40, 0, 60)), "step": rng.choice((0, 30, 50)),
         "minutes": rng.choice((1, 5, 10)), "most": rng.choice((20, 100)), "exit": rng.choice(("cross", "wait")),
         "entry": rng.choice(("give_up", "wait", "cross"))},
    ]  # fmt: skip
    days = ["mon", "tue", "wed", "thu", "fri"]
    return normalise(
        {
            "name": "random", "underlying": "MK30",
            "enter": [
                {"rule": "decision_times", "weekdays": rng.sample(days, rng.randint(2, 5)), "time": rng.choice(TIMES)},
                {"rule": "open_limit", "limit": rng.choice((1, 2, 4))},
            ],
            "legs": [*legs, *whole, *rng.sample(conditions, rng.choice((0, 0, 1)))],
            "size": [{"rule": "fixed_lots", "lots": rng.choice((1, 3))}],
            "leave": rng.sample(leave, rng.randint(0, 4)), "orders": rng.sample(orders, rng.randint(0, 5)),
            "limits": rng.choice(([], [{"rule": "capital", "entries": rng.choice(("allow", "refuse")),
                                        "below": rng.choice(("report", "newest", "all"))}])),
        }
    )  # fmt: skip


def with_holes(rng: random.Random, snapshots: list[Snapshot]) -> list[Snapshot]:
    """The history with sessions, snapshots, contracts and whole expirations gone, from a day on or for good."""
    dates = sorted({snapshot["at"][:10] for snapshot in snapshots})
    codes = sorted({key for snapshot in snapshots for key in snapshot if "/" in key})
    expirations = sorted({code[:10] for code in codes})
    lost = set(rng.sample(dates[1:], rng.randint(0, 3)))
    lost |= {date for date in expirations if rng.random() < 0.3 and date != dates[0]}
    gone = {name: rng.choice(dates) for name in rng.sample(codes, rng.randint(0, 8))}
    gone |= {name: rng.choice(dates) for name in rng.sample(expirations, rng.randint(0, 2))}
    out = []
    for snapshot in snapshots:
        day = snapshot["at"][:10]
        if day in lost or rng.random() < 0.08:
            continue
        names = [name for name in snapshot if "/" in name]
        held = [n for n in names if day < gone.get(n, "9999") and day < gone.get(n[:10], "9999")]
        out.append({"at": snapshot["at"], "spot": snapshot["spot"], **{name: snapshot[name] for name in held}})
    return out


class AgreeCase(unittest.TestCase):
    """A history, on which several strategies have to come to the same in steps, in blocks, cut, and plainly."""

    maxDiff = 3000
    timeline: Timeline

    def agree(
        self, rng: random.Random, chains: list[SessionChain], made: Callable[[random.Random], dict[str, Any]] = random_strategy
    ) -> Iterator[tuple[Plan, History]]:  # fmt: skip
        place = Path(tempfile.mkdtemp(prefix="strell-"))
        self.addCleanup(shutil.rmtree, place, ignore_errors=True)
        self.timeline = timeline = timeline_of(chains, place / "cubes")
        recording = Recording(chains, CLOSES, MK30.rate)
        for _ in range(3):
            document = made(rng)
            plan = make_plan(parse(document), timeline)
            steps = run_steps(plan, timeline, 0, len(timeline.times), CASH)
            reference = Reference(document, recording, CASH)
            reference.run()
            self.assertEqual(trades_of_engine(steps), trades_of_reference(reference))
            self.assertEqual(steps.state.cash, reference.cash)
            decisions = [(r.at, r.kind, r.rule) for r in steps.reasons if r.kind in ("entry", "no entry", "skipped")]
            self.assertEqual(decisions, reference.decisions)
            blocks = run_blocks(plan, timeline, 0, len(timeline.times), CASH)
            self.assertEqual(bytes_of(blocks), bytes_of(steps))
            cuts = sorted(rng.sample(range(1, len(timeline.times)), min(4, len(timeline.times) - 1)))
            self.assertEqual(in_cuts(run_blocks, plan, timeline, cuts)[0], bytes_of(steps))
            equity_curve(timeline, steps, 0, len(timeline.times), CASH)
            yield plan, steps
        shutil.rmtree(place, ignore_errors=True)


class RandomHistoriesTest(AgreeCase):
    tags = frozenset({"long"})
    entered = waiting = refused = called = parted = unreached = undone = 0

    @settings(max_examples=80 if WHOLE else 40, deadline=None)
    @given(st.integers(0, 2**32 - 1))
    def test_both_agree_and_cuts_change_nothing(self, seed: int) -> None:
        rng = random.Random(seed)
        self.note(self.agree(rng, session_chains(random_history(rng))))

    @settings(max_examples=200 if WHOLE else 80, deadline=None)
    @given(st.integers(0, 2**32 - 1))
    def test_histories_with_holes_run_to_their_end(self, seed: int) -> None:
        rng = random.Random(seed)
        self.note(self.agree(rng, session_chains(with_holes(rng, random_history(rng)), listed=False)))

    def note(self, agreed: Iterator[tuple[Plan, History]]) -> None:
        """What the histories are about."""
        for plan, steps in agreed:
            timeline = self.timeline
            type(self).entered += len(steps.closed)
            type(self).parted += sum("legs" in r.values for r in steps.reasons if r.kind == "filled")
            type(self).unreached += sum(
                "limit" in r.values.get("message", "") for r in steps.reasons if r.kind == "lapsed"
            )
            type(self).undone += sum(t.rule == getattr(plan.working.by_leg, "id", None) for t in steps.closed)
            type(self).called += sum(r.kind == "call" for r in steps.reasons)
            type(self).refused += sum("needed" in r.values for r in steps.reasons if r.kind == "no entry")
            type(self).waiting += sum(
                expired(timeline, leg.contract, int(timeline.times[-1]))
                for trade in steps.state.trades
                for leg in trade.legs
            )

    @classmethod
    def tearDownClass(cls) -> None:
        assert cls.entered > at_least(100, 0.4), (
            f"only {cls.entered} trades were closed: these histories prove too little"
        )
        assert cls.called > at_least(10, 0.4), f"only {cls.called} times did capital not suffice any more"
        assert cls.refused > at_least(10, 0.4), f"only {cls.refused} entries were refused for capital"
        assert cls.parted > at_least(100, 0.4), f"only {cls.parted} fills were of some legs of an order"
        assert cls.unreached > at_least(20, 0.4), (
            f"only {cls.unreached} entries were given up because their limit was not reached"
        )
        assert cls.undone > at_least(10, 0.4), f"only {cls.undone} entries that remained incomplete were undone"
        assert cls.waiting > at_least(10, 0.4), (
            f"only {cls.waiting} legs wait for their settlement value: the holes prove too little"
        )

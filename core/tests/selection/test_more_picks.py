"""Picks by range, by level, by another leg and by the list, each against a plain computation over the demo's chains."""

from __future__ import annotations

import datetime as dt
import math
import unittest
from typing import Any

from strell_core.market.market import Market
from strell_core.market.view import NO_DELTA
from strell_core.measures.frames import Frame
from strell_core.selection.select import Selection, select
from strell_core.strategy.document import DocumentError, normalise, parse
from tests.demo import short_history
from tests.engine.variations import delta, leg

FIRST = {"pick": "nearest_days", "days": 10, "from": 5, "to": 18}


def raw(*legs: dict[str, Any], checks: list[dict[str, Any]] | None = None) -> dict[str, Any]:
    named = [{"id": f"leg{number}", **item} for number, item in enumerate(legs)]
    return {
        "strell": 2, "name": "picks", "underlyings": ["MK30"],
        "entries": [{"when": [{"rule": "decision_times"}], "legs": named, "checks": checks or [], "size": [{"rule": "fixed_lots"}]}],
    }  # fmt: skip


class MorePicksTest(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.timeline = short_history()
        last = len(cls.timeline.times)
        cls.instants = [last - 40, last - 200, last - 333]

    def pick(self, index: int, *legs: dict[str, Any], checks: list[dict[str, Any]] | None = None) -> Selection:
        from strell_core.engine.plan import make_plan

        plan = make_plan(parse(raw(*legs, checks=checks)), self.timeline)
        frame = Frame(Market(self.timeline), index, index + 1, "MK30")
        return select(plan.entries[0].entry.legs, frame, self.timeline.view(index), 0, plan.entries[0].allows)

    def one(self, index: int, strike: dict[str, Any], right: str = "put", **more: Any) -> float | None:
        chosen = self.pick(index, {**leg("sell", right, strike, FIRST), **more})
        return None if chosen.failed else float(chosen.legs[0].contract.strike)

    def rows(self, index: int, right: str) -> list[tuple[float, float, float, int | None]]:
        """Strike, bid, ask in points and delta of every valid quote of the expiration that is picked, lowest first."""
        view = self.timeline.view(index)
        days = [(abs((e - view.date).days - 10), e) for e in view.expirations if 5 <= (e - view.date).days <= 18]
        chain = view.slice(min(days)[1], right)
        return [
            (float(k), b / 20, a / 20, None if d == NO_DELTA else abs(int(d)))
            for k, b, a, d in zip(
                chain.strikes, chain.bid.tolist(), chain.ask.tolist(), chain.delta.tolist(), strict=True
            )
            if 0 <= b <= a and a > 0
        ]

    def test_a_delta_or_a_premium_in_a_range(self) -> None:
        for index in self.instants:
            for right in ("call", "put"):
                rows = self.rows(index, right)
                inside = [r for r in rows if r[3] is not None and 1500 <= r[3] <= 2500]
                out = -1 if right == "call" else 1
                wanted = min(inside, key=lambda r: (abs(2 * (r[3] or 0) - 4000), out * r[0]))[0] if inside else None
                self.assertEqual(self.one(index, {"pick": "delta_range", "from": 0.15, "to": 0.25}, right), wanted)
                priced = [r for r in rows if 8 <= 2 * (r[1] + r[2]) / 2 <= 24]
                wanted = min(priced, key=lambda r: (abs((r[1] + r[2]) / 2 - 8), out * r[0]))[0] if priced else None
                self.assertEqual(self.one(index, {"pick": "premium_range", "from": 4.0, "to": 12.0}, right), wanted)
            self.assertIsNone(self.one(index, {"pick": "premium_range", "from": 990.0, "to": 1000.0}, "call"))

    def test_a_share_of_spot_rounded_to_either_side(self) -> None:
        for index in self.instants:
            spot = int(self.timeline.spot[index]) / 100
            for right, sign in (("call", 1), ("put", -1)):
                strikes = [r[0] for r in self.rows(index, right)]
                level = spot * (1 + sign * 0.013)
                out = [k for k in strikes if sign * (k - level) >= 0]
                inner = [k for k in strikes if sign * (k - level) <= 0]
                found = {
                    way: self.one(index, {"pick": "percent_rounded", "percent": 1.3, "round": way}, right)
                    for way in ("nearest", "outward", "inward")
                }
                self.assertEqual(found["outward"], min(out, key=lambda k: abs(k - level)))
                self.assertEqual(found["inward"], min(inner, key=lambda k: abs(k - level)))
                self.assertIn(found["nearest"], (found["outward"], found["inward"]))

    def test_expected_moves_by_the_straddle_and_by_a_deviation(self) -> None:
        for index in self.instants:
            view, spot = self.timeline.view(index), int(self.timeline.spot[index]) / 100
            calls, puts = self.rows(index, "call"), {r[0]: r for r in self.rows(index, "put")}
            days = [(abs((e - view.date).days - 10), e) for e in view.expirations if 5 <= (e - view.date).days <= 18]
            expiration = min(days)[1]
            forward = view.slice(expiration, "call").forward
            both = [(r, puts[r[0]]) for r in calls if r[0] in puts]
            call, put = min(both, key=lambda pair: (abs(pair[0][0] - forward), pair[0][0]))
            straddle = (call[1] + call[2] + put[1] + put[2]) / 2
            wing = min(puts, key=lambda k: (abs(k - (spot - 1.2 * straddle)), k))
            self.assertEqual(self.one(index, {"pick": "expected_moves", "moves": 1.2}), wing)
            chain, other = view.slice(expiration, "call"), view.slice(expiration, "put")
            smile = sorted(
                (float(k), (c if k >= forward else p) / 100)
                for k, c, p in zip(chain.strikes, chain.iv.tolist(), other.iv.tolist(), strict=True)
                if (c if k >= forward else p) > 0
            )
            below = max(item for item in smile if item[0] <= forward)
            above = min(item for item in smile if item[0] >= forward)
            share = 0 if above == below else (forward - below[0]) / (above[0] - below[0])
            vol = below[1] + share * (above[1] - below[1])
            years = (chain.settlement_at - int(self.timeline.times[index])) / (365 * 86_400)
            level = spot - spot * vol / 100 * math.sqrt(years)
            out = [k for k in puts if k <= level + 1e-9]
            found = self.one(index, {"pick": "expected_moves", "moves": 1.0, "by": "deviation", "round": "outward"})
            self.assertEqual(found, max(out))

    def test_max_pain_by_adding_up_what_holders_would_be_paid(self) -> None:
        for index in self.instants:
            view = self.timeline.view(index)
            days = [(abs((e - view.date).days - 10), e) for e in view.expirations if 5 <= (e - view.date).days <= 18]
            held = [
                (float(k), right, max(0, int(n)))
                for right in ("call", "put")
                for k, n in zip(
                    view.slice(min(days)[1], right).strikes, view.slice(min(days)[1], right).open_interest, strict=True
                )
            ]
            paid = {
                end: sum(n * max(0.0, (end - k) if right == "call" else (k - end)) for k, right, n in held)
                for end in {k for k, _, _ in held}
            }
            pain = min(paid, key=lambda end: (paid[end], end))
            strikes = [r[0] for r in self.rows(index, "put")]
            self.assertEqual(self.one(index, {"pick": "at_max_pain"}), min(strikes, key=lambda k: (abs(k - pain), k)))

    def test_a_fixed_strike_and_any_value(self) -> None:
        index = self.instants[0]
        strikes = [r[0] for r in self.rows(index, "put")]
        spot = int(self.timeline.spot[index]) / 100
        self.assertEqual(self.one(index, {"pick": "fixed_strike", "strike": strikes[5] + 1}), strikes[5])
        self.assertIsNone(self.one(index, {"pick": "fixed_strike", "strike": 100.0}), "too far away to be taken")
        close = float(self.timeline.daily.close[int(self.timeline.session_of[index]) - 1])
        value = {"pick": "at_value", "value": {"measure": "close_before"}, "round": "outward"}
        self.assertEqual(self.one(index, value), max(k for k in strikes if k <= close))
        half = {"pick": "at_value", "value": {"measure": "scaled", "of": {"measure": "price"}, "times": 0.99}}
        self.assertEqual(self.one(index, half), min(strikes, key=lambda k: (abs(k - round(0.99 * spot, 6)), k)))

    def test_strikes_and_points_from_another_leg(self) -> None:
        for index in self.instants:
            listed = [r[0] for r in self.rows(index, "put")]
            for strike, away in (
                ({"pick": "strikes_from_leg", "leg": "leg0", "strikes": 2}, None), ({"pick": "strikes_from_leg", "leg": "leg0", "strikes": 0}, None),
                ({"pick": "points_from_leg", "leg": "leg0", "points": 35.0}, 35.0),
            ):  # fmt: skip
                chosen = self.pick(index, leg("sell", "put", delta(0.3), FIRST), leg("sell", "put", strike))
                first, second = (float(item.contract.strike) for item in chosen.legs)
                if away is None:
                    self.assertEqual(second, listed[listed.index(first) - strike["strikes"]])
                else:
                    self.assertEqual(second, min(listed, key=lambda k: (abs(k - (first - away)), k)))
            calls = self.pick(
                index,
                leg("sell", "put", delta(0.3), FIRST),
                leg("sell", "call", {"pick": "points_from_leg", "leg": "leg0", "points": 60.0}),
            )
            self.assertAlmostEqual(
                float(calls.legs[1].contract.strike), float(calls.legs[0].contract.strike) + 60, delta=10
            )

    def test_a_leg_that_may_be_left_out_takes_those_that_go_by_it_along(self) -> None:
        index = self.instants[0]
        never = {"pick": "premium_range", "from": 990.0, "to": 1000.0}
        legs = (
            leg("sell", "put", delta(0.2), FIRST), {**leg("sell", "call", never), "rule": "optional_leg"},
            {**leg("buy", "call", {"pick": "strikes_from_leg", "leg": "leg1", "strikes": 2}), "rule": "optional_leg"},
        )  # fmt: skip
        chosen = self.pick(index, *legs)
        self.assertIsNone(chosen.failed)
        self.assertEqual([item.leg_id for item in chosen.legs], ["leg0"])
        self.assertEqual([c.left_out for c in chosen.choices], [False, True, True])
        alone = self.pick(index, {**leg("sell", "call", never, FIRST), "rule": "optional_leg"})
        self.assertEqual(alone.failed.leg_id, "leg0", "with nothing left there is nothing to enter")

    def test_what_may_be_picked_at_all(self) -> None:
        index = self.instants[0]
        filtered = {"rule": "strike_filter", "width": 10, "interest": 0}
        chosen = self.pick(index, leg("buy", "put", delta(0.02), FIRST), checks=[filtered])
        rows = [
            r for r in self.rows(index, "put") if r[1] > 0 and 200 * (r[2] - r[1]) <= 10 * (r[1] + r[2]) + 1e-9 and r[3]
        ]
        self.assertEqual(
            float(chosen.legs[0].contract.strike), min(rows, key=lambda r: (abs((r[3] or 0) - 200), r[0]))[0]
        )
        much = self.pick(
            index, leg("buy", "put", delta(0.2), FIRST), checks=[{"rule": "strike_filter", "interest": 1_000_000}]
        )
        self.assertIn("is what the pick wants", much.failed.message)

    def test_expirations_by_the_list_by_kind_and_by_another_leg(self) -> None:
        for index in self.instants:
            view = self.timeline.view(index)
            listed, today = view.expirations, view.date

            def expiration(
                pick: dict[str, Any], later: dict[str, Any] | None = None, at: int = index
            ) -> dt.date | None:
                legs = [leg("sell", "put", {"pick": "strikes_from_money"}, pick)]
                if later is not None:
                    legs.append(leg("buy", "put", {"pick": "strikes_from_money", "strikes": 2}, later))
                chosen = self.pick(at, *legs)
                return None if chosen.failed else chosen.legs[-1].contract.expiration

            from_four = [e for e in listed if (e - today).days >= 4]
            self.assertEqual(expiration({"pick": "nth_listed", "n": 2, "days": 4}), from_four[1])
            self.assertIsNone(expiration({"pick": "nth_listed", "n": 30, "days": 4}))
            monthly = [e for e in listed if e.weekday() == 4 and 15 <= e.day <= 21]
            found = expiration({"pick": "monthly", "days": 20, "from": 0, "to": 60})
            if monthly:
                self.assertEqual(found, min(monthly, key=lambda e: (abs((e - today).days - 20), e)))
            others = expiration({"pick": "monthly", "kind": "weekly", "days": 10, "from": 0, "to": 30})
            self.assertNotIn(others, monthly)
            first = from_four[0]
            front = {"pick": "nth_listed", "n": 1, "days": 4}
            after = [e for e in listed if e > first]
            self.assertEqual(expiration(front, {"pick": "nth_after_leg", "leg": "leg0", "n": 2}), after[1])
            self.assertEqual(
                expiration(front, {"pick": "days_after_leg", "leg": "leg0", "days": 9}),
                min(after, key=lambda e: (abs((e - first).days - 9), e)),
            )
            self.assertEqual(expiration(front, {"pick": "same_as_leg", "leg": "leg0"}), first)

    def test_what_goes_by_a_leg_that_is_not_before_it_is_refused(self) -> None:
        for strike, place in (
            ({"pick": "strikes_from_leg", "leg": "leg1", "strikes": 1}, "entries/0/legs/0/strike/leg"),
            ({"pick": "strikes_from_leg", "leg": "gone", "strikes": 1}, "entries/0/legs/0/strike/leg"),
        ):  # fmt: skip
            with self.assertRaises(DocumentError) as caught:
                normalise(raw(leg("sell", "put", strike, FIRST), leg("buy", "put", delta(0.1))))
            self.assertIn(place, [problem.path for problem in caught.exception.problems])

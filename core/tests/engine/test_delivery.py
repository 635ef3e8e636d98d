"""The underlying as a leg, exercise and assignment, dividends (semantics rules 10 and 20): worked out by hand."""

from __future__ import annotations

import dataclasses
import datetime as dt
import unittest
from decimal import Decimal
from typing import Any

import numpy as np

from strell_core.engine.exercise import exercised
from strell_core.engine.plain import to_plain
from strell_core.engine.plan import make_plan
from strell_core.engine.run import History, run_blocks, run_steps
from strell_core.engine.stored import dump, load
from strell_core.market.instruments import ContractKey
from strell_core.results.equity import equity_curve, trade_path
from strell_core.scenario.generator import MK30
from strell_core.strategy.document import DocumentError, normalise, parse
from tests.engine.test_worked_examples import local
from tests.handmade import session_chains, timeline_of

CASH = Decimal(50_000)
HUNDREDTH = 400
"""Parts of 0.01: a step of 0.05 has 2000."""
BUY = {"rule": "units", "side": "buy", "ratio": 1}


def option(side: str, right: str, percent: float = 2) -> dict[str, Any]:
    expiry = {"pick": "nearest_days", "days": 10, "from": 4, "to": 25}
    return {"rule": "leg", "side": side, "right": right, "strike": {"pick": "percent_from_spot", "percent": percent}, "expiry": expiry}  # fmt: skip


class EarlyTest(unittest.TestCase):
    """A call in the money on the eve of a dividend of 1.00: whether its holder would exercise."""

    def exercised(self, call: str, put: str | None, dividend: float = 1.0) -> bool:
        quotes = {
            "2026-10-16/call/95": call,
            **({"2026-10-16/put/95": put} if put else {"2026-10-16/put/90": "0.05/0.10"}),
        }
        paid = ((dt.date(2026, 10, 7), dividend),)
        stock = dataclasses.replace(MK30, multiplier=100, kind="stock", american=True, dividends=paid)
        timeline = timeline_of(session_chains([{"at": "2026-10-06 17:30", "spot": 100, **quotes}]), underlying=stock)
        return exercised(timeline, ContractKey.parse("MK30/2026-10-16/call/95"), 0)

    def test_when_the_put_of_its_strike_is_worth_less_than_the_dividend(self) -> None:
        self.assertTrue(self.exercised("5.00/5.20", "0.10/0.20"))
        self.assertFalse(self.exercised("5.00/5.20", "1.10/1.30"))

    def test_without_that_put_when_its_own_value_beyond_the_intrinsic_one_is_less(self) -> None:
        self.assertTrue(self.exercised("5.00/5.20", None))
        self.assertTrue(self.exercised("5.80/6.00", None), "0.90 against 1.00")
        self.assertFalse(self.exercised("6.00/6.20", None), "1.10 against 1.00")


class DeliveryTest(unittest.TestCase):
    """A stock at 100.00, 100 units a contract, options in steps of 0.05; 0.80 a contract; 0.01 from its price."""

    def ran(
        self, legs: list[dict[str, Any]], rows: list[dict[str, Any]], leave: list[dict[str, Any]] | None = None,
        dividend: tuple[str, float] | None = None, settlements: dict[str, float] | None = None,
        adjust: list[dict[str, Any]] | None = None, iv: float = 0, **terms: Any,
    ) -> History:  # fmt: skip
        """In steps and in blocks, cut and restored anywhere: all the same."""
        paid = ((dt.date.fromisoformat(dividend[0]), dividend[1]),) if dividend else ()
        stock = dataclasses.replace(
            MK30, **{"multiplier": 100, "kind": "stock", "american": True, "dividends": paid, **terms}
        )
        chains = session_chains(rows, settlements)
        if iv:
            chains = [
                dataclasses.replace(
                    chain,
                    iv=np.full_like(chain.iv, round(iv * 10_000)),
                    forward=np.tile(chain.spot / 100, (len(chain.expirations), 1)),
                )
                for chain in chains
            ]
        self.timeline = timeline_of(chains, underlying=stock)
        document = normalise({
            "name": "units", "underlyings": ["MK30"], "leave": leave or [], "adjust": adjust or [],
            "entries": [{"when": [{"rule": "decision_times", "weekdays": ["mon"], "time": "15:45"}], "legs": legs,
                         "conditions": [{"rule": "open_limit", "limit": 1}], "size": [{"rule": "fixed_lots", "lots": 1}]}],
        })  # fmt: skip
        plan, n = make_plan(parse(document), self.timeline), len(self.timeline.times)
        steps, blocks = run_steps(plan, self.timeline, 0, n, CASH), run_blocks(plan, self.timeline, 0, n, CASH)
        for part in ("reasons", "entries", "closed", "needs"):
            self.assertEqual(to_plain(getattr(blocks, part)), to_plain(getattr(steps, part)), part)
        self.assertEqual(dump(blocks.state), dump(steps.state))
        for cut in range(1, n):
            state = load(dump(run_blocks(plan, self.timeline, 0, cut, CASH).state), "MK30")
            self.assertEqual(dump(run_blocks(plan, self.timeline, cut, n, CASH, None, state).state), dump(steps.state))
        equity = equity_curve(self.timeline, steps, 0, n, CASH).equity
        if not steps.state.trades:
            self.assertAlmostEqual(float(equity[-1]), float(steps.state.cash))
        for trade in steps.closed:
            self.assertEqual(int(trade_path(self.timeline, trade).pnl[-1]) + self.paid(steps), trade.gross)
        return steps

    def paid(self, history: History) -> int:
        return sum(entry.contracts * entry.price_parts for entry in history.entries if entry.kind == "dividend")

    def told(self, history: History) -> list[tuple[Any, ...]]:
        return [(local(t.opened_at)[5:], local(t.closed_at)[5:], t.rule, t.pnl) for t in history.closed]

    def test_an_exit_on_what_was_made_is_looked_for_anew_after_a_dividend(self) -> None:
        """Reached by the dividend alone, at 11:00 of the day the units go ex."""
        call = "2026-10-16/call/102"
        spots = {"05 15:45": 100, "05 15:50": 100, "05 17:30": 100, "06 11:00": 100, "06 17:30": 100,
                 "07 09:05": 99, "07 11:00": 100, "07 11:05": 100, "07 17:30": 100, "08 17:25": 100, "08 17:30": 100}  # fmt: skip
        pnl = {"measure": "pnl", "basis": "mid", "unit": "money"}
        history = self.ran(
            [BUY, option("sell", "call")],
            [{"at": f"2026-10-{at}", "spot": spot, call: "1.00/1.10"} for at, spot in spots.items()],
            leave=[{"rule": "condition", "as": "other", "left": pnl, "is": "at least", "right": 80}],
            dividend=("2026-10-07", 1.0),
        )
        self.assertEqual(
            [(local(t.left_at), local(t.closed_at)) for t in history.closed], [("2026-10-07 11:00", "2026-10-07 11:05")]
        )

    def test_a_covered_call_is_called_away_at_its_strike(self) -> None:
        call = "2026-10-16/call/102"
        history = self.ran([BUY, option("sell", "call")], [
            {"at": "2026-10-05 15:45", "spot": 100, call: "1.50/1.60"},
            {"at": "2026-10-05 15:50", "spot": 100, call: "1.50/1.60"},
            {"at": "2026-10-16 17:25", "spot": 105, call: "2.95/3.10"},
            {"at": "2026-10-16 17:30", "spot": 105},
            {"at": "2026-10-19 09:05", "spot": 109},
        ])  # fmt: skip
        # bought at 100.01, gone at 102; 1.50 taken: 3.49 points, 349 EUR, less one option at 0.80
        self.assertEqual(self.told(history), [("10-05 15:50", "10-16 17:30", "assignment", Decimal("348.20"))])
        (trade,) = history.closed
        self.assertEqual([(leg.contract.code, leg.how) for leg in trade.legs],
                         [("MK30/2026-10-16/call/102", "assignment"), ("MK30/unit", "delivery")])  # fmt: skip
        self.assertEqual(trade.opening, 30 * 2000, "the premium is the option's alone")
        # what units are worth, 10 000, less the call at mid
        self.assertEqual([round(need.capital, 2) for need in history.needs], [9845.00])

    def test_when_it_expires_worthless_the_units_stay_until_a_rule_lets_them_go(self) -> None:
        call = "2026-10-16/call/102"
        rows = [
            {"at": "2026-10-05 15:45", "spot": 100, call: "1.50/1.60"},
            {"at": "2026-10-05 15:50", "spot": 100, call: "1.50/1.60"},
            {"at": "2026-10-16 17:25", "spot": 99, call: "0.00/0.05"},
            {"at": "2026-10-16 17:30", "spot": 99},
            {"at": "2026-10-19 09:05", "spot": 98},
            {"at": "2026-10-19 09:10", "spot": 98},
        ]
        kept = self.ran([BUY, option("sell", "call")], rows)
        self.assertEqual([leg.contract for leg in kept.state.trades[0].legs], [ContractKey.unit("MK30")])
        gone = self.ran(
            [BUY, option("sell", "call")], rows, [{"rule": "before_expiration", "days": 0, "time": "17:30"}]
        )
        # a time that comes with the last snapshot is decided on the one before; the call settles for nothing, and the unit
        # is sold at 98.99: -1.02 + 1.50 points
        (told,) = self.told(gone)
        self.assertEqual((told[1], told[3]), ("10-16 17:30", Decimal("47.20")))

    def test_no_share_of_a_premium_is_known_while_units_are_held(self) -> None:
        """A covered call that loses twenty times its premium is not stopped by a share of it; a leg's own share is known."""
        call = "2026-10-16/call/102"
        rows = [
            {"at": f"2026-10-{day:02d} {time}", "spot": spot, call: quote}
            for day, spot, quote in ((5, 100, "1.00/1.10"), (6, 78, "0.05/0.10"), (7, 78, "0.05/0.10"))
            for time in ("15:45", "15:50", "15:55")
        ]
        legs = [BUY, {**option("sell", "call"), "id": "c"}]
        shares = [
            {"rule": "premium_stop", "percent": 200}, {"rule": "credit_target", "percent": 50},
            {"rule": "condition", "as": "loss", "left": {"measure": "pnl", "unit": "premium"}, "is": "at most", "right": -200},
            {"rule": "profit_floor", "start": 10, "floor": 5, "step": 10}, {"rule": "trailing_profit", "start": 10, "back": 5},
        ]  # fmt: skip
        kept = self.ran(legs, rows, shares)
        self.assertEqual(([r.kind for r in kept.reasons if r.kind == "left"], len(kept.state.trades)), ([], 1))
        leg = {
            "rule": "leg_condition",
            "what": "c",
            "as": "other",
            "left": {"measure": "leg_pnl", "leg": "c"},
            "is": "at least",
            "right": 60,
        }
        bought_back = self.ran(legs, rows, [leg])
        self.assertEqual([x.contract.is_unit for x in bought_back.state.trades[0].legs], [True])

    def test_a_hedge_leaves_the_share_of_the_premium_known(self) -> None:
        """A straddle sold for 5.00 and hedged with 64 units at 106.01: at 98 it has made 0.90 and they have lost 64 × 8.01, a
        hundredth each: 4.2264 at mid, more than 60 % of the premium."""
        legs = [{**option("sell", right, 0), "id": right} for right in ("call", "put")]
        rows = [
            {"at": f"2026-10-{day:02d} {time}", "spot": spot, "2026-10-16/call/100": call, "2026-10-16/put/100": put}
            for day, spot, call, put in (
                (5, 100, "2.50/2.60", "2.50/2.60"),
                (6, 106, "6.40/6.50", "0.40/0.50"),
                (7, 98, "1.00/1.10", "3.00/3.10"),
            )
            for time in ("15:45", "15:50", "15:55")
        ]
        hedge, stop = {"rule": "hedge", "band": 1.0, "daily": "15:45"}, {"rule": "premium_stop", "percent": 60}
        history = self.ran(legs, rows, [stop], adjust=[hedge], iv=0.4)
        (trade,) = history.closed
        self.assertEqual([leg.contract.is_unit for leg in trade.legs], [False, False, True])
        self.assertEqual((local(trade.left_at), trade.values["premium"]), ("2026-10-07 15:45", 500 * HUNDREDTH))
        self.assertEqual([leg.contracts for leg in trade.legs if leg.contract.is_unit], [64])
        self.assertEqual(trade.values["loss"], 4.2264 * 100 * HUNDREDTH)
        # the band as a share of both deltas without their signs: 64 of 100 are away
        for band, units in ((62.0, [64]), (67.0, [])):
            rule = {"rule": "hedge", "band": band, "of": "options", "daily": "15:45"}
            found = self.ran(legs, rows[:6], adjust=[rule], iv=0.4).state.trades[0].legs
            self.assertEqual([leg.contracts for leg in found if leg.contract.is_unit][:1], units, band)
        # and its units have no cost basis: they come and go with delta
        basis = {"rule": "condition", "as": "loss", "left": {"measure": "cost_basis"}, "is": "above", "right": -10_000}
        self.assertEqual(self.ran(legs, rows, [basis], adjust=[hedge], iv=0.4).closed, [])

    def test_the_cost_basis_is_carried_over_delivery_dividend_and_calls_and_a_call_is_not_written_below_it(
        self,
    ) -> None:
        near, later = "2026-10-09/put/98", "2026-10-23/call/"
        calls = {f"{later}96": "1.20/1.30", f"{later}97": "0.80/0.90", f"{later}98": "0.40/0.50"}
        put = {**option("sell", "put"), "id": "p"}
        put["expiry"] = {"pick": "nearest_days", "days": 4, "from": 1, "to": 6}
        value = {"pick": "at_value", "value": {"measure": "cost_basis"}, "round": "outward", "within": 5.0}
        call = {**option("sell", "call"), "rule": "later_leg", "id": "c", "strike": value}
        kept = {"rule": "kept_units", "id": "units"}
        held = {"left": {"measure": "leg_contracts", "leg": "units"}, "is": "above", "right": 0}
        opens = {"rule": "open_leg", "what": "c", "upon": "every", **held}
        out = {
            "rule": "condition",
            "id": "out",
            "as": "other",
            "left": {"measure": "cost_basis"},
            "is": "at most",
            "right": 94.8,
        }
        rows = [
            {"at": "2026-10-05 15:45", "spot": 100, near: "1.90/2.00", **calls}, {"at": "2026-10-05 15:50", "spot": 100, near: "1.90/2.00", **calls},
            {"at": "2026-10-09 15:45", "spot": 96, near: "2.00/2.10", **calls}, {"at": "2026-10-09 17:30", "spot": 96, **calls},
            {"at": "2026-10-12 09:05", "spot": 96.5, **calls}, {"at": "2026-10-12 09:10", "spot": 96.5, **calls},
            {"at": "2026-10-13 09:05", "spot": 96, **calls}, {"at": "2026-10-13 09:10", "spot": 96, **calls},
        ]  # fmt: skip
        history = self.ran([put, call, kept], rows, leave=[out], adjust=[opens], dividend=("2026-10-13", 0.5))
        # 98 less 1.90 is 96.10: the next strike away from the money is 97
        (moved,) = [reason for reason in history.reasons if reason.kind == "moved"]
        self.assertEqual(moved.values["contracts"], [f"MK30/{later}97"])
        # less 0.80 for the call and 0.50 of dividend: 94.80 on the 13th
        (left,) = [reason for reason in history.reasons if reason.kind == "left"]
        self.assertEqual((local(left.at)[5:], left.values["value"]), ("10-13 09:05", 94.8))
        paid = -sum(entry.amount for entry in history.entries if entry.at <= left.at and entry.kind != "commission")
        self.assertEqual(paid / 100, Decimal("94.80"), "it is what the ledger says")
        with self.assertRaisesRegex(DocumentError, "'Cost basis of the units' is only known in an open trade"):
            self.ran([{**put, "strike": value}, kept], rows)

    def test_an_exit_at_work_sells_what_an_assignment_has_left(self) -> None:
        """Two units and a call: decided at 17:25, when nobody makes a price in the call; one unit is called away at
        17:30, and the order that was to sell two sells the other."""
        call = "2026-10-16/call/102"
        history = self.ran([{**BUY, "ratio": 2}, option("sell", "call")], [
            {"at": "2026-10-05 15:45", "spot": 100, call: "1.50/1.60"},
            {"at": "2026-10-05 15:50", "spot": 100, call: "1.50/1.60"},
            {"at": "2026-10-16 17:25", "spot": 105},
            {"at": "2026-10-16 17:30", "spot": 105},
            {"at": "2026-10-19 09:05", "spot": 109},
        ], [{"rule": "before_expiration", "days": 0, "time": "17:25"}])  # fmt: skip
        # 102 and 104.99 for what was bought at 100.01, and 1.50 taken: 8.47 points, one option at 0.80
        self.assertEqual([told[1:2] + told[3:] for told in self.told(history)], [("10-16 17:30", Decimal("846.20"))])
        self.assertEqual(history.state.trades, ())

    def test_units_that_are_delivered_come_to_those_that_are_held(self) -> None:
        put, call = "2026-10-09/put/98", "2026-10-16/call/105"
        history = self.ran([BUY, {**option("sell", "put"), "expiry": {"pick": "nearest_days", "days": 4, "from": 1, "to": 6}},
                            {**option("sell", "call", 5), "id": "c"}], [
            {"at": "2026-10-05 15:45", "spot": 100, put: "1.50/1.60", call: "0.50/0.60"},
            {"at": "2026-10-05 15:50", "spot": 100, put: "1.50/1.60", call: "0.50/0.60"},
            {"at": "2026-10-09 17:25", "spot": 95, put: "2.90/3.10", call: "0.10/0.20"},
            {"at": "2026-10-09 17:30", "spot": 95, call: "0.10/0.20"},
            {"at": "2026-10-12 09:05", "spot": 96, call: "0.10/0.20"},
        ])  # fmt: skip
        (trade,) = history.state.trades
        (units,) = [leg for leg in trade.legs if leg.contract.is_unit]
        # one bought at 100.01, one delivered at 98
        self.assertEqual((units.contracts, units.opened_parts), (2, round((100.01 + 98) / 2 * 100 * HUNDREDTH)))
        self.assertEqual([piece.contracts for piece in units.came], [1, 1])

    def test_a_leg_that_waits_for_its_settlement_value_is_told_once(self) -> None:
        put = "2026-10-16/put/98"
        rows = [
            {"at": "2026-10-05 15:45", "spot": 100, put: "1.50/1.60"},
            {"at": "2026-10-05 15:50", "spot": 100, put: "1.50/1.60"},
            *({"at": f"2026-10-{day} {time}", "spot": 95} for day in (19, 20) for time in ("09:05", "09:10", "17:30")),
        ]
        history = self.ran([option("sell", "put")], rows, kind="index")
        self.assertEqual([local(r.at)[5:] for r in history.reasons if r.kind == "waits"], ["10-19 09:05"])

    def test_a_short_put_is_assigned_and_its_units_are_sold_at_the_next_sessions_first_snapshot(self) -> None:
        put = "2026-10-16/put/98"
        history = self.ran([option("sell", "put")], [
            {"at": "2026-10-05 15:45", "spot": 100, put: "1.50/1.60"},
            {"at": "2026-10-05 15:50", "spot": 100, put: "1.50/1.60"},
            {"at": "2026-10-16 17:25", "spot": 95, put: "3.30/3.50"},
            {"at": "2026-10-16 17:30", "spot": 95},
            {"at": "2026-10-19 09:05", "spot": 94},
            {"at": "2026-10-19 09:10", "spot": 93},
        ])  # fmt: skip
        # 1.50 taken, bought at 98 and sold at 93.99: -2.51 points
        self.assertEqual(self.told(history), [("10-05 15:50", "10-19 09:05", "delivery", Decimal("-251.80"))])
        self.assertEqual(
            [(e.kind, e.contracts, str(e.amount)) for e in history.entries if e.kind in ("delivery", "settlement")],
            [("delivery", 1, "-9800.00")],
        )

    def test_in_cash_where_nothing_is_delivered(self) -> None:
        put = "2026-10-16/put/98"
        rows = [
            {"at": "2026-10-05 15:45", "spot": 100, put: "1.50/1.60"},
            {"at": "2026-10-05 15:50", "spot": 100, put: "1.50/1.60"},
            {"at": "2026-10-16 17:30", "spot": 95},
        ]
        history = self.ran([option("sell", "put")], rows, kind="index")
        self.assertEqual(self.told(history), [("10-05 15:50", "10-16 17:30", "settlement", Decimal("-150.80"))])

    def test_a_long_call_is_exercised_from_a_hundredth_in_the_money(self) -> None:
        call = "2026-10-16/call/102"
        rows = [
            {"at": "2026-10-05 15:45", "spot": 100, call: "1.50/1.60"},
            {"at": "2026-10-05 15:50", "spot": 100, call: "1.50/1.60"},
            {"at": "2026-10-16 17:30", "spot": 101},
            {"at": "2026-10-19 09:05", "spot": 104},
        ]
        history = self.ran([option("buy", "call")], rows, settlements={"2026-10-16": 102.01})
        # 1.60 paid, bought at 102 and sold at 103.99
        self.assertEqual(self.told(history), [("10-05 15:50", "10-19 09:05", "delivery", Decimal("38.20"))])
        at_the_money = self.ran([option("buy", "call")], rows, settlements={"2026-10-16": 102.00})
        self.assertEqual(self.told(at_the_money)[0][1:3], ("10-16 17:30", "settlement"))

    def early(self, put: str, dividend: float, spot: float = 110) -> History:
        """A covered call on the eve of a dividend, 110 in the money, with a put of its strike at these quotes."""
        call, other = "2026-10-16/call/102", "2026-10-16/put/102"
        return self.ran([BUY, option("sell", "call")], [
            {"at": "2026-10-05 15:45", "spot": 100, call: "1.50/1.60", other: "3.50/3.60"},
            {"at": "2026-10-05 15:50", "spot": 100, call: "1.50/1.60", other: "3.50/3.60"},
            {"at": "2026-10-07 17:25", "spot": spot, call: "8.00/8.20", other: put},
            {"at": "2026-10-07 17:30", "spot": spot, call: "8.00/8.20", other: put},
            {"at": "2026-10-08 09:05", "spot": spot - 1, call: "7.40/7.60", other: put},
            {"at": "2026-10-08 09:10", "spot": spot - 1, call: "7.40/7.60", other: put},
        ], dividend=("2026-10-08", dividend))  # fmt: skip

    def test_a_call_is_assigned_on_the_eve_of_a_dividend_that_is_worth_more_than_waiting(self) -> None:
        """D > P + K(1 - e^(-rT)): 9 days of interest on 102 are 0.05 points at 2 %, the put stands at 0.15. (Common
        practice; J. Cox and M. Rubinstein, Options Markets, 1985, from memory.)"""
        history = self.early("0.10/0.20", 0.80)
        self.assertEqual(self.told(history), [("10-05 15:50", "10-07 17:30", "assignment", Decimal("348.20"))])
        self.assertEqual([e.kind for e in history.entries if e.kind == "dividend"], [], "nor is the dividend ours")

    def test_a_dividend_that_is_worth_less_is_paid_to_who_holds_the_units(self) -> None:
        for put, dividend in (("0.70/0.80", 0.80), ("0.10/0.20", 0.18)):
            history = self.early(put, dividend)
            (trade,) = history.state.trades
            self.assertEqual([leg.contract.right for leg in trade.legs], ["unit", "call"])
            (paid,) = [e for e in history.entries if e.kind == "dividend"]
            self.assertEqual((local(paid.at), paid.amount), ("2026-10-08 09:05", Decimal(f"{100 * dividend:.2f}")))
            self.assertEqual(trade.realised, round(dividend * 20 * 2000))

    def test_out_of_the_money_nobody_exercises(self) -> None:
        self.assertEqual(len(self.early("2.00/2.10", 0.80, spot=101).state.trades[0].legs), 2)

    def test_a_put_with_no_more_than_half_a_step_of_time_is_assigned_early(self) -> None:
        put = "2026-10-16/put/98"

        def after(quote: str) -> History:
            return self.ran([option("sell", "put")], [
                {"at": "2026-10-05 15:45", "spot": 100, put: "1.50/1.60"},
                {"at": "2026-10-05 15:50", "spot": 100, put: "1.50/1.60"},
                {"at": "2026-10-07 17:25", "spot": 90, put: quote},
                {"at": "2026-10-07 17:30", "spot": 90, put: quote},
                {"at": "2026-10-08 09:05", "spot": 90, put: quote},
                {"at": "2026-10-08 09:10", "spot": 90, put: quote},
            ])  # fmt: skip

        # mid 8.025, half a step above 8
        self.assertEqual(
            self.told(after("7.95/8.10")), [("10-05 15:50", "10-08 09:05", "delivery", Decimal("-651.80"))]
        )
        self.assertEqual(self.told(after("8.00/8.10")), [])

    def test_of_a_spread_the_assigned_leg_becomes_units_and_the_other_stays(self) -> None:
        short, long = "2026-10-16/put/98", "2026-10-16/put/94"
        history = self.ran([option("sell", "put"), option("buy", "put", 6)], [
            {"at": "2026-10-05 15:45", "spot": 100, short: "1.50/1.60", long: "0.50/0.60"},
            {"at": "2026-10-05 15:50", "spot": 100, short: "1.50/1.60", long: "0.50/0.60"},
            {"at": "2026-10-07 17:25", "spot": 90, short: "7.95/8.05", long: "4.20/4.40"},
            {"at": "2026-10-07 17:30", "spot": 90, short: "7.95/8.05", long: "4.20/4.40"},
            {"at": "2026-10-08 09:05", "spot": 91, short: "6.95/7.05", long: "3.40/3.60"},
            {"at": "2026-10-08 09:10", "spot": 91, short: "6.95/7.05", long: "3.40/3.60"},
            {"at": "2026-10-09 15:45", "spot": 91, short: "6.95/7.05", long: "3.40/3.60"},
            {"at": "2026-10-09 15:50", "spot": 91, short: "6.95/7.05", long: "3.40/3.60"},
        ], [{"rule": "days_held", "days": 4, "time": "15:45"}])  # fmt: skip
        # 1.50 - 0.60; units 98 to 90.99, -7.01; the long put 3.40: -2.71 points; 3 options at 0.80
        self.assertEqual(self.told(history)[0][1], "10-09 15:50")
        self.assertEqual(history.closed[0].pnl, Decimal("-273.40"))
        self.assertEqual([leg.how for leg in history.closed[0].legs], ["assignment", "order", "order"])

    def test_what_is_delivered_at_the_only_snapshot_of_a_session_is_sold_in_the_next(self) -> None:
        put = "2026-10-16/put/98"
        history = self.ran([option("sell", "put")], [
            {"at": "2026-10-05 17:30", "spot": 100, put: "1.50/1.60"},
            {"at": "2026-10-16 17:30", "spot": 95},
            {"at": "2026-10-19 17:30", "spot": 94},
        ])  # fmt: skip
        self.assertEqual(self.told(history), [("10-05 17:30", "10-19 17:30", "delivery", Decimal("-251.80"))])

    def test_units_alone_or_of_an_index_are_refused(self) -> None:
        with self.assertRaisesRegex(DocumentError, "at least one leg that is an option"):
            self.ran([BUY], [{"at": "2026-10-05 15:45", "spot": 100}])
        with self.assertRaisesRegex(DocumentError, "can be one leg"):
            self.ran([BUY, BUY, option("sell", "call")], [{"at": "2026-10-05 15:45", "spot": 100}])
        call = "2026-10-16/call/102"
        rows = [{"at": f"2026-10-05 15:{m}", "spot": 100, call: "1.50/1.60"} for m in (45, 50)]
        history = self.ran([BUY, option("sell", "call")], rows, kind="index")
        (said,) = [r for r in history.reasons if r.kind == "no entry"]
        self.assertIn("is an index, which cannot be dealt in", said.values["message"])

    def test_short_units_pay_the_dividend_and_need_half_again_of_their_value(self) -> None:
        put = "2026-10-16/put/98"
        history = self.ran([{**BUY, "side": "sell"}, option("sell", "put")], [
            {"at": "2026-10-05 15:45", "spot": 100, put: "1.50/1.60"},
            {"at": "2026-10-05 15:50", "spot": 100, put: "1.50/1.60"},
            {"at": "2026-10-07 17:30", "spot": 100, put: "1.50/1.60"},
            {"at": "2026-10-08 17:30", "spot": 100, put: "1.50/1.60"},
        ], dividend=("2026-10-08", 0.80))  # fmt: skip
        (paid,) = [e for e in history.entries if e.kind == "dividend"]
        self.assertEqual(paid.amount, Decimal("-80.00"))
        # half of 10 000, and the put alone: 20 % of 100 less 2 out of the money
        self.assertAlmostEqual(history.needs[0].capital, 5000 + 1800)

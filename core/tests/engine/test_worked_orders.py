"""Limits that walk, and legs that are dealt one after another (semantics rule 8)."""

from __future__ import annotations

import unittest
from decimal import Decimal
from typing import Any

from strell_core.engine import capital
from strell_core.engine.advance import advance
from strell_core.engine.plain import to_plain
from strell_core.engine.plan import Plan, make_plan
from strell_core.engine.run import History, run_blocks, run_steps
from strell_core.engine.state import Fill, Order, OrderLeg
from strell_core.engine.stored import dump, fill_of, load
from strell_core.engine.working import Patience, limit_of
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Observation, market_of
from strell_core.market.prices import PARTS
from strell_core.market.timeline import Timeline
from strell_core.results.delayed import leavings
from strell_core.results.report import report
from strell_core.strategy.document import parse
from tests.demo import short_history
from tests.engine.test_sameness import bytes_of
from tests.engine.test_worked_examples import whole
from tests.engine.variations import variations
from tests.handmade import instant, session_chains, timeline_of

CASH = Decimal(50_000)
SHORT, LONG = "2026-10-16/put/3040", "2026-10-16/put/2940"
LEGS: list[dict[str, Any]] = [
    {"rule": "leg", "side": "sell", "right": "put", "strike": {"pick": "percent_from_spot", "percent": 2}, "expiry": {"pick": "nearest_days"}, "id": "short"},
    {"rule": "leg", "side": "buy", "right": "put", "strike": {"pick": "percent_from_spot", "percent": 5}, "expiry": {"pick": "same_expiration"}, "id": "long"},
]  # fmt: skip
WALK = {"rule": "patience", "start": 0, "step": 50, "minutes": 5, "most": 100, "entry": "give_up", "exit": "cross"}


def walk(**values: Any) -> Patience:
    return Patience.of({**WALK, **values})


class PatienceTest(unittest.TestCase):
    def test_the_first_limit_stands_as_long_as_every_other(self) -> None:
        patience = walk()
        self.assertEqual((patience.steps, patience.whole), (2, 900))
        self.assertEqual([patience.stood(60 * m) for m in (0, 5, 6, 10, 11, 15, 99)], [0, 0, 50, 50, 100, 100, 100])
        self.assertEqual([patience.stands(60 * m) for m in (0, 4, 5, 10, 99)], [0, 0, 50, 100, 100])
        self.assertEqual(patience.stood(None), 100, "all the time there is")

    def test_a_last_step_goes_no_further_than_it_may(self) -> None:
        self.assertEqual([walk(step=40).stood(60 * m) for m in (5, 10, 15, 20)], [0, 40, 80, 100])
        for still in (walk(step=0), walk(most=0), walk(start=80, most=20)):
            self.assertEqual((still.steps, still.whole, still.stood(10_000)), (0, 300, still.start))

    def test_a_limit_is_rounded_so_that_it_costs_no_more(self) -> None:
        contract = ContractKey.parse(f"MK30/{SHORT}")
        for contracts, lots, parts in ((2, 2, 61), (-2, 2, 61), (3, 1, 20)):
            # a third of a quantum more than whole ones
            legs, price = [OrderLeg("a", contract, contracts)], parts * PARTS + PARTS // 3
            limit = limit_of(legs, lots, [price])
            self.assertEqual(limit % (lots * PARTS), 0)
            self.assertLessEqual(limit, contracts * price)
            self.assertLess(contracts * price - limit, lots * PARTS)


class WorkedOrdersTest(unittest.TestCase):
    def both(self, document: dict[str, Any], timeline: Timeline, cash: Decimal = CASH) -> History:
        """Steps, after blocks said the same, also when cut anywhere and restored."""
        self.plan: Plan = make_plan(parse(document), timeline)
        end = len(timeline.times)
        steps, blocks = (run(self.plan, timeline, 0, end, cash) for run in (run_steps, run_blocks))
        self.assertEqual((bytes_of(steps), dump(steps.state)), (bytes_of(blocks), dump(blocks.state)))
        for cut in range(1, min(end, 12)):
            first = run_blocks(self.plan, timeline, 0, cut, cash)
            rest = run_blocks(self.plan, timeline, cut, end, cash, None, load(dump(first.state), "MK30"))
            self.assertEqual((bytes_of(first, rest), dump(rest.state)), (bytes_of(steps), dump(steps.state)), cut)
        return steps

    def history(self, *snapshots: tuple[str, str, str]) -> Timeline:
        return timeline_of(
            session_chains([{"at": at, "spot": 3100, SHORT: short, LONG: long} for at, short, long in snapshots])
        )

    def sheet(self, *orders: dict[str, Any], **parts: Any) -> dict[str, Any]:
        leave = [{"rule": "days_held", "days": 1, "time": "11:00"}]
        return whole({"legs": LEGS, "leave": leave, "orders": list(orders), **parts})

    ENTERS = (("2026-10-05 15:45", "6.00/6.20", "0.50/0.60"), ("2026-10-05 15:50", "6.00/6.20", "0.50/0.60"))

    def test_capital_is_needed_for_the_whole_while_its_parts_come(self) -> None:
        timeline = self.history(*self.ENTERS, ("2026-10-05 15:55", "6.00/6.20", "0.50/0.60"))
        plan = make_plan(parse(self.sheet({"rule": "leg_by_leg", "how": "sides", "rest": "undo"})), timeline)
        market, found = market_of(timeline), []
        for end in (1, 2, 3):
            state = run_steps(plan, timeline, 0, end, CASH).state
            found.append((len(state.trades), len(state.orders), capital.funds(market, end - 1, float(state.cash), state.trades, state.orders).needed))  # fmt: skip
        (no_trade, _, asked), (one, at_work, between), (_, done, held) = found
        self.assertEqual((no_trade, one, at_work, done), (0, 1, 1, 0))
        # the most that the spread can lose at expiration beyond what it is worth, whatever part of it is there
        self.assertAlmostEqual(between, held)
        self.assertAlmostEqual(asked, held)

    def test_what_is_undone_counts_neither_as_an_entry_nor_as_a_loss(self) -> None:
        never = "0.00/6.20"
        timeline = self.history(
            ("2026-10-05 15:45", "6.00/6.20", "0.50/0.60"), ("2026-10-05 15:50", never, "0.50/0.60"),
            ("2026-10-05 15:55", never, "0.50/0.60"), ("2026-10-05 16:00", "6.00/6.20", "0.40/0.50"),
            ("2026-10-05 16:05", "6.00/6.20", "0.40/0.50"), ("2026-10-05 16:10", "6.00/6.20", "0.40/0.50"),
            ("2026-10-05 16:15", "6.00/6.20", "0.40/0.50"),
        )  # fmt: skip
        enter = [
            {"rule": "decision_times", "weekdays": ["mon"], "time": "15:45"}, {"rule": "decision_times", "weekdays": ["mon"], "time": "16:05"},
            {"rule": "condition", "left": {"measure": "entries_today", "of": "all"}, "is": "below", "right": 1},
            {"rule": "condition", "left": {"measure": "losses_today", "of": "all"}, "is": "below", "right": 1},
        ]  # fmt: skip
        orders = [{"rule": "leg_by_leg", "how": "sides", "rest": "undo"}, {**WALK, "start": 100, "minutes": 5}]
        history = self.both(self.sheet(*orders, enter=enter), timeline)
        undone = history.closed[0]
        self.assertEqual(undone.rule, self.plan.working.by_leg.id if self.plan.working.by_leg else None)
        self.assertEqual(
            (undone.opened_at, undone.closed_at), (instant("2026-10-05 15:50"), instant("2026-10-05 16:00"))
        )
        self.assertLess(undone.pnl, 0)
        entered = [reason.at for reason in history.reasons if reason.kind == "entry"]
        self.assertEqual(entered, [instant("2026-10-05 15:45"), instant("2026-10-05 16:05")])
        self.assertEqual([leg.leg_id for leg in history.state.trades[0].legs], ["long", "short"])
        figures = report(self.plan, timeline, history, 0, len(timeline.times), CASH, 1).figures
        self.assertEqual(figures["trades_count"], 1, "it is a trade of the run, with what it cost")

    def test_a_part_that_stays_is_left_by_the_rules(self) -> None:
        never = "0.00/6.20"
        timeline = self.history(
            self.ENTERS[0], ("2026-10-05 15:50", never, "0.50/0.60"), ("2026-10-05 17:30", never, "0.50/0.60"),
            ("2026-10-06 11:00", never, "0.70/0.80"), ("2026-10-06 11:05", never, "0.70/0.80"),
        )  # fmt: skip
        history = self.both(self.sheet({"rule": "leg_by_leg", "how": "each", "rest": "keep"}), timeline)
        trade = history.closed[0]
        self.assertEqual([leg.leg_id for leg in trade.legs], ["long"])
        self.assertEqual((trade.lots, trade.closed_at, trade.pnl), (1, instant("2026-10-06 11:05"), Decimal("3.40")))

    def test_until_all_of_it_is_there_only_a_loss_leaves(self) -> None:
        leave = [{"rule": "debit_target", "percent": 5}, {"rule": "premium_stop", "percent": 80}]
        wide = "0.00/6.20"
        timeline = self.history(
            self.ENTERS[0], ("2026-10-05 15:50", wide, "0.50/0.60"), ("2026-10-05 15:55", wide, "0.90/1.00"),
            ("2026-10-05 16:00", wide, "0.05/0.10"), ("2026-10-05 16:05", wide, "0.05/0.10"),
        )  # fmt: skip
        history = self.both(self.sheet({"rule": "leg_by_leg", "how": "sides", "rest": "keep"}, leave=leave), timeline)
        trade = history.closed[0]
        # paid 0.60; at 0.90 the target of 5 % waits, at 0.075 in the middle seven eighths are lost
        stop = next(rule for rule in self.plan.strategy.leave if rule.kind == "premium_stop")
        self.assertEqual(
            (trade.rule, trade.left_at, trade.closed_at),
            (stop.id, instant("2026-10-05 16:00"), instant("2026-10-05 16:05")),
        )
        self.assertEqual(history.state.orders, ())

    def test_a_least_credit_is_asked_of_the_last_part(self) -> None:
        legs = [*LEGS, {"rule": "net_premium", "kind": "credit", "points": 5.3}]
        timeline = self.history(
            *self.ENTERS, ("2026-10-05 15:55", "5.80/6.00", "0.50/0.60"), ("2026-10-05 16:00", "5.90/6.10", "0.50/0.60"),
        )  # fmt: skip
        history = self.both(self.sheet({"rule": "leg_by_leg", "how": "sides", "rest": "keep"}, legs=legs), timeline)
        # 0.60 was paid for the long one: 5.80 would leave 5.20, 5.90 leaves 5.30
        sold = [entry.at for entry in history.entries if entry.contracts < 0]
        self.assertEqual(sold, [instant("2026-10-05 16:00")])

    def test_an_exit_is_carried_out_when_its_last_part_is_dealt(self) -> None:
        timeline = self.history(
            *self.ENTERS, ("2026-10-05 15:55", "6.00/6.20", "0.50/0.60"), ("2026-10-06 11:00", "5.00/5.20", "0.50/0.60"),
            ("2026-10-06 11:05", "5.00/5.20", "0.50/0.60"), ("2026-10-06 11:10", "5.00/5.20", "0.50/0.60"),
        )  # fmt: skip
        history = self.both(self.sheet({"rule": "leg_by_leg", "how": "sides", "rest": "keep"}), timeline)
        found = leavings(history, timeline, 1)
        self.assertEqual(
            [(item.decided_at, item.done_at) for item in found],
            [(instant("2026-10-06 11:00"), instant("2026-10-06 11:10"))],
        )

    def test_nights_are_no_patience(self) -> None:
        document = self.sheet(
            {**WALK, "start": 0, "step": 0, "minutes": 30, "exit": "wait"},
            leave=[{"rule": "days_held", "days": 0, "time": "17:25"}],
        )
        timeline = self.history(
            *self.ENTERS, ("2026-10-05 15:55", "6.30/6.40", "0.50/0.60"), ("2026-10-05 17:25", "5.00/5.20", "0.50/0.60"),
            ("2026-10-05 17:30", "5.00/5.20", "0.50/0.60"), ("2026-10-06 09:05", "5.00/5.20", "0.50/0.60"),
            ("2026-10-06 09:10", "4.60/4.70", "0.50/0.60"),
        )  # fmt: skip
        history = self.both(document, timeline)
        # at 17:25 the mid of the spread costs 4.55; 4.70 less 0.50 is the first below it
        self.assertEqual([trade.closed_at for trade in history.closed], [instant("2026-10-06 09:10")])
        decided = timeline.at_or_before(instant("2026-10-05 17:25"))
        self.assertEqual(timeline.traded_between(decided, decided + 2), 300)

    def test_where_a_session_is_one_snapshot_all_is_tried_on_it(self) -> None:
        for entry, opened in (("give_up", 0), ("cross", 1)):
            timeline = self.history(
                ("2026-10-05 17:30", "6.00/6.20", "0.50/0.60"), ("2026-10-06 17:30", "5.00/5.20", "0.50/0.60")
            )
            orders = [{"rule": "leg_by_leg", "how": "each", "rest": "undo"}, {**WALK, "most": 50, "entry": entry}]
            history = self.both(self.sheet(*orders, leave=[]), timeline)
            self.assertEqual([len(trade.legs) for trade in history.state.trades], [2] * opened, entry)
            lapsed = [reason.values["message"] for reason in history.reasons if reason.kind == "lapsed"]
            self.assertEqual(lapsed, ["its limit was not reached until the session ended"] * (1 - opened))

    def test_sizes_are_those_of_the_part_that_is_dealt(self) -> None:
        timeline = self.history(
            *self.ENTERS, *((f"2026-10-05 {at}", "6.00/6.20", "0.50/0.60") for at in ("15:55", "16:00", "16:05"))
        )
        timeline.sizes = lambda contract, at: (2, 2)
        document = self.sheet(
            {"rule": "leg_by_leg", "how": "sides", "rest": "keep"}, {"rule": "quoted_size", "policy": "split"}
        )
        document["entries"][0]["size"][0]["lots"] = 3
        history = self.both(document, timeline)
        dealt = [(entry.at, entry.contracts) for entry in history.entries if entry.kind == "premium"]
        at = [instant(f"2026-10-05 {time}") for time in ("15:50", "15:55", "16:00", "16:05")]
        self.assertEqual(dealt, list(zip(at, (2, 1, -2, -1), strict=True)))
        self.assertEqual(history.state.trades[0].lots, 3)

    def test_half_of_an_entry_in_whole_lots_is_no_incomplete_one(self) -> None:
        timeline = self.history(
            *self.ENTERS,
            ("2026-10-05 15:55", "6.00/6.20", "0.50/0.60"),
            ("2026-10-05 17:30", "6.00/6.20", "0.50/0.60"),
            ("2026-10-06 10:00", "6.00/6.20", "0.50/0.60"),
        )
        plan = make_plan(parse(self.sheet({"rule": "leg_by_leg", "how": "sides", "rest": "undo"})), timeline)
        state = run_steps(plan, timeline, 0, 1, CASH).state
        order = Order(**{**vars(state.orders[0]), **vars(state.orders[0].of_lots(4))})
        state = load(dump(type(state)(**{**vars(state), "orders": (order,)})), "MK30")
        prices = {"long": 12 * PARTS, "short": 120 * PARTS}
        for index, name, contracts in ((1, "long", 2), (2, "short", -2)):
            fill = Fill(
                order.id,
                int(timeline.times[index]),
                (prices[name],),
                Decimal(0),
                dealt=((name, contracts),),
                ended=index == 2,
            )
            self.assertEqual(fill_of(to_plain(fill)), fill)
            state = advance(plan, state, Observation(timeline, index), [fill]).state
        self.assertEqual(
            (state.trades[0].lots, [leg.contracts for leg in state.trades[0].legs], state.orders), (2, [2, -2], ())
        )

    def test_what_an_earlier_version_wrote_is_written_the_same(self) -> None:
        timeline = self.history(*self.ENTERS)
        order = run_steps(make_plan(parse(self.sheet()), timeline), timeline, 0, 1, CASH).state.orders[0]
        self.assertNotIn("turn_at", to_plain(order))
        self.assertNotIn("dealt", to_plain(Fill("1-open", 1, (), Decimal(0))))

    def test_steps_and_blocks_agree_on_the_demo_however_orders_are_worked(self) -> None:
        timeline = short_history()
        begin, end, parts, given_up = int(timeline.first[-30]), len(timeline.times), 0, 0
        for seed, (name, raw) in enumerate(list(variations().items())[1::2]):
            orders = [*raw["orders"], {"rule": "leg_by_leg", "how": ("sides", "each")[seed % 2], "rest": ("undo", "keep")[seed // 2 % 2]},
                      {**WALK, "entry": ("give_up", "cross", "wait")[seed % 3], "step": (25, 100)[seed % 2], "most": (40, 100)[seed % 2], "exit": ("cross", "wait")[seed // 3 % 2]}]  # fmt: skip
            plan = make_plan(parse({**raw, "orders": orders}), timeline)
            steps, blocks = (run(plan, timeline, begin, end, CASH) for run in (run_steps, run_blocks))
            self.assertEqual((bytes_of(steps), dump(steps.state)), (bytes_of(blocks), dump(blocks.state)), name)
            parts += sum("legs" in reason.values for reason in steps.reasons if reason.kind == "filled")
            given_up += sum(reason.kind == "lapsed" for reason in steps.reasons)
        self.assertGreater(parts, 20)
        self.assertGreater(given_up, 4)

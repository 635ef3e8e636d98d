"""Replay sessions: moving the clock, trading by hand, undoing, and what the rules say meanwhile."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from fractions import Fraction
from typing import Any

from config.tests.demo import DemoTestCase
from replay import services
from replay.life import actions, life, plan_of
from replay.models import ReplaySession
from strategies import services as strategies
from strell_core.engine.hand import lived
from strell_core.engine.ledger import Held, take
from strell_core.engine.plain import to_plain
from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_steps
from strell_core.engine.stored import dump
from strell_core.market.instruments import ContractKey
from strell_core.strategy.document import normalise, parse
from tests.engine.variations import variations


class ReplayTestCase(DemoTestCase):
    def setUp(self) -> None:
        super().setUp()
        self.run_ = self.finished_run()
        history = self.history()
        rows = [t for t in self.run_.trades.all() if not history.is_single[history.at_or_before(t.row["opened_at"])]]
        self.trade = rows[0]
        _, self.session = self.send("post", "/replays", {"run": self.run_.pk, "trade": self.trade.number})
        self.path = f"/replays/{self.session['id']}"

    def scene(self) -> dict[str, Any]:
        return self.send("get", self.path)[1]

    def move(self, to: str) -> dict[str, Any]:
        status, scene = self.send("post", f"{self.path}/move", {"to": to})
        self.assertEqual(status, 200, scene)
        return scene

    def order(self, contract: str, contracts: int) -> tuple[int, dict[str, Any]]:
        return self.send("post", f"{self.path}/orders", {"orders": [{"contract": contract, "contracts": contracts}]})


class FromTradeTest(ReplayTestCase):
    def test_it_starts_at_the_entry_with_the_position(self) -> None:
        scene = self.scene()
        row = self.trade.row
        self.assertEqual((scene["local"], scene["run_trade"]), (row["opened"], self.trade.number))
        legs = {leg["contract"]: leg for leg in scene["legs"]}
        for leg in row["legs"]:
            held = legs[f"MK30/{leg['expiration']}/{leg['right']}/{leg['strike']}"]
            self.assertEqual((held["contracts"], held["opened"]), (leg["contracts"], leg["opened"]))
        self.assertEqual(scene["account"]["costs"], 1.6)
        self.assertAlmostEqual(scene["account"]["cash"], 50_000 + row["credit"] - 1.6)

    def test_lived_to_the_exit_by_hand_it_earns_what_the_run_says(self) -> None:
        scene = self.move(self.trade.row["closed"])
        self.assertEqual(scene["local"], self.trade.row["closed"])
        status, scene = self.send("post", f"{self.path}/close")
        self.assertEqual(status, 200)
        self.assertEqual(scene["open_legs"], 0)
        self.assertAlmostEqual(scene["account"]["cash"], 50_000 + self.trade.row["pnl"], places=2)
        self.assertEqual(scene["account"]["pnl_mid"], scene["account"]["pnl_closable"])

    def test_the_rules_speak_when_the_run_left(self) -> None:
        self.move(self.trade.row["closed"])
        # the decision was on the snapshot before the fill
        scene = self.move("step-back")
        (here,) = scene["outlooks"]
        acting = [rule["number"] for rule in here["exits"] if rule["truth"] == "true"]
        self.assertIn(self.trade.row["sentence"], acting)

    def test_closable_is_never_better_than_mid(self) -> None:
        for _ in range(8):
            account = self.move("step")["account"]
            self.assertLessEqual(account["pnl_closable"], account["pnl_mid"])


class ClockTest(ReplayTestCase):
    def test_steps_forward_and_back_show_the_same(self) -> None:
        before = self.scene()
        after = self.move("step")
        self.assertEqual(after["at"] - before["at"], 300)
        again = self.move("step-back")
        for key in ("at", "chain", "account", "legs", "payoff", "outlooks"):
            self.assertEqual(again[key], before[key], key)

    def test_sessions_and_marks(self) -> None:
        start = self.scene()
        next_day = self.move("session")
        self.assertNotEqual(next_day["local"][:10], start["local"][:10])
        self.assertEqual(next_day["local"][11:], "09:05")
        self.assertEqual(self.move("session-back")["local"][:10], start["local"][:10])
        self.move(start["local"])
        left = self.move("next-mark")
        self.assertEqual(left["at"], next(m["at"] for m in left["bar"]["marks"] if m["kind"] == "exit"))
        self.assertEqual(self.move("previous-mark")["at"], start["at"])
        status, body = self.send("post", f"{self.path}/move", {"to": "previous-mark"})
        self.assertEqual((status, body["message"]), (422, "There is no earlier mark."))

    def test_dates_outside_and_nonsense_are_refused_and_the_clock_stays(self) -> None:
        before = self.scene()["at"]
        for to in ("2031-01-01T10:00", "1999-01-01T10:00", "soon", ""):
            self.assertEqual(self.send("post", f"{self.path}/move", {"to": to})[0], 422, to)
        self.assertEqual(self.scene()["at"], before)

    def test_the_ends_of_history_hold(self) -> None:
        self.assertTrue(self.move("99999999999")["is_last"])
        self.assertTrue(self.move("step")["is_last"])
        self.assertTrue(self.move("0")["is_first"])
        self.assertTrue(self.move("step-back")["is_first"])

    def test_the_past_knows_nothing_of_the_position(self) -> None:
        self.move("session-back")
        self.move("session-back")
        scene = self.scene()
        self.assertEqual((scene["open_legs"], scene["account"]["cash"], scene["payoff"]), (0, 50_000.0, None))


class TradeTest(ReplayTestCase):
    def chain_side(self, scene: dict[str, Any], right: str = "put", nth: int = 3) -> dict[str, Any]:
        return scene["chain"]["rows"][nth][right]

    def test_an_added_leg_pays_the_ask_and_shows_everywhere(self) -> None:
        before = self.scene()
        side = self.chain_side(before)
        status, after = self.order(side["contract"], 2)
        self.assertEqual(status, 200)
        held = next(leg for leg in after["legs"] if leg["contract"] == side["contract"])
        self.assertEqual((held["contracts"], held["opened"]), (2, side["ask"]))
        self.assertAlmostEqual(
            after["account"]["cash"], before["account"]["cash"] - 2 * side["ask"] * 50 - 1.6, places=2
        )
        self.assertEqual(
            next(r["put"]["held"] for r in after["chain"]["rows"] if r["put"]["contract"] == side["contract"]), 2
        )
        self.assertNotEqual(after["payoff"]["expiration"], before["payoff"]["expiration"])
        self.assertIsNotNone(after["undoes"])

    def test_undo_takes_it_back(self) -> None:
        before = self.scene()
        _, first = self.order(self.chain_side(before)["contract"], 1)
        status, after = self.send("post", f"{self.path}/undo", {"undoes": first["undoes"]})
        self.assertEqual((status, after["account"]), (200, before["account"]))
        self.assertEqual(self.send("post", f"{self.path}/undo", {"undoes": first["undoes"]})[0], 422)

    def test_of_two_undos_of_one_action_the_second_undoes_nothing_else(self) -> None:
        contract = self.chain_side(self.scene())["contract"]
        _, first = self.order(contract, 1)
        _, second = self.order(contract, 1)
        told = {"undoes": second["undoes"]}
        self.assertEqual(self.send("post", f"{self.path}/undo", told)[0], 200)
        status, answer = self.send("post", f"{self.path}/undo", told)
        self.assertEqual(status, 409)
        self.assertIn("since", answer["message"])
        self.assertEqual(self.scene()["undoes"], first["undoes"])

    def test_trading_in_the_past_sets_later_fills_aside_and_undo_brings_them_back(self) -> None:
        contract = self.chain_side(self.scene())["contract"]
        self.move("session")
        _, later = self.order(contract, 1)
        self.move("session-back")
        self.move("session-back")
        self.move(self.trade.row["opened"])
        _, changed = self.order(contract, -1)
        self.assertEqual(changed["aside"], 1)
        _, back = self.send("post", f"{self.path}/undo", {"undoes": changed["undoes"]})
        self.assertEqual(back["aside"], 0)
        scene = self.move(later["local"])
        self.assertEqual(scene["account"], later["account"])

    def test_orders_that_cannot_be(self) -> None:
        good = self.chain_side(self.scene())["contract"]
        cases = {
            ("2026-13-01/put/3000", 1): "not a date",
            ("3000 put", 1): "not a contract",
            ("2026-11-13/put/1", 1): "no contract",
            ("2031-11-14/put/3000", 1): "no contract",
            (good, 0): "between 1 and 10000",
            (good, 20_000): "between 1 and 10000",
        }
        before = self.scene()["account"]
        for (contract, contracts), words in cases.items():
            status, body = self.order(contract, contracts)
            self.assertEqual(status, 422, contract)
            self.assertIn(words, body["message"])
        self.assertEqual(self.order(good, 1.5)[0], 422)
        self.assertEqual(self.send("post", f"{self.path}/orders", {"orders": []})[0], 422)
        self.assertEqual(self.scene()["account"], before)

    def test_what_nobody_bids_for_cannot_be_sold(self) -> None:
        history = self.history()
        index = history.at_or_before(self.scene()["at"])
        view = history.view(index)
        expiration = view.expirations[2]
        part = view.slice(expiration, "put")
        worthless = int(part.strikes[(part.bid == 0) & (part.ask > 0)][0])
        status, body = self.order(ContractKey(expiration, "put", worthless, "MK30").code, -1)
        self.assertEqual(status, 422)
        self.assertIn("no price to sell", body["message"])

    def test_all_legs_or_none(self) -> None:
        good = self.chain_side(self.scene())["contract"]
        orders = [{"contract": good, "contracts": 1}, {"contract": "2026-11-13/put/1", "contracts": 1}]
        before = self.scene()["account"]
        self.assertEqual(self.send("post", f"{self.path}/orders", {"orders": orders})[0], 422)
        self.assertEqual(self.scene()["account"], before)


class ExpiryTest(ReplayTestCase):
    def test_a_position_held_to_the_end_settles_in_cash(self) -> None:
        expires = dt.date.fromisoformat(self.trade.row["expires"])
        history = self.history()
        scene = self.move(f"{expires}T17:30")
        self.assertEqual(scene["open_legs"], 0)
        self.assertTrue(all(leg["settled"] for leg in scene["legs"]))
        settled = int(history.settlement[history.session_index(expires)]) / 100
        owed = sum(
            max(0.0, (settled - leg["strike"]) * (1 if leg["right"] == "call" else -1))
            for leg in self.trade.row["legs"]
        )
        self.assertAlmostEqual(scene["account"]["cash"], 50_000 + self.trade.row["credit"] - 1.6 - owed * 50, places=2)
        status, body = self.send("post", f"{self.path}/close")
        self.assertEqual((status, body["message"]), (422, "There is no position to close."))


class SessionTest(ReplayTestCase):
    def test_note_and_name_are_kept(self) -> None:
        version = self.scene()["version"]
        self.send("patch", self.path, {"based_on": version, "note": "held too long", "name": "July jump"})
        scene = self.scene()
        self.assertEqual((scene["name"], scene["note"]), ("July jump", "held too long"))
        _, rows = self.send("get", f"/strategies/{self.strategy.pk}/replays")
        self.assertEqual([row["name"] for row in rows], ["July jump"])
        for body in ({"name": " "}, {"name": "x" * 81}, {"note": "x" * 20_001}):
            self.assertEqual(self.send("patch", self.path, {"based_on": scene["version"], **body})[0], 422)
        status, told = self.send("patch", self.path, {"based_on": version, "note": "from a page that was open before"})
        self.assertEqual(status, 409)
        self.assertIn("changed elsewhere", told["message"])
        self.assertEqual(self.scene()["note"], "held too long")

    def test_a_blank_session_at_a_date(self) -> None:
        body = {"strategy": self.strategy.pk, "at": "2026-11-04T10:00", "cash": 20_000}
        status, row = self.send("post", "/replays", body)
        self.assertEqual((status, row["open_legs"], row["cash"]), (200, 0, 20_000.0))
        self.assertIn("4 Nov 2026 10:00", row["shown"])
        for wrong in ({"at": "2031-01-01T10:00"}, {"cash": 3}, {"at": "x"}):
            self.assertEqual(self.send("post", "/replays", {**body, **wrong})[0], 422)
        self.assertEqual(self.send("post", "/replays", {"run": self.run_.pk, "trade": 9999})[0], 404)

    def test_delete_and_undo(self) -> None:
        self.assertEqual(self.send("delete", self.path)[0], 204)
        self.assertEqual(self.send("get", self.path)[0], 404)
        self.assertEqual(self.send("post", f"{self.path}/restore")[0], 200)
        self.assertEqual(self.send("get", self.path)[0], 200)

    def test_chain_of_another_expiration(self) -> None:
        other = self.scene()["chain"]["expirations"][-1]["date"]
        _, scene = self.send("get", f"{self.path}?expiration={other}")
        self.assertEqual(scene["chain"]["expiration"], other)
        self.assertEqual(self.send("get", f"{self.path}?expiration=never")[0], 422)


class RulesActTest(ReplayTestCase):
    """Rules advise, or act as far as the person lets them."""

    def let(self, acts: str) -> dict[str, Any]:
        status, scene = self.send("put", f"{self.path}/acts", {"acts": acts})
        self.assertEqual(status, 200, scene)
        return scene

    def test_let_leave_the_rules_do_what_the_run_did(self) -> None:
        self.move(self.trade.row["closed"])
        self.assertNotEqual(self.scene()["open_legs"], 0, "so far they only advise")
        scene = self.let("leave")
        self.assertEqual(scene["open_legs"], 0)
        self.assertAlmostEqual(scene["account"]["cash"], 50_000 + self.trade.row["pnl"], places=2)
        exits = [mark["text"] for mark in scene["bar"]["marks"] if mark["kind"] == "exit"]
        self.assertEqual(len(exits), 1, "what the run did then is not said twice")
        self.assertNotEqual(self.let("advise")["open_legs"], 0, "and take nothing back that a person did not")

    def test_a_hand_that_closes_is_not_overtaken_by_a_rule(self) -> None:
        self.let("leave")
        self.move("step")
        status, scene = self.send("post", f"{self.path}/close")
        self.assertEqual((status, scene["open_legs"]), (200, 0))
        self.assertEqual(self.move(self.trade.row["closed"])["open_legs"], 0)

    def test_what_rules_cannot_do(self) -> None:
        self.assertEqual(self.send("put", f"{self.path}/acts", {"acts": "win"})[0], 422)
        self.assertEqual(self.send("put", f"{self.path}/acts", {"acts": "live"}, client=self.other)[0], 404)

    def test_left_to_the_rules_a_session_is_a_backtest(self) -> None:
        history = self.history()
        begin = int(history.first[-20])
        for name, document in variations().items():
            with self.subTest(name):
                strategy = strategies.create(self.mara, document)
                at = history.calendar.local(int(history.times[begin])).strftime("%Y-%m-%dT%H:%M")
                session = services.blank(self.mara, strategy.pk, at, Decimal(50_000))
                services.let_act(self.mara, session.pk, "live")
                session = services.move(self.mara, session.pk, str(int(history.times[-1])))
                ours = life(session, history, []).history
                plan = make_plan(parse(document), history)
                tested = run_steps(plan, history, begin, len(history.times), Decimal("50000.00"))
                for part in ("reasons", "intents", "entries", "closed"):
                    self.assertEqual(to_plain(getattr(ours, part)), to_plain(getattr(tested, part)), part)
                self.assertEqual(dump(ours.state), dump(tested.state))

    def test_a_trailing_stop_knows_the_best_it_has_seen(self) -> None:
        # two short puts to a lot need more than there is
        allowed = {"rule": "capital", "entries": "allow", "below": "report"}
        rules = normalise({**variations()["uneven ratio with a trailing stop"], "limits": [allowed]})
        history = self.history()
        run = self.finished_run(strategies.create(self.mara, rules))
        left = {s["id"] for s in rules["leave"] if s["rule"] == "trailing_profit"}
        trade = next(t for t in run.trades.all() if t.row["rule"] in left)
        session = services.from_trade(self.mara, run.pk, trade.number)
        self.assertEqual(plan_of(session, history).acts, frozenset())
        session = services.move(self.mara, session.pk, str(trade.trade["left_at"]))
        _, scene = self.send("get", f"/replays/{session.pk}")
        rule = next(r for r in scene["outlooks"][0]["exits"] if "below the best P/L" in r["sentence"])
        self.assertEqual(rule["truth"], "true", rule)

    def test_actions_outside_the_stretch_do_not_happen(self) -> None:
        session = ReplaySession.objects.get(pk=self.session["id"])
        history = self.history()
        made = list(actions(session, services.active_fills(session)))
        self.assertEqual(len(made), 1)
        begin = history.at_or_before(made[0].at)
        none = lived(plan_of(session, history), history, begin + 1, begin + 3, Decimal(50_000), made)
        self.assertEqual((none.state.trades, none.state.cash), ((), Decimal(50_000)))


class AveragePriceTest(DemoTestCase):
    """Positions from fills, in exact fractions."""

    contract = ContractKey(dt.date(2026, 11, 13), "put", 3000, "MK30")

    def after(self, *fills: tuple[int, int]) -> Held:
        held = Held(self.contract, 0, Fraction(0))
        for contracts, price in fills:
            held = take(held, contracts, price)
        return held

    def test_adding_averages_closing_realises_and_turning_starts_anew(self) -> None:
        self.assertEqual(self.after((1, 100), (2, 130)).average, Fraction(120))
        part = self.after((3, 120), (-1, 150))
        self.assertEqual((part.contracts, part.average, part.realised), (2, 120, 30))
        short = self.after((-2, 100), (2, 80))
        self.assertEqual((short.contracts, short.realised), (0, 40))
        turned = self.after((1, 100), (-3, 90))
        self.assertEqual((turned.contracts, turned.average, turned.realised), (-2, 90, -10))

    def test_cash_moves_match_by_service(self) -> None:
        session = services.blank(self.mara, self.strategy.pk, "2026-11-04T10:00", Decimal(50_000))
        self.assertEqual(services.active_fills(session), [])

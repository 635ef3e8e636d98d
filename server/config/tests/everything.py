"""A person who has one of everything that a route can name."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from functools import cache
from typing import Any

from config.api import api
from desk import deployments
from desk.tests.desk import DeskTestCase
from market.models import ColumnMapping, Intake, Removal, Series, Underlying
from people.access import make_token
from replay import services as replays
from sweeps import services as sweeps


@cache
def schema() -> dict[str, Any]:
    """What the API says of itself; it takes its time to be written."""
    return dict(api.get_openapi_schema())


class WithEverything(DeskTestCase):
    """Mara, who operates the market, has one of each; Odil has nothing."""

    def setUp(self) -> None:
        super().setUp()
        self.run_ = self.finished_run()
        self.number = self.run_.trades.order_by("-number").first().number
        self.session = replays.from_trade(self.mara, self.run_.pk, self.number)
        self.legs = [(self.contract("call", 40), -1), (self.contract("call", 70), 1)]
        self.order = self.place(self.legs)
        self.pass_seconds(5)
        self.order.refresh_from_db()
        self.deployment = deployments.promote(self.mara, self.strategy.pk, self.account.pk, 1, {}, True)
        dials = [(["leave/0/percent"], "40, 60")]
        self.sweep = sweeps.ask(
            self.mara, self.strategy.pk, dt.date(2026, 9, 1), dt.date(2026, 10, 1), Decimal(50_000), dials
        )
        self.token = make_token(self.mara, "mine", "read", 3)[0]
        self.intake = Intake.objects.create(owner=self.mara, name="mine.csv", path="/nowhere", size=1, digest="x")
        row = Underlying.objects.get(symbol="MK30")
        self.removal = Removal.objects.create(
            owner=self.mara, underlying=row, start="2026-09-01", end="2026-09-02", chains=[]
        )
        ColumnMapping.objects.create(owner=self.mara, name="mine", mapping={})
        Series.objects.create(owner=self.mara, name="MINE")

    def ids(self) -> dict[str, Any]:
        """What a path or a query may name, by its name there."""
        return {
            "strategy_id": self.strategy.pk, "run_id": self.run_.pk, "session_id": self.session.pk, "number": self.number,
            "sentence_id": "s3", "account_id": self.account.pk, "order_id": self.order.pk, "holding_id": self.order.holding_id,
            "deployment_id": self.deployment.pk, "token_id": self.token.pk, "intake_id": self.intake.pk,
            "removal_id": self.removal.pk, "session": "2026-11-19", "symbol": "MK30", "date": "2026-10-05", "name": "mine",
            "currency": "EUR", "start": "2026-09-01", "end": "2026-09-02", "account": self.account.pk, "based_on": 1,
            "before": 1, "like": "entry", "deployment": self.deployment.pk, "order": self.order.pk, "strategy": self.strategy.pk, "run": self.run_.pk, "sweep_id": self.sweep.pk, "place": 0, "what": "trades", "text": "3100 call",
        }  # fmt: skip

    def bodies(self) -> dict[str, Any]:
        """A body that would do, for every operation that takes one."""
        legs = [{"contract": code, "ratio": ratio} for code, ratio in self.legs]
        ticket = {
            "legs": legs, "lots": 1, "type": "limit", "limit": "-1.00", "time_in_force": "day", "holding": None,
            "protection": {"target": {"value": 50, "unit": "percent"}, "stop": {"value": "100", "unit": "money"}}, "client_id": "",
        }  # fmt: skip
        document, day = self.strategy.latest.document, "2026-09-01"
        calendar = {
            "zone": "Europe/Berlin", "open": "09:00", "close": "17:30", "weekdays": [0, 1], "closed": [day],
            "short": [{"date": "2026-12-24", "close": "13:00"}],
        }  # fmt: skip
        structure = {"contract": self.legs[0][0], "contracts": -1}
        return {
            "sign_in": {"name": "nobody", "password": "nothing"}, "confirm_password": {"password": "nothing"},
            "make_token": {"name": "mine", "scope": "read", "days": 3},
            "what_if": {
                "at": None, "legs": [{**structure, "opened": 1.0}], "price": 5000.0, "when": None, "vol": 0.0,
                "by_expiration": {}, "moving": False, "greek": None,
            },
            "remove_sessions": {"start": day, "end": "2026-09-02"}, "preview_intake": {"mapping": {}, "terms": {}},
            "start_intake": {"mapping": {"kind": "chains", "columns": {"at": "a"}}, "terms": {"multiplier": 100}, "adds": False},
            "save_mapping": {"name": "mine", "mapping": {"kind": "chains", "columns": {}}},
            "set_dividends": [{"date": day, "amount": 1.0}], "copy_data": {"symbol": "MINE"},
            "change_terms": {
                "start": day, "multiplier": 10, "american": False, "settles": "close", "rate": 0.02, "currency": "EUR",
                "calendar": "XNYS", "ticks": [{"start": "0", "step": "0.05"}],
            },
            "keep_calendar": {**calendar, "based_on": None}, "remove_fact": {"date": day, "what": ""},
            "create_strategy": {"document": document}, "revise_strategy": {"based_on": 1, "document": document},
            "strategy_from_legs": {"symbol": "MK30", "at": None, "name": "mine", "legs": [structure]}, "check_text": {"text": "x"},
            "hold_back": {"since": "2026-11-02"},
            "describe_revision": {"note": "as it was"},
            "describe_run": {"name": "mine", "note": "", "tags": ["one"], "archived": False, "baseline": True},
            "ask_run": {"start": day, "end": "2026-10-01", "cash": "50000", "method": "blocks"},
            "ask_sweep": {
                "start": day, "end": "2026-10-01", "cash": "50000", "drawn": 2,
                "dials": [{"paths": ["leave/0/percent"], "text": "40, 50, 60"}],
            },
            "start_replay": {"strategy": self.strategy.pk, "at": None, "cash": "50000"}, "move_replay": {"to": "step"},
            "let_replay_rules_act": {"acts": "live"}, "undo_replay": {"undoes": 1}, "trade_replay": {"orders": [structure]},
            "describe_replay": {"based_on": "0123456789ab", "name": "mine", "note": "now"}, "run_clock": {"rate": 1}, "jump_clock": {"to": "17:00"},
            "hush_clock": {"quiet": False}, "open_account": {"name": "B", "kind": "paper", "symbol": "MK30", "cash": "50000"},
            "set_limits": {"lots": 1, "notional": "1000000", "orders_a_minute": 30, "day_loss": "1000", "collar": 60},
            "preview_ticket": ticket, "place_order": ticket, "change_order": {"limit": "-1.10"},
            "protect_position": {"target": {"value": 50, "unit": "percent"}, "stop": None},
            "close_position": {"lots": 1, "type": "limit", "limit": "1.00", "client_id": ""},
            "halt": {"flatten": False, "account": self.account.pk, "because": "tried"},
            "promote": {"account": self.account.pk, "size": 1, "limits": {"lots": 1}, "looked_at": True},
            "play_fault": {"kind": "delay", "count": 1},
        }  # fmt: skip

"""Load the demo: a user, the scenario's data, strategies with runs and a replay session."""

from __future__ import annotations

import time
from decimal import Decimal
from pathlib import Path
from typing import Any

from django.conf import settings
from django.contrib.auth.models import User
from django.core.management import call_command
from django.core.management.base import CommandParser

from config.process import ProcessCommand
from demo.load import Progress, load_scenario, load_singles, open_singles
from desk import deployments, leader, services
from desk.models import Account
from desk.process import Desk
from desk.tickets import Ticket
from market.models import Underlying, Venue
from market.timelines import timeline
from practice_exchange.exchange import Exchange
from replay import services as replays
from runs import services as runs
from runs import work as run_work
from runs.models import Run
from strategies import services as strategies
from strategies.models import Strategy
from strell_core.formats.strategies import from_text
from strell_core.market.instruments import ContractKey
from strell_core.scenario.generator import Settings
from strell_core.scenario.single import NAMES
from sweeps import services as sweeps
from venue import clock
from venue.live import live

EXAMPLES = Path(settings.PROJECT) / "docs" / "strategies"
SINGLE_SESSIONS, SINGLE_INTRADAY = 504, 60
NAME, PASSWORD = "demo", "harbour-lantern"


class Command(ProcessCommand):
    help = "Bring the database up to date and load the demo scenario (does nothing when it is already there)."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("--years", type=float, help="a larger scenario: years of history")
        parser.add_argument("--every", choices=["1m", "5m"], default="5m", help="step of the intraday sessions")
        parser.add_argument("--intraday", type=int, help="intraday sessions (default 120; all with --years)")
        parser.add_argument("--closings", type=int, default=SINGLE_SESSIONS, help="sessions of the stocks and the fund")
        parser.add_argument("--processes", type=int, default=2)

    def handle(self, *args: Any, **options: Any) -> None:
        # here and not before, for a start of Python with everything loaded is most of what a second start takes
        call_command("migrate", verbosity=0)
        user = User.objects.filter(username=NAME).first() or User.objects.create_user(NAME, password=PASSWORD)
        if not Underlying.objects.exclude(data_digest="").filter(symbol="MK30").exists() or options["years"]:
            self._data(options)
        if not Underlying.objects.filter(symbol=NAMES[0].symbol).exists():
            self._others(options)
        open_singles(Settings())
        if not user.is_staff:
            # who starts the demo operates its practice exchange
            user.is_staff = True
            user.save(update_fields=["is_staff"])
        if not Strategy.objects.filter(owner=user).exists():
            self._work(user)
        if not Account.objects.filter(owner=user).exists():
            self._desk(user)
        self.stdout.write("The demo is loaded.")

    def _data(self, options: dict[str, Any]) -> None:
        chosen = Settings(step=60 if options["every"] == "1m" else 300)
        if options["years"]:
            sessions = round(options["years"] * 250)
            chosen = Settings(sessions=sessions, intraday=options["intraday"] or sessions, step=chosen.step)
        self.stdout.write("Generating the Marrowick Exchange:")
        load_scenario(chosen, self._progress(), options["processes"])
        self.stdout.write("Arranging quotes for fast reading …")
        self.stdout.flush()
        timeline("MK30")

    def _others(self, options: dict[str, Any]) -> None:
        """The stocks and the fund: two years of closes, the last sixty sessions as they traded."""
        intraday = min(SINGLE_INTRADAY, options["closings"])
        load_singles(Settings(), options["closings"], self._progress(), options["processes"], intraday)
        for name in NAMES:
            timeline(name.symbol)

    def _progress(self) -> Progress:
        began, shown = time.monotonic(), 0.0

        def progress(what: str, done: int, total: int) -> None:
            nonlocal shown
            if time.monotonic() - shown > 1 or done == total:
                shown = time.monotonic()
                gone = shown - began
                left = gone / done * (total - done)
                self.stdout.write(f"  {done:4d} of {total} {what}, {gone:.0f} s gone, about {left:.0f} s left")
                self.stdout.flush()

        return progress

    def _work(self, user: User) -> None:
        """Strategies, finished runs and a replay session, made by the same services a person uses."""
        history = timeline("MK30")
        made = [strategies.create(user, from_text(path.read_text())) for path in sorted(EXAMPLES.glob("*.yaml"))]
        for strategy in reversed(made):
            dates = timeline(strategy.underlying.symbol).dates
            run = runs.ask(user, strategy.pk, dates[0], dates[-1], Decimal(50_000), "blocks")
            run_work.carry_out(run.pk)
        harbour = next(s for s in made if s.latest.document["name"] == "Harbour strangle")
        # the worker computes it when everything is started
        deltas = [f"entries/0/legs/{leg}/strike/delta" for leg in (0, 1)]
        dials = [(deltas, "0.12 to 0.28 by 0.04"), (["leave/0/percent"], "30 to 70 by 10")]
        sweeps.ask(user, harbour.pk, history.dates[0], history.dates[-1], Decimal(50_000), dials)
        done = Run.objects.get(strategy=harbour, number=1)
        intraday = [t for t in done.trades.all() if not history.is_single[history.at_or_before(t.row["opened_at"])]]
        worst = min(intraday, key=lambda trade: trade.row["pnl"])
        session = replays.from_trade(user, done.pk, worst.number)
        replays.describe(
            user, session.pk, replays.version(session), "The loss limit, lived through",
            "Both sides looked calm for two sessions. The move came in one afternoon; by the time the loss limit "
            "was reached the call had already given back its share.",
        )  # fmt: skip

    def _desk(self, user: User) -> None:
        """Accounts with work in progress, and an armed deployment: the first hour of today, played quickly."""
        exchange, desk = Exchange("MK30"), Desk(leader.new_epoch())
        exchange.tick()
        paper = services.open_account(user, "Paper A", "paper", "MK30", Decimal(50_000))
        services.open_account(user, "Practice", "practice", "MK30", Decimal(100_000))
        condor = next(s for s in Strategy.objects.filter(owner=user) if s.latest.document["name"] == "Tide condor")
        made = deployments.promote(user, condor.pk, paper.pk, 1, {}, True)
        deployments.arm(user, made.pk)
        self._play(exchange, desk, 20)
        near, far = self._call(30), self._call(60)
        spread = Ticket(
            [(near, -1), (far, 1)], 2, "market", protection={
                "target": {"value": "50", "unit": "percent"}, "stop": {"value": "600", "unit": "money"},
            },
        )  # fmt: skip
        services.place(paper, spread)
        desk.round()
        self._play(exchange, desk, 5)
        services.place(paper, Ticket([(self._put(-40), -1), (self._put(-70), 1)], 1, "limit", "-9.00"))
        desk.round()
        self._play(exchange, desk, 20)
        clock.run(user, "MK30", 5)

    @staticmethod
    def _play(exchange: Exchange, desk: Desk, minutes: int) -> None:
        venue = clock.venue_of("MK30")
        Venue.objects.filter(pk=venue.pk).update(jump_to=venue.reached + 60 * minutes)
        while exchange.tick():
            desk.round()
        desk.round()

    @staticmethod
    def _near(right: str, away: int) -> str:
        now = live("MK30")
        date = min(now.chain.expirations, key=lambda day: abs((day - now.session).days - 8))
        strikes = [c.strike for c in now.chain.contracts if c.expiration == date and c.right == right]
        strike = min(strikes, key=lambda strike: abs(strike - now.spot - away))
        return ContractKey(date, right, strike, now.row.symbol).code

    def _call(self, away: int) -> str:
        return self._near("call", away)

    def _put(self, away: int) -> str:
        return self._near("put", away)

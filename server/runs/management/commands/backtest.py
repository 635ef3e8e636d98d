"""Run a strategy file over recorded history and print its figures, without the web."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from config.errors import Refused
from market.own import market_for, plan_for
from market.timelines import timeline
from runs.services import check_request
from strell_core.engine.run import run_blocks
from strell_core.formats.strategies import StrategyFileError, from_text
from strell_core.results.figures import FIGURES, text
from strell_core.results.report import report
from strell_core.strategy.document import clock_of, parse

SHOWN = (
    "trades_count", "final_equity", "cagr", "return_on_capital", "capital_most", "max_drawdown", "mar", "sharpe", "sortino", "trades_win_rate",
    "trades_expectancy", "trades_profit_factor", "trades_worst", "costs", "time_in_market", "intraday_count",
    "intraday_expectancy", "closing_count", "closing_expectancy", "single_sessions", "sessions", "open_trades",
    "exits_delayed", "exits_over_night", "night_cost", "trades_held", "awaiting_value", "capital_limited", "capital_refused", "capital_calls", "ruined_on", "beyond_size", "entries_unfilled",
)  # fmt: skip


class Command(BaseCommand):
    help = "Run a strategy file (YAML) and print its figures."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("file", type=Path)
        parser.add_argument("--start", type=dt.date.fromisoformat)
        parser.add_argument("--end", type=dt.date.fromisoformat)
        parser.add_argument("--cash", type=Decimal, default=Decimal(50_000))

    def handle(self, *args: Any, **options: Any) -> None:
        try:
            document = from_text(options["file"].read_text())
            history = timeline(clock_of(document))
            start, end = options["start"] or history.dates[0], options["end"] or history.dates[-1]
            check_request(history, start, end, options["cash"], "blocks")
        except OSError as error:
            raise CommandError(f"{options['file']} cannot be read: {error.strerror}") from error
        except StrategyFileError as error:
            raise CommandError(
                "\n".join(f"{options['file']}, line {n}: {text}" for n, _, text in error.problems)
            ) from error
        except Refused as error:
            raise CommandError(error.message) from error
        whole = market_for(document, None)
        try:
            plan = plan_for(parse(document), whole)
        except Refused as error:
            raise CommandError(error.message) from error
        begin, stop = history.span(start, end)
        result = run_blocks(plan, whole, begin, stop, options["cash"], until_ruin=True)
        figures = report(plan, whole, result, begin, stop, options["cash"], seed=1).figures
        self.stdout.write(f"{document['name']} on {clock_of(document)}, {start} to {end}")
        for name in SHOWN:
            self.stdout.write(f"  {FIGURES[name].title:26s}{text(name, figures[name])}")

"""Run a strategy file over recorded history and print its figures, without the web."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from config.errors import Refused
from market.timelines import timeline
from runs.services import check_request
from strell_core.engine.plan import make_plan
from strell_core.engine.run import run_blocks
from strell_core.formats.strategies import StrategyFileError, from_text
from strell_core.results.report import report
from strell_core.strategy.document import parse

SHOWN = (
    ("trades_count", "trades", "{:d}"), ("final_equity", "final equity", "{:,.2f}"), ("cagr", "CAGR", "{:+.2%}"),
    ("max_drawdown", "drawdown", "{:.2%}"), ("mar", "MAR", "{:.2f}"), ("sharpe", "Sharpe", "{:.2f}"),
    ("sortino", "Sortino", "{:.2f}"), ("trades_win_rate", "won", "{:.1%}"), ("trades_expectancy", "a trade", "{:+,.2f}"),
    ("trades_profit_factor", "profit factor", "{:.2f}"), ("trades_worst", "worst trade", "{:,.2f}"),
    ("costs", "costs", "{:,.2f}"), ("time_in_market", "in the market", "{:.0%}"),
    ("single_sessions", "single-snapshot sessions", "{:d}"), ("sessions", "sessions", "{:d}"),
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
            history = timeline(document["underlying"])
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
        plan = make_plan(parse(document), history)
        begin, stop = history.span(start, end)
        result = run_blocks(plan, history, begin, stop, options["cash"])
        figures = report(plan, history, result, begin, stop, options["cash"], seed=1).figures
        self.stdout.write(f"{document['name']} on {document['underlying']}, {start} to {end}")
        for key, label, form in SHOWN:
            value = figures[key]
            self.stdout.write(f"  {label:26s}{'none' if value is None else form.format(value)}")

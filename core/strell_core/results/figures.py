"""Figures of a run, each declared once: report, API, pages and exports read them from here."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from functools import cached_property
from typing import Any, Literal

import numpy as np

from strell_core.engine.run import History
from strell_core.engine.settlement import expired
from strell_core.market.market import Market
from strell_core.market.timeline import Timeline
from strell_core.results import again, bootstrap, holding, metrics
from strell_core.results.delayed import Night, delayed, unfilled
from strell_core.results.equity import EquityCurve

Kind = Literal["money", "share", "ratio", "count", "date", "flag"]
"""What a value is: money, a share of one, a plain ratio, a whole number, a day, yes or no."""


@dataclass(frozen=True)
class Brief:
    """What the figures of a variant are made of: a run's curve, what its trades brought, and where it began."""

    timeline: Timeline
    curve: EquityCurve
    start: float
    pnl: metrics.Floats
    """Of every closed trade, net, in money."""
    capital: Sequence[float]
    """Needed at every session's end with an open trade, money."""
    open_trades: int
    """Left at the end."""
    ruined_at: int | None
    """When all equity was lost, and the run ended."""

    @cached_property
    def dates(self) -> list[dt.date]:
        return [self.timeline.dates[s] for s in self.curve.sessions.tolist()]

    @property
    def sessions(self) -> int:
        return len(self.curve.sessions)

    @cached_property
    def trades(self) -> metrics.TradeFigures:
        return metrics.figures_of_pnl(self.pnl)

    @cached_property
    def daily(self) -> metrics.Floats:
        return metrics.returns(self.curve.equity, self.start)

    @cached_property
    def fall(self) -> metrics.Drawdown:
        return metrics.max_drawdown(self.curve.equity, self.start)

    @cached_property
    def growth(self) -> float | None:
        return metrics.cagr(self.curve.equity, self.start)

    @cached_property
    def moves(self) -> metrics.Floats:
        """Change of equity by session, in money."""
        return np.diff(self.curve.equity, prepend=self.start)


@dataclass(frozen=True)
class Finished(Brief):
    """What all figures of a run are made of."""

    history: History
    credits: Sequence[Decimal]
    """Opening premium of every closed trade in money, debits negative; 0 of those that held units, of whose P/L no share of a
    premium says anything."""
    seed: int
    limited: bool = True
    """Whether entries that need more capital than is free were refused."""
    nights: Sequence[Night] = ()
    """Exits that waited for the next session."""
    waits: int = 0
    """Trades open at the end with a leg that has come to its settlement, whose value is not recorded."""

    @classmethod
    def of(
        cls, market: Market, history: History, curve: EquityCurve, start: float, credits: Sequence[Decimal],
        seed: int, limited: bool = True, nights: Sequence[Night] = (),
    ) -> Finished:  # fmt: skip
        timeline = market.main
        last = int(timeline.times[timeline.first[int(curve.sessions[-1]) + 1] - 1]) if len(curve.sessions) else 0
        return cls(
            timeline, curve, start, np.array([float(trade.pnl) for trade in history.closed]),
            [need.capital for need in history.needs], len(history.state.trades), history.ruined_at, history, credits,
            seed, limited, nights,
            sum(
                any(expired(market.on_clock(trade.symbol), leg.contract, last) for leg in trade.legs)
                for trade in history.state.trades
            ),
        )  # fmt: skip

    @cached_property
    def trades(self) -> metrics.TradeFigures:
        return metrics.trade_figures([trade.pnl for trade in self.history.closed], self.credits)

    @cached_property
    def by_kind(self) -> dict[bool, metrics.TradeFigures]:
        """Trades decided in sessions with a single snapshot (true), and in others: a rule for 10:00 that is decided at
        a close is another rule."""
        found: dict[bool, tuple[list[Decimal], list[Decimal]]] = {True: ([], []), False: ([], [])}
        for trade, credit in zip(self.history.closed, self.credits, strict=True):
            pnl, credits = found[bool(self.timeline.is_single[self.timeline.at_or_before(trade.decided_at)])]
            pnl.append(trade.pnl)
            credits.append(credit)
        return {single: metrics.trade_figures(*both) for single, both in found.items()}

    @cached_property
    def holding(self) -> metrics.Floats:
        """The same money in the clock's underlying, by session."""
        return holding.by_session(self.timeline, self.curve.sessions, self.start)

    @cached_property
    def holding_daily(self) -> metrics.Floats:
        return metrics.returns(self.holding, self.start)

    @cached_property
    def riskless(self) -> metrics.Floats:
        return holding.riskless(self.timeline, self.curve.sessions)

    @cached_property
    def flat(self) -> tuple[int, int, int]:
        return metrics.flat_stretch(self.curve.equity, self.start)

    def day(self, place: int) -> str | None:
        return self.dates[place].isoformat() if self.dates else None


@dataclass(frozen=True)
class Figure:
    """One number of a run: what it is called, what it is, how it is made."""

    id: str
    title: str
    kind: Kind
    explains: str
    """Its definition, with the source of its formula."""
    of: Callable[[Finished], Any] = field(repr=False)
    may_lack: bool = False
    """Whether there are runs in which it has no value."""
    over_days: Callable[[again.Days], metrics.Floats] | None = field(default=None, repr=False)
    """How it is made of daily returns drawn again."""
    over_trades: Callable[[again.Trades], metrics.Floats] | None = field(default=None, repr=False)
    """How it is made of trades drawn again."""

    def value(self, run: Finished) -> Any:
        """Its value, money in whole cents; ``None``: it has none."""
        found = self.of(run)
        return round(found, 2) if self.kind == "money" and found is not None else found


def _money(values: Sequence[Decimal]) -> float:
    return float(sum(values, Decimal(0)))


def _interest(run: Finished) -> float | None:
    found = [entry.amount for entry in run.history.entries if entry.kind == "interest"]
    return _money(found) if found else None


def _mar(run: Brief) -> float | None:
    return run.growth / -run.fall.depth if run.growth is not None and run.fall.depth < 0 else None


def _fall_sessions(run: Finished) -> int:
    recovered = run.fall.recovered
    return (recovered if recovered is not None else run.sessions - 1) - run.fall.peak


def _worst_day(run: Finished) -> int:
    return int(np.argmin(run.moves)) if run.sessions else 0


def _exits_delayed(run: Finished) -> int:
    return len(delayed(run.history, run.timeline, int(run.curve.sessions[-1]))) if run.sessions else 0


def _days_held(run: Finished) -> float | None:
    held = [trade.closed_at - trade.opened_at for trade in run.history.closed]
    return sum(held) / len(held) / 86_400 if held else None


def _capital_most(run: Brief) -> float | None:
    return max(run.capital, default=None)


def _capital_average(run: Finished) -> float | None:
    return sum(run.capital) / len(run.capital) if run.capital else None


def _worst_number(run: Finished) -> int | None:
    return min(run.history.closed, key=lambda trade: trade.pnl).number if run.history.closed else None


def _return_on_capital(run: Brief) -> float | None:
    most = _capital_most(run)
    if not most or not run.sessions:
        return None
    made = float((run.curve.equity[-1] - run.start) / most * metrics.SESSIONS_A_YEAR / run.sessions)
    # who lost more than the capital put up more of it on the way
    return made if made >= -1 else None


def _ruined_on(run: Brief) -> str | None:
    return None if run.ruined_at is None else run.timeline.date_at(run.ruined_at).isoformat()


FIGURES: dict[str, Figure] = {
    figure.id: figure
    for figure in (
        Figure("trades_count", "Trades", "count", "Trades that were closed.", lambda run: run.trades.count),
        Figure("trades_win_rate", "Won", "share", "Closed trades with a net profit, of all closed trades.", lambda run: run.trades.win_rate, True, over_trades=again.win_rates),
        Figure("trades_average_win", "Average win", "money", "Mean net P/L of the trades that won.", lambda run: run.trades.average_win, True, over_trades=again.average_wins),
        Figure("trades_average_loss", "Average loss", "money", "Mean net P/L of the trades that lost.", lambda run: run.trades.average_loss, True, over_trades=again.average_losses),
        Figure("trades_expectancy", "A trade", "money", "Mean net P/L of all closed trades.", lambda run: run.trades.expectancy, True, over_trades=again.expectancies),
        Figure("trades_profit_factor", "Profit factor", "ratio", "Sum of the wins divided by the sum of the losses.", lambda run: run.trades.profit_factor, True, over_trades=again.profit_factors),
        Figure("trades_credit_kept", "Credit kept", "share", "Net P/L of trades that took a credit, as a share of the credit they took; those that held units aside.", lambda run: run.trades.credit_kept, True, over_trades=again.credits_kept),
        Figure("trades_worst", "Worst trade", "money", "Lowest net P/L of a closed trade.", lambda run: run.trades.worst, True),
        Figure("trades_worst_number", "Number of the worst", "count", "Number of the trade with the lowest net P/L, the first of several.", _worst_number, True),
        Figure("intraday_count", "Trades, intraday", "count", "Closed trades that were decided in sessions with several snapshots.", lambda run: run.by_kind[False].count, True),
        Figure("intraday_win_rate", "Won, intraday", "share", "Of these, those with a net profit.", lambda run: run.by_kind[False].win_rate, True),
        Figure("intraday_expectancy", "A trade, intraday", "money", "Their mean net P/L.", lambda run: run.by_kind[False].expectancy, True),
        Figure("intraday_worst", "Worst, intraday", "money", "The lowest net P/L of them.", lambda run: run.by_kind[False].worst, True),
        Figure("closing_count", "Trades, closing prices", "count", "Closed trades that were decided in sessions with a single snapshot, whatever their sheet's time.", lambda run: run.by_kind[True].count, True),
        Figure("closing_win_rate", "Won, closing prices", "share", "Of these, those with a net profit.", lambda run: run.by_kind[True].win_rate, True),
        Figure("closing_expectancy", "A trade, closing prices", "money", "Their mean net P/L.", lambda run: run.by_kind[True].expectancy, True),
        Figure("closing_worst", "Worst, closing prices", "money", "The lowest net P/L of them.", lambda run: run.by_kind[True].worst, True),
        Figure("start_equity", "Starting cash", "money", "Cash the run began with.", lambda run: run.start),
        Figure("final_equity", "Final equity", "money", "Cash plus open trades at mid, at the end.", lambda run: float(run.curve.equity[-1]) if run.sessions else run.start, over_days=again.final_equities),
        Figure("cagr", "CAGR", "share", "Compound growth a year: (final ÷ starting equity)^(252 ÷ sessions) - 1; none when all was lost.", lambda run: run.growth, True, over_days=again.growths),
        Figure("capital_most", "Capital, most", "money", "Most capital that open trades needed at the end of a session, by the strategy-based rules.", _capital_most, True),
        Figure("return_on_capital", "Return on capital", "share", "P/L a year of 252 sessions as a share of the most capital that was needed: what CAGR is to cash that was only typed in; none where more than that capital was lost in a year, for then more was put up on the way.", _return_on_capital, True),
        Figure("capital_average", "Capital, average", "money", "Mean capital that open trades needed at the ends of the sessions with an open trade.", _capital_average, True),
        Figure("max_drawdown", "Drawdown", "share", "Deepest fall of equity from its highest session close so far.", lambda run: run.fall.depth, over_days=again.falls),
        Figure("drawdown_from", "Drawdown from", "date", "Session of the peak before the deepest fall.", lambda run: run.day(run.fall.peak), True),
        Figure("drawdown_to", "Drawdown to", "date", "Session of the deepest fall.", lambda run: run.day(run.fall.trough), True),
        Figure("drawdown_sessions", "Length of the drawdown", "count", "Sessions from the peak until it was reached again, or until the end.", _fall_sessions),
        Figure("drawdown_recovered", "Recovered", "flag", "Whether the peak before the deepest fall was reached again.", lambda run: run.fall.recovered is not None),
        Figure("mar", "MAR", "ratio", "CAGR divided by the drawdown.", _mar, True, over_days=again.mars),
        Figure("calmar", "Calmar", "ratio", "CAGR divided by the drawdown of the last 36 months, 756 sessions (T. Young, 1991); none in a shorter run.", lambda run: metrics.calmar(run.curve.equity, run.start), True),
        Figure("sharpe", "Sharpe", "ratio", "√252 × mean ÷ standard deviation (n - 1) of daily returns, no riskless rate (W. Sharpe, 1994).", lambda run: metrics.sharpe(run.daily), True, over_days=again.sharpes),
        Figure("sharpe_excess", "Sharpe in excess", "ratio", "The same of daily returns less what the money market brought on these days, by the shortest interest known then (W. Sharpe, 1994): what a strategy brings beyond leaving the cash alone. Cash earns interest in a run where the sheet says so.", lambda run: metrics.sharpe(run.daily - run.riskless), True),
        Figure("money_market", "Money market", "share", "What cash would have earned a year of 252 sessions by the shortest interest known at each session.", lambda run: metrics.cagr((1 + run.riskless).cumprod(), 1.0), True),
        Figure("holding_cagr", "CAGR of holding the underlying", "share", "CAGR of the same cash in the underlying from the first snapshot on: splits followed, dividends reinvested at the price of the session they go ex in; of an index its price alone.", lambda run: metrics.cagr(run.holding, run.start), True),
        Figure("holding_drawdown", "Drawdown of holding the underlying", "share", "The deepest fall of that holding from its highest session close so far.", lambda run: metrics.max_drawdown(run.holding, run.start).depth if run.sessions else None, True),
        Figure("beta", "Beta", "ratio", "Slope of daily returns on those of holding the underlying, by least squares (W. Sharpe, 1964): by what part of a move of it equity moves with it.", lambda run: holding.beta(run.daily, run.holding_daily), True),
        Figure("correlation", "Correlation", "ratio", "Pearson's correlation of daily returns with those of holding the underlying.", lambda run: holding.correlation(run.daily, run.holding_daily), True),
        Figure("sortino", "Sortino", "ratio", "252 × mean daily return ÷ downside deviation a year, target 0 (F. Sortino and R. van der Meer, 1991).", lambda run: metrics.sortino(run.daily), True, over_days=again.sortinos),
        Figure("trades_held", "Days held", "ratio", "Mean calendar days from a closed trade's first fill to its end.", _days_held, True),
        Figure("time_in_market", "In the market", "share", "Sessions in which a position was held, those in which it ended included.", lambda run: float(run.curve.in_market.mean()) if run.sessions else 0.0),
        Figure("longest_flat", "Longest without a new high", "count", "Most sessions in a row without a new high of equity.", lambda run: run.flat[0]),
        Figure("flat_from", "Without a new high from", "date", "First session of the longest stretch without a new high.", lambda run: run.day(run.flat[1]) if run.flat[0] else None, True),
        Figure("flat_to", "Without a new high to", "date", "Its last session.", lambda run: run.day(run.flat[2]) if run.flat[0] else None, True),
        Figure("worst_day", "Worst day", "money", "Largest loss of equity from one session close to the next.", lambda run: float(run.moves[_worst_day(run)]) if run.sessions else 0.0),
        Figure("worst_day_date", "Day of it", "date", "Session of the worst day.", lambda run: run.day(_worst_day(run)), True),
        Figure("daily_skew", "Skew of daily P/L", "ratio", "Third moment of the changes of equity around their mean ÷ standard deviation³: below zero where large days are losses.", lambda run: metrics.skewness(run.moves), True),
        Figure("daily_tail", "Mean of the worst days", "money", "Mean change of equity in the worst 5 % of sessions (expected shortfall).", lambda run: metrics.tail_mean(run.moves), True),
        Figure("interest", "Interest", "money", "What cash earned, less what debt cost, where the sheet has interest on cash: part of equity, of no trade.", _interest, True),
        Figure("costs", "Costs", "money", "Commissions of closed trades.", lambda run: _money([t.costs for t in run.history.closed])),
        Figure("credit_taken", "Credit taken", "money", "Sum of the credits of closed trades, those that held units aside.", lambda run: _money([c for c in run.credits if c > 0])),
        Figure("sessions", "Sessions", "count", "Sessions the run looked at.", lambda run: run.sessions),
        Figure("single_sessions", "Single-snapshot sessions", "count", "Sessions with one snapshot only.", lambda run: int(run.timeline.is_single[run.timeline.first[run.curve.sessions]].sum())),
        Figure("stale_sessions", "Stale sessions", "count", "Sessions whose position had to be valued at an older mark.", lambda run: int(run.curve.stale.sum())),
        Figure("open_trades", "Open trades", "count", "Trades still open at the end.", lambda run: run.open_trades),
        Figure("capital_limited", "Capital limited", "flag", "Whether entries that need more capital than is free were refused, as the sheet says.", lambda run: run.limited, True),
        Figure("capital_refused", "Refused for capital", "count", "Entries that needed more capital than was free.", lambda run: sum("needed" in r.values for r in run.history.reasons if r.kind == "no entry"), True),
        Figure("capital_calls", "Calls", "count", "Sessions at whose end equity was less than the capital that open trades needed.", lambda run: sum(r.kind == "call" for r in run.history.reasons), True),
        Figure("ruined_on", "All lost on", "date", "Session at whose end equity was lost; the run ends there.", _ruined_on, True),
        Figure("awaiting_value", "Waiting for a settlement", "count", "Open trades with a leg that has come to its settlement, whose official value is not recorded: they are carried at their last marks.", lambda run: run.waits, True),
        Figure("beyond_size", "Beyond the quoted size", "count", "Fills of more lots than were quoted, where the history tells sizes: no quote says what the rest would have cost.", lambda run: sum("quoted" in r.values for r in run.history.reasons if r.kind == "filled"), True),
        Figure("entries_unfilled", "Entries not filled", "count", "Entries whose order came to nothing: a leg had no usable quote, or the limit was not reached, until it ended.", lambda run: len(unfilled(run.history.reasons)), True),
        Figure("exits_over_night", "Carried over night", "count", "Exits that became true on the last of a session's snapshots, so that nobody could deal before the next session.", lambda run: len(run.nights), True),
        Figure("night_cost", "Cost of these nights", "money", "By how much those exits were dealt at worse prices than those they were decided on, below 0 where at better; exits of which a leg had no price then left out.", lambda run: float(sum(night.cost for night in run.nights if night.cost is not None)) if run.nights else None, True),
        Figure("exits_delayed", "Decided, not carried out", "count", "Decisions to leave that were not carried out by the end of the next session, or never: a leg had no valid quote.", _exits_delayed, True),
    )
}  # fmt: skip
"""By id, in the order in which they are told."""


def figures(run: Finished) -> dict[str, Any]:
    """Every figure of a finished run by its id; ``None``: it has no value."""
    return {name: figure.value(run) for name, figure in FIGURES.items()}


def intervals(run: Finished) -> dict[str, tuple[float, float]]:
    """Of every figure that has one, the range in which 90 of 100 records drawn again from this one lie: days and trades
    each by blocks of their own length.

    The drawdown, and what rests on it, is that of the sample's own path: a run whose drawdown was lucky lies at an end
    of its range."""
    days = again.days(run.daily, run.start, run.seed)
    trades = again.trades([trade.pnl for trade in run.history.closed], run.credits, run.seed)
    out = {}
    for name, figure in FIGURES.items():
        found = None
        if figure.over_days is not None and days is not None:
            found = bootstrap.likely(figure.over_days(days))
        elif figure.over_trades is not None and trades is not None:
            found = bootstrap.likely(figure.over_trades(trades))
        if found is not None:
            out[name] = found
    return out


def text(name: str, value: Any) -> str:
    """A figure's value as it is written where no page draws it."""
    if value is None:
        return "none"
    kind = FIGURES[name].kind
    if kind == "flag":
        return "yes" if value else "no"
    return {"money": "{:,.2f}", "share": "{:.2%}", "ratio": "{:.2f}", "count": "{:d}", "date": "{}"}[kind].format(value)

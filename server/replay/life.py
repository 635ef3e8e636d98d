"""A replay session as the engine lives it: its rules as far as they act by themselves, and what a person dealt."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from itertools import groupby

from market.own import market_for, plan_for
from replay.models import ReplayFill, ReplaySession
from strell_core.engine.hand import Action, Deal, lived
from strell_core.engine.plan import EVERYTHING, Part, Plan, make_plan
from strell_core.engine.run import History
from strell_core.engine.state import ClosedTrade, LegClose, TradeState
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Market
from strell_core.market.timeline import Timeline
from strell_core.strategy.document import normalise, parse

ACTS: dict[str, frozenset[Part]] = {
    ReplaySession.Acts.ADVISE: frozenset(),
    ReplaySession.Acts.LEAVE: frozenset({"leave", "adjust"}),
    ReplaySession.Acts.LIVE: EVERYTHING,
}


@dataclass(frozen=True)
class HeldContract:
    """All a session has had of one contract. Average price and realised P/L in parts (times contracts)."""

    contract: ContractKey
    contracts: int
    average: Fraction
    realised: Fraction
    multiplier: int
    settled: bool


@dataclass(frozen=True)
class Life:
    """Everything a session's engine brought about up to its clock."""

    plan: Plan
    history: History
    market: Market
    """The session's underlying, whose snapshots are its clock, and the strategy's others."""

    def of(self, contract: ContractKey) -> Timeline:
        """The history that a contract is quoted in, by the session's clock."""
        return self.market.on_clock(contract.underlying)

    @property
    def cash(self) -> Decimal:
        return self.history.state.cash

    @property
    def costs(self) -> Decimal:
        """Paid so far, by trades that are open and by those that are closed."""
        trades: list[TradeState | ClosedTrade] = [*self.history.state.trades, *self.history.closed]
        return sum((trade.costs for trade in trades), Decimal(0))

    def held(self) -> list[HeldContract]:
        """By contract, those that are flat again included."""
        rows: dict[ContractKey, HeldContract] = {}
        trades: list[TradeState | ClosedTrade] = [*self.history.closed, *self.history.state.trades]
        for trade in trades:
            opened_on = self.market.main.date_at(trade.opened_at)
            multiplier = self.market.on_clock(trade.symbol).multiplier(opened_on)
            gone, held = (trade.legs, ()) if isinstance(trade, ClosedTrade) else (trade.closed_legs, trade.legs)
            for leg in gone:
                if isinstance(leg, LegClose) and leg.how != "split":
                    made = Fraction(leg.contracts * (leg.closed_parts - leg.opened_parts))
                    _add(
                        rows, leg.contract, 0, 0, made, multiplier, leg.how in ("settlement", "exercise", "assignment")
                    )
            for still in held:
                _add(rows, still.contract, still.contracts, still.opened_parts, Fraction(0), multiplier, False)
        return [rows[key] for key in sorted(rows)]

    @property
    def open(self) -> list[HeldContract]:
        return [row for row in self.held() if row.contracts]


def _add(
    rows: dict[ContractKey, HeldContract], contract: ContractKey, contracts: int, parts: int, realised: Fraction,
    multiplier: int, settled: bool,
) -> None:  # fmt: skip
    old = rows.get(contract) or HeldContract(contract, 0, Fraction(0), Fraction(0), multiplier, False)
    total = old.contracts + contracts
    worth = old.average * old.contracts + contracts * parts
    average = worth / total if total else Fraction(0)
    rows[contract] = HeldContract(
        contract, total, average, old.realised + realised, old.multiplier, old.settled or settled
    )


_WATCHING = {
    "name": "by hand", "entries": [{
        "when": [{"rule": "decision_times"}], "size": [{"rule": "fixed_lots"}],
        "legs": [{"rule": "leg", "strike": {"pick": "nearest_delta"}, "expiry": {"pick": "nearest_days"}}],
    }],
}  # fmt: skip
"""Rules of a session that has none: they are never asked."""


def plan_of(session: ReplaySession, market: Market) -> Plan:
    """The session's rules, with what they do by themselves."""
    if session.revision is None:
        document = normalise({**_WATCHING, "underlyings": [market.main.underlying.symbol]})
        return make_plan(parse(document), market, frozenset())
    return plan_for(parse(session.revision.document), market, ACTS[session.acts])


def actions(session: ReplaySession, fills: Iterable[ReplayFill]) -> Iterator[Action]:
    """A session's fills as the actions they were made by, in order of time."""
    for (at, _), rows in groupby(fills, lambda fill: (fill.at, fill.order)):
        made = list(rows)
        deals = tuple(Deal(ContractKey.parse(f.contract), f.contracts, f.price_parts, f.leg) for f in made)
        commission = sum((f.commission for f in made), Decimal(0))
        yield Action(at, deals, commission, **_said_by(session, made[0]))


def _said_by(session: ReplaySession, fill: ReplayFill) -> Mapping[str, str]:
    return {} if fill.by == "hand" else {"rule": fill.rule, "entry": session.entry}


def life(session: ReplaySession, timeline: Timeline, fills: Iterable[ReplayFill], until: int | None = None) -> Life:
    """The session lived up to epoch second ``until`` (its clock). Before it began nothing has happened."""
    whole = Market(timeline) if session.revision is None else market_for(session.revision.document, session.owner_id)
    plan = plan_of(session, whole)
    made = list(fills)
    starts = min([session.start, *(fill.at for fill in made)])
    begin = timeline.at_or_before(max(starts, int(timeline.times[0])))
    end = timeline.at_or_before(session.cursor if until is None else until) + 1
    return Life(plan, lived(plan, whole, begin, max(begin, end), session.cash, list(actions(session, made))), whole)

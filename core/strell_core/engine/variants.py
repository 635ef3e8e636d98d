"""Variants of rules over one history: runs of which only what they amount to is asked.

What variants have in common is computed once: what an entry picks at a look, what comes of its order, at which snapshot
an exit is first true, what closing there brings. A variant then is a walk over its looks. It comes to what
:func:`strell_core.engine.run.run_blocks` comes to, to the bit, or raises :class:`strell_core.engine.lives.Beyond`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from operator import attrgetter, itemgetter
from typing import Any, NamedTuple, cast

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.engine import capital
from strell_core.engine.adjusting import NO_SNAPSHOT_LEFT
from strell_core.engine.advance import NO_QUOTES, SKIPPED, UNTIL_THE_END
from strell_core.engine.entering import decide_entry
from strell_core.engine.lives import NEVER, Beyond, End, Lives, Opening
from strell_core.engine.plan import EVERYTHING, EntryPlan, Plan
from strell_core.engine.state import OrderLeg, Reason, ReasonKind
from strell_core.market.market import Market, Observation
from strell_core.market.prices import CENT
from strell_core.measures.frames import FALSE, TRUE, Account, Past
from strell_core.strategy.actions import Close
from strell_core.strategy.schedule import DUE

Floats = npt.NDArray[np.float64]


class Lived(NamedTuple):
    """A trade of a variant, from its order to its end; ``None``: it is open at the end of the run."""

    opening: Opening
    end: End | None
    ended: int
    """Its end's moment."""


@dataclass(frozen=True)
class Told:
    """What a variant amounts to."""

    closed: Sequence[Lived]
    """In the order in which they ended."""
    open: Sequence[Lived]
    moved: Sequence[tuple[int, Sequence[float]]]
    """By snapshot, the amounts that a fill or a settlement moved, in the order in which they were booked."""
    capital: Floats
    """Needed at the ends of sessions with open trades, money."""
    said: Sequence[Reason] = ()
    """What was decided at every look, as the engine says it, where it was asked for."""


@dataclass(eq=False)
class Picked:
    """What an entry would deal in at a look."""

    legs: tuple[OrderLeg, ...]
    lots: int
    needed: float
    """Capital that it needs, money."""
    openings: dict[int | None, Opening] = field(default_factory=dict)


MOST, MOST_DECISIONS = 12_000, 200_000
"""Orders of which is kept what came of them, a few kilobytes each; and decisions, a quarter of one each."""
COUNTS = ("open_trades", "of_entry", "entered_today", "all_entered_today")
"""What of an account is counted, as :class:`strell_core.measures.frames.Account` has it."""
OF_ALL = {"of_underlying": "open_trades", "underlying_entered_today": "all_entered_today"}
"""What of an account is counted by underlying, of which variants have one."""


class Decided(NamedTuple):
    """What an entry decides at a look."""

    picked: Picked | None
    """What it would deal in, before its capital is asked for."""
    rule: str
    """The sentence that says no, with its truth and the numbers it saw; nothing where none does."""
    truth: int
    values: Mapping[str, Any]


Known = list[tuple[tuple[tuple[int, int], ...], Decided]]
"""Decisions at a look, each with the counts on which it rests: their places in :data:`COUNTS` and values."""


class _Watched:
    """An account that notes which counts it is asked for; what a decision asked is all that it rests on."""

    def __init__(self, counts: Sequence[int], funds: Callable[[], tuple[float, float]]) -> None:
        self._counts, self._funds = counts, funds
        self.asked: dict[int, int] = {}
        self.of_funds = False

    def __getattr__(self, name: str) -> int:
        name = OF_ALL.get(name, name)
        if name not in COUNTS:
            raise AttributeError(name)
        place = COUNTS.index(name)
        self.asked[place] = self._counts[place]
        return self._counts[place]

    def funds(self) -> tuple[float, float]:
        self.of_funds = True
        return self._funds()

    def past(self) -> Past:
        raise Beyond


class _Entry(NamedTuple):
    """An entry of a variant with what is known of it and the names under which that is kept."""

    plan: EntryPlan
    looks: Sequence[tuple[int, int]]
    """Snapshots at which it is due, and their sessions."""
    decisions: dict[int, Known]
    least: int | None
    exits: Sequence[str]
    all_exits: str


class Variants:
    """Runs of variants of one market's rules over timeline indices ``[begin, end)``, which share what they can. Not for
    several threads at once."""

    def __init__(self, market: Market, begin: int, end: int) -> None:
        self.market, self.timeline, self.begin, self.end = market, market.main, begin, end
        self._lives = Lives(market, begin, end)
        self._looks: dict[Any, list[tuple[int, int]]] = {}
        self._decisions: dict[str, dict[int, Known]] = {}
        self._picked: dict[Any, Picked] = {}

    def run(
        self, plan: Plan, cash: Decimal, tells: bool = False, progress: Callable[[int], None] | None = None
    ) -> Told:
        """One variant; raises :class:`Beyond` where only the engine itself can tell. ``tells``: what it decided at every look
        too; ``progress`` is called with the snapshot of each, and may raise to stop."""
        self._check(plan, cash)
        if len(self._picked) > MOST or sum(map(len, self._decisions.values())) > MOST_DECISIONS:
            # who varies every leg by fifty values has less in common than fits
            self._lives, self._decisions, self._picked = Lives(self.market, self.begin, self.end), {}, {}
        return _Walk(self, plan, cash, tells, progress).told()

    def _check(self, plan: Plan, cash: Decimal) -> None:
        timeline, strategy = self.timeline, plan.strategy
        simple = (
            plan.acts == EVERYTHING
            and not plan.delivers
            and not strategy.guards
            and plan.working.plain
            and not timeline.unfinished
            and not any(self.begin <= at < self.end for at in timeline.splits)
            and (timeline.sizes is None or strategy.orders["quoted_size"]["policy"] == "take")
            and cash == cash.quantize(CENT)
            and cash > 0
            and self.begin in timeline.first
            and self.end in timeline.first
            and all(
                not entry.adjustments
                and not entry.schedule.after
                and entry.entry.underlying == timeline.underlying.symbol
                and all(leg.strike is not None for leg in entry.entry.legs)
                and all(item.closes == Close() and not item.then for item in entry.exits)
                for entry in plan.entries
            )
        )
        if not simple:
            raise Beyond

    def entry(self, plan: Plan, entry: EntryPlan) -> _Entry:
        """An entry with what is known of it."""
        rules, timeline = entry.entry, self.timeline
        name = repr((rules.conditions, rules.legs, rules.checks, rules.size, plan.strategy.orders))
        schedule = entry.schedule
        key = tuple(sorted(schedule.times.items())), schedule.decides_single, schedule.series
        if schedule.keeps:
            name = repr((name, key))
        looks = self._looks.get(key)
        if looks is None:
            due = [
                at for at in schedule.looks(self.market, self.begin, self.end).tolist()
                if schedule.status(self.market, at) == DUE
            ]  # fmt: skip
            looks = self._looks[key] = [(at, int(timeline.session_of[at])) for at in due]
        exits = [f"{item.rule.kind} {sorted(item.rule.params.items())}" for item in entry.exits]
        decisions = self._decisions.setdefault(name, {})
        return _Entry(entry, looks, decisions, plan.least(entry), exits, "; ".join(exits))

    def decide(
        self, plan: Plan, entry: _Entry, index: int, counts: Sequence[int], funds: Callable[[], tuple[float, float]]
    ) -> Decided:
        account = _Watched(counts, funds)
        decision = decide_entry(entry.plan, Observation(self.market, index), cast(Account, account))
        if decision.entered and decision.selection is not None:
            legs = tuple(
                OrderLeg(leg.leg_id, leg.contract, leg.contracts * decision.lots) for leg in decision.selection.legs
            )
            found = Decided(self._pick(plan, index, legs, decision.lots), "", TRUE, {})
        else:
            rule, verdict = decision.verdicts[-1]
            found = Decided(None, rule, verdict.truth, verdict.values)
        if not account.of_funds:
            entry.decisions.setdefault(index, []).append((tuple(account.asked.items()), found))
        return found

    def _pick(self, plan: Plan, index: int, legs: tuple[OrderLeg, ...], lots: int) -> Picked:
        """The same for all that would deal in the same."""
        key = index, tuple((leg.leg_id, leg.contract, leg.contracts) for leg in legs), lots, repr(plan.strategy.orders)
        if key not in self._picked:
            needed = capital.of_new(plan, self.timeline, index, ((leg.contract, leg.contracts) for leg in legs))
            self._picked[key] = Picked(legs, lots, needed)
        return self._picked[key]

    def lived(self, plan: Plan, entry: _Entry, index: int, picked: Picked) -> Lived:
        """What comes of an entry's order, to the end of its trade."""
        opening = picked.openings.get(entry.least)
        if opening is None:
            opening = self._lives.opened(plan, entry.plan, index, picked.legs, picked.lots)
            picked.openings[entry.least] = opening
        if entry.all_exits not in opening.by_exits:
            opening.by_exits[entry.all_exits] = None if opening.trade is None else self._ended(plan, entry, opening)
        end = opening.by_exits[entry.all_exits]
        return Lived(opening, end, NEVER if end is None else end.moment)

    def _ended(self, plan: Plan, entry: _Entry, opening: Opening) -> End | None:
        exits = entry.plan.exits
        firsts = [
            self._lives.first_true(plan, opening, item, name) for item, name in zip(exits, entry.exits, strict=True)
        ]
        left = min(firsts, default=NEVER)
        urgent = any(item.way == "loss" for at, item in zip(firsts, exits, strict=True) if at == left)
        return self._lives.ended(plan, opening, left, urgent and left < NEVER)

    def funds_at(self, plan: Plan, opening: Opening, index: int) -> tuple[float, float]:
        return self._lives.funds_at(plan, opening, index)


class _Walk:
    """One variant, look by look."""

    def __init__(
        self, shared: Variants, plan: Plan, cash: Decimal, tells: bool, progress: Callable[[int], None] | None
    ) -> None:
        self.shared, self.plan, self.timeline = shared, plan, shared.timeline
        self.tells, self.progress, self.made = tells, progress, 0
        self.said: list[tuple[int, str, Reason]] = []
        """By snapshot and entry."""
        self.start = int(cash * 100)
        self.lived: list[Lived] = []
        self.there: list[Lived] = []
        """Those that are entering, open or leaving."""
        self.gone = 0
        """Cents that ended trades have moved."""
        self.changes = NEVER
        """The next moment at which one of them ends."""
        self.entered: dict[str, tuple[int, int]] = {}
        """Of every entry that was made, the session in which it was last, and how often."""

    def told(self) -> Told:
        entries = [self.shared.entry(self.plan, entry) for entry in self.plan.entries]
        if len(entries) == 1:
            for index, session in entries[0].looks:
                self._look(entries[0], index, session)
        else:
            looks = sorted(
                (index, place, session) for place, entry in enumerate(entries) for index, session in entry.looks
            )
            for index, place, session in looks:
                self._look(entries[place], index, session)
        return self._sum()

    def _look(self, entry: _Entry, index: int, session: int) -> None:
        if self.progress is not None:
            self.progress(index)
        if self.changes <= 2 * index:
            self._leave(2 * index)
        counts = self._counts(entry.plan.entry.id, session)
        for asked, found in entry.decisions.get(index, ()):
            for place, value in asked:
                if counts[place] != value:
                    break
            else:
                # what was decided rests on nothing that is different now
                decided = found
                break
        else:
            decided = self.shared.decide(self.plan, entry, index, counts, lambda: self._funds(index))
        if decided.picked is not None:
            self._enter(entry, index, session, counts[2], decided.picked)
        elif self.tells:
            self._say(entry, index, "no entry", decided.rule, decided.truth, decided.values)

    def _counts(self, name: str, session: int) -> tuple[int, int, int, int]:
        """As :data:`COUNTS`."""
        there, entered = self.there, self.entered
        if len(self.plan.entries) == 1:
            known = entered.get(name)
            times = known[1] if known is not None and known[0] == session else 0
            return len(there), len(there), times, times
        today = [(other, times) for other, (on, times) in entered.items() if on == session]
        return (
            len(there), sum(one.opening.asked.entry == name for one in there),
            sum(times for other, times in today if other == name), sum(times for _, times in today),
        )  # fmt: skip

    def _say(
        self, entry: _Entry, index: int, kind: ReasonKind, rule: str, truth: int | None, values: Mapping[str, Any]
    ) -> None:
        number = self.made if kind in ("entry", "lapsed") else None
        reason = Reason(int(self.timeline.times[index]), kind, number, rule, truth, values)
        self.said.append((index, entry.plan.id, reason))

    def _enter(self, entry: _Entry, index: int, session: int, times: int, picked: Picked) -> None:
        free = self._funds(index)[1]
        if capital.refuses(self.plan, picked.needed, free):
            if self.tells:
                currency = self.timeline.underlying.on(self.timeline.dates[session]).currency
                told = capital.short_of(picked.needed, free, currency)
                self._say(entry, index, "no entry", entry.plan.entry.size.id, FALSE, told)
            return
        self.made += 1
        if self.tells:
            told = {"contracts": [leg.contract.code for leg in picked.legs]}
            self._say(entry, index, "entry", entry.plan.entry.schedule.id, TRUE, told)
        self.entered[entry.plan.entry.id] = session, times + 1
        if self.timeline.last_of_several[index]:
            if self.tells:
                self._say(entry, index, "lapsed", entry.plan.entry.schedule.id, None, {"message": NO_SNAPSHOT_LEFT})
            return
        lived = self.shared.lived(self.plan, entry, index, picked)
        if self.tells and lived.opening.trade is None and lived.opening.moment < 2 * self.shared.end - 1:
            told = {"message": NO_QUOTES + UNTIL_THE_END}
            self._say(entry, index, "lapsed", entry.plan.entry.schedule.id, None, told)
        self.there.append(lived)
        self.changes = min(self.changes, lived.ended if lived.opening.trade is not None else lived.opening.moment)
        if lived.opening.trade is not None:
            self.lived.append(lived)

    def _leave(self, now: int) -> None:
        """Forget trades that have ended, and orders that have lapsed."""
        there, self.there, self.changes = self.there, [], NEVER
        for one in there:
            ends = one.ended if one.opening.trade is not None else one.opening.moment
            if ends <= now:
                self.gone += one.opening.cents + (one.end.cents if one.end is not None else 0)
            else:
                self.there.append(one)
                self.changes = min(self.changes, ends)

    def _funds(self, index: int) -> tuple[float, float]:
        """Equity and free capital at a look, as :func:`strell_core.engine.capital.funds` adds them up."""
        now = 2 * index
        filled = sorted([one.opening for one in self.there if one.opening.moment <= now], key=_order)
        cents, needed = self.start + self.gone, 0.0
        for opening in filled:
            cents += opening.cents
        equity = cents / 100
        for opening in filled:
            worth, tied = self.shared.funds_at(self.plan, opening, index)
            equity += worth
            needed += tied
        if len(filled) < len(self.there):
            for one in self.there:
                if one.opening.moment > now:
                    needed += capital.of_order(self.shared.market, one.opening.asked, index)
        return equity, equity - needed

    def _sum(self) -> Told:
        ends = [(one, one.end) for one in self.lived if one.end is not None]
        ends.sort(key=lambda both: both[1].order)
        opened = sorted(self.lived, key=lambda one: one.opening.order)
        events = [(one.opening.order, one.opening.index, one.opening.cents, one.opening.amounts, 1) for one in opened]
        events += [(end.order, end.index, end.cents, end.amounts, -1) for _, end in ends]
        events.sort(key=_order_of)
        cash, there = self.start, 0
        for event in events:
            cash += event[2]
            there += event[4]
            if there == 0 and cash <= 0:
                raise Beyond
        needed = self._watched(opened, [event[0][0] for event in events], [event[2] for event in events])
        held = [one for one in opened if one.end is None]
        return Told(
            [one for one, _ in ends], held, [(event[1], event[3]) for event in events], needed, self._in_order()
        )

    def _in_order(self) -> list[Reason]:
        """What was said at looks, and of those that were missed, in the order of time and of the sheet."""
        if not self.tells:
            return []
        for entry in self.plan.entries:
            market = self.shared.market
            for at in entry.schedule.looks(market, self.shared.begin, self.shared.end).tolist():
                message = SKIPPED.get(entry.schedule.status(market, at) or "")
                if message is not None:
                    told = {"message": message}
                    reason = Reason(int(self.timeline.times[at]), "skipped", None, entry.entry.schedule.id, None, told)
                    self.said.append((at, entry.id, reason))
        places = {entry.id: place for place, entry in enumerate(self.plan.entries)}
        return [reason for _, _, reason in sorted(self.said, key=lambda item: (item[0], places[item[1]]))]

    def _watched(self, opened: Sequence[Lived], moments: Sequence[int], cents: Sequence[int]) -> Floats:
        """Capital that was needed at the ends of sessions; where it was not there, the engine tells what follows."""
        timeline = self.timeline
        low, high = int(timeline.session_of[self.shared.begin]), int(timeline.session_of[self.shared.end - 1])
        closes = timeline.first[low + 1 : high + 2] - 1
        moved = np.cumsum([self.start, *cents])
        equity = moved[np.searchsorted(moments, 2 * closes, side="right")] / 100
        needed, there = np.zeros(len(closes)), np.zeros(len(closes), np.bool_)
        for opening, end, _ in opened:
            first, last = opening.unwatched, len(opening.closes) if end is None else end.watched
            _add_trade(equity, needed, there, opening.worth, opening.needed, opening.first_session - low, first, last)
        lost = equity <= 0
        if self.plan.strategy.limits["capital"].params["below"] != "report":
            lost |= equity - needed <= -capital.CENT
        if (there & lost).any():
            raise Beyond
        return needed[there]


@njit(cache=True, nogil=True)
def _add_trade(
    equity: Floats, needed: Floats, there: npt.NDArray[np.bool_], worth: Floats, tied: Floats, low: int, first: int,
    last: int,
) -> None:  # fmt: skip
    """A trade at its closes ``[first, last)``, of which the first of all stands at ``low``."""
    for place in range(first, last):
        equity[low + place] += worth[place]
        needed[low + place] += tied[place]
        there[low + place] = True


_order: Callable[[Opening], tuple[int, ...]] = attrgetter("order")
_order_of = itemgetter(0)

"""Variants of rules over one history: runs of which only what they amount to is asked.

What variants have in common is computed once: what an entry picks at a look, what comes of its order, at which snapshot
an exit is first true, what closing there brings. A variant then is a walk over its looks (:mod:`strell_core.engine.walk`). It
comes to what :func:`strell_core.engine.run.run_blocks` comes to, to the bit, or raises
:class:`strell_core.engine.lives.Beyond`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, NamedTuple, cast

import numpy as np
import numpy.typing as npt

from strell_core.engine import capital, walk
from strell_core.engine.adjusting import NO_SNAPSHOT_LEFT
from strell_core.engine.advance import NO_QUOTES, SKIPPED, UNTIL_THE_END
from strell_core.engine.entering import decide_entry
from strell_core.engine.known import COUNTS, LOOK, NONE, STAYS, Known, Rows
from strell_core.engine.lives import Beyond, End, Lives, Opening
from strell_core.engine.plan import EVERYTHING, EntryPlan, Plan
from strell_core.engine.state import OrderLeg, Reason, ReasonKind
from strell_core.market.kept import Kept
from strell_core.market.market import Market, Observation
from strell_core.market.prices import CENT
from strell_core.measures.frames import FALSE, TRUE, Account, Past
from strell_core.strategy.actions import Close
from strell_core.strategy.schedule import DUE

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
MOST, MOST_DECISIONS, MOST_MB = 12_000, 200_000, 256
"""Orders of which is kept what came of them, a few kilobytes each; decisions; and what all of it takes."""
AHEAD = 256
"""Looks ahead for which it is worked out at once what a trade is worth."""
OF_ALL = {"of_underlying": "open_trades", "underlying_entered_today": "all_entered_today"}
"""What of an account is counted by underlying, of which variants have one."""


@dataclass(frozen=True)
class Told:
    """What a variant amounts to."""

    pnl: Ints
    """Of its closed trades, cents, in the order in which they ended."""
    credits: Ints
    """Premium that these took in, cents, debits negative."""
    open: Sequence[Opening]
    """What is open at the end."""
    equity: Floats
    """At the end of every session, money."""
    held: npt.NDArray[np.bool_]
    """Whether anything was, by session."""
    capital: Floats
    """Needed at the ends of sessions with open trades, money."""
    said: Sequence[Reason] = ()
    """What was decided at every look, as the engine says it, where it was asked for."""


@dataclass(frozen=True)
class Picked:
    """What an entry would deal in at a look."""

    index: int
    legs: tuple[OrderLeg, ...]
    lots: int


class Decided(NamedTuple):
    """What an entry decides at a look."""

    picked: int
    """The place of what it would deal in, before its capital is asked for; none, where a sentence says no."""
    rule: str
    """That sentence, with its truth and the numbers it saw; nothing where none does."""
    truth: int
    values: Mapping[str, Any]


class _Watched:
    """An account that notes which counts it is asked for; what a decision asked is all that it rests on."""

    def __init__(self, counts: Ints, funds: Callable[[], tuple[float, float]]) -> None:
        self._counts, self._funds = counts, funds
        self.asked = [NONE] * len(COUNTS)
        self.of_funds = False

    def __getattr__(self, name: str) -> int:
        name = OF_ALL.get(name, name)
        if name not in COUNTS:
            raise AttributeError(name)
        place = COUNTS.index(name)
        self.asked[place] = int(self._counts[place])
        return self.asked[place]

    def funds(self) -> tuple[float, float]:
        self.of_funds = True
        return self._funds()

    def past(self) -> Past:
        raise Beyond


class _Entry(NamedTuple):
    """An entry of a variant with what is known of it."""

    plan: EntryPlan
    looks: Ints
    """Snapshots at which it is due."""
    looks_are: Any
    """The same for all entries that are looked at then."""
    heads: npt.NDArray[np.int32]
    """By look, its first known decision."""
    exits: Sequence[int]
    """Places of its exits among those that are known."""


class Variants:
    """Runs of variants of one market's rules over timeline indices ``[begin, end)``, which share what they can. Not for
    several threads at once."""

    def __init__(self, market: Market, begin: int, end: int) -> None:
        self.market, self.timeline, self.begin, self.end = market, market.main, begin, end
        self._seen = Kept()
        """Observations with what was worked out of their chains."""
        self._forget()

    def _forget(self) -> None:
        self.known, self.lives = Known(), Lives(self.market, self.begin, self.end)
        self.openings: list[Opening] = []
        self.picks: list[Picked] = []
        self.decided: list[Decided] = []
        self._picked: dict[Any, int] = {}
        self._exits: dict[str, EntryExit] = {}
        self._due: dict[Any, Ints] = {}
        self._heads: dict[str, dict[Any, npt.NDArray[np.int32]]] = {}
        self._looks: dict[Any, tuple[int, Rows]] = {}

    def run(
        self, plan: Plan, cash: Decimal, tells: bool = False, progress: Callable[[int], None] | None = None
    ) -> Told:
        """One variant; raises :class:`Beyond` where only the engine itself can tell. ``tells``: what it decided at every look
        too; ``progress`` is called with the snapshot of each look of which something is to be worked out, and may raise to
        stop."""
        self._check(plan, cash)
        if len(self.picks) > MOST or len(self.decided) > MOST_DECISIONS or self.known.megabytes > MOST_MB:
            # who varies every leg by fifty values has less in common than fits
            self._forget()
        return _Walk(self, plan, cash, progress).told(tells)

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
        rules, schedule = entry.entry, entry.schedule
        looks_are = tuple(sorted(schedule.times.items())), schedule.decides_single, schedule.series
        name = repr((
            [(rule.id, rule.says) for rule in (*rules.conditions, *rules.checks, rules.size)],
            [leg.says for leg in rules.legs], plan.orders_say, looks_are if schedule.keeps else None,
        ))  # fmt: skip
        looks = self._due.get(looks_are)
        if looks is None:
            every = schedule.looks(self.market, self.begin, self.end)
            due = [schedule.status(self.market, int(at)) == DUE for at in every]
            looks = self._due[looks_are] = every[np.array(due, np.bool_)]
        exits = []
        for item in entry.exits:
            self._exits[item.rule.says] = item.kind, item.rule.params
            exits.append(self.known.firsts.place(item.rule.says))
        return _Entry(entry, looks, looks_are, self._heads_of(name, looks_are, looks), exits)

    def _heads_of(self, name: str, looks_are: Any, looks: Ints) -> npt.NDArray[np.int32]:
        """Of an entry's looks the first known decisions, those that were decided at other looks in common among them."""
        known = self._heads.setdefault(name, {})
        if looks_are not in known:
            heads = np.full(len(looks), NONE, np.int32)
            for other, there in known.items():
                _, here, at = np.intersect1d(looks, self._due[other], assume_unique=True, return_indices=True)
                heads[here] = np.where(heads[here] == NONE, there[at], heads[here])
            known[looks_are] = heads
        return known[looks_are]

    def looks(self, entries: Sequence[_Entry]) -> tuple[int, Rows]:
        """Looks of a plan's entries in their order, and their number among all that are known."""
        key = tuple(entry.looks_are for entry in entries)
        if key not in self._looks:
            rows = np.zeros(sum(len(entry.looks) for entry in entries), LOOK)
            at = 0
            for place, entry in enumerate(entries):
                part = rows[at : at + len(entry.looks)]
                part["index"], part["entry"], part["own"] = entry.looks, place, np.arange(len(entry.looks))
                at += len(entry.looks)
            rows["session"], rows["last"] = (
                self.timeline.session_of[rows["index"]],
                self.timeline.last_of_several[rows["index"]],
            )
            self._looks[key] = len(self._looks) + 1, rows[np.lexsort((rows["entry"], rows["index"]))]
        return self._looks[key]

    def decide(
        self, plan: Plan, entry: _Entry, index: int, counts: Ints, funds: Callable[[], tuple[float, float]]
    ) -> tuple[Decided, Sequence[int] | None]:
        """What an entry decides, and the counts on which that rests; ``None``: it is decided for this variant alone."""
        account = _Watched(counts, funds)
        decision = decide_entry(entry.plan, self._observed(index), cast(Account, account))
        if decision.entered and decision.selection is not None:
            legs = tuple(
                OrderLeg(leg.leg_id, leg.contract, leg.contracts * decision.lots) for leg in decision.selection.legs
            )
            found = Decided(self._pick(plan, index, legs, decision.lots), "", TRUE, {})
        else:
            rule, verdict = decision.verdicts[-1]
            found = Decided(NONE, rule, verdict.truth, verdict.values)
        return found, None if account.of_funds else account.asked

    def _observed(self, index: int) -> Observation:
        found: Observation | None = self._seen.get(index)
        if found is None:
            found = self._seen[index] = Observation(self.market, index)
        return found

    def _pick(self, plan: Plan, index: int, legs: tuple[OrderLeg, ...], lots: int) -> int:
        """The same for all that would deal in the same."""
        key = index, tuple((leg.leg_id, leg.contract, leg.contracts) for leg in legs), lots, plan.orders_say
        if key not in self._picked:
            view = self._observed(index).view(self.timeline.underlying.symbol)
            assert view is not None
            needed = capital.of_new(plan, view, ((leg.contract, leg.contracts) for leg in legs))
            self._picked[key] = self.known.needed.add(needed)
            self.picks.append(Picked(index, legs, lots))
        return self._picked[key]

    def learn_opening(self, plan: Plan, entry: EntryPlan, picked: int, rules: walk.Rules, place: int) -> int:
        """What comes of the order of a plan's entry at a ``place`` is known from now on, as that opening."""
        known, what = self.known, self.picks[picked]
        made = self.lives.opened(plan, entry, what.index, what.legs, what.lots)
        row = known.openings.new()
        row["moment"], row["decided"], row["ends"], row["waits_at"] = made.moment, made.decided, NONE, NONE
        if made.trade is not None:
            amounts, closes = [float(amount) for amount in made.amounts], len(made.closes)
            first, at = self._looks_in(made, rules.looks, 0)
            values = self.lives.values(plan, made, np.concatenate([made.closes, at]))
            begin = known.floats.extend(np.concatenate([
                amounts, values.by_leg[:, :closes].ravel(), values.worth[:closes], values.needed[:closes],
                _pairs(values.worth[closes:], values.needed[closes:]),
            ]))  # fmt: skip
            row["filled"], row["index"], row["cents"] = True, made.index, _cents(made.amounts)
            row["credit"], row["amounts"], row["moves"] = _cents([made.credit]), begin, len(amounts)
            row["first_session"], row["unwatched"], row["closes"] = made.first_session, made.unwatched, closes
            row["legs"], row["values"] = len(values.by_leg), begin + len(amounts)
            row["looks"], row["from_look"], row["to_look"] = rules.looks_are, first, first + len(at)
            row["funds"] = begin + len(amounts) + (len(values.by_leg) + 2) * closes
        self.openings.append(made)
        opening = len(self.openings) - 1
        known.opening_of.put(int(rules.least[place]), picked, opening)
        known.firsts.make_room(len(self.openings))
        return opening

    @staticmethod
    def _looks_in(made: Opening, looks: Rows, k: int) -> tuple[int, Ints]:
        """Looks of a plan in a trade's life: the first ones, or where ``k`` is none of these, those from it on. The place
        of the first, and their snapshots."""
        first = int(np.searchsorted(looks["index"], -(-made.moment // 2)))
        first = first if k < first + AHEAD else k
        at = looks["index"][first : first + AHEAD]
        return first, at[at < made.stop]

    def learn_exits(self, plan: Plan, opening: int) -> None:
        """When a trade's exits are true is known from now on: of all that any variant has."""
        firsts = self.known.firsts
        lacks = {place: says for place, says in enumerate(firsts.keys) if firsts.cells[place, opening] == NONE}
        found = self.lives.first_true(plan, self.openings[opening], [self._exits[says] for says in lacks.values()])
        for place, first in zip(lacks, found, strict=True):
            firsts.put(place, opening, first)

    def learn_end(self, plan: Plan, opening: int, left: int, urgent: bool) -> None:
        """How a trade ends that is left at a snapshot is known from now on; of what is known already nothing comes."""
        known, other = self.known, int(self.known.openings.rows[opening]["ends"])
        while other != NONE and (known.ends.rows[other]["left"], known.ends.rows[other]["urgent"]) != (left, urgent):
            other = int(known.ends.rows[other]["next"])
        if other != NONE:
            return
        found: End | None = self.lives.ended(plan, self.openings[opening], left, urgent)
        row = known.ends.new()
        row["left"], row["urgent"], row["next"] = left, urgent, known.openings.rows[opening]["ends"]
        row["moment"] = STAYS
        if found is not None:
            amounts = [float(amount) for amount in found.amounts]
            row["ends"], row["index"], row["moment"], row["settles"] = True, found.index, found.moment, found.settles
            row["held"], row["watched"] = found.held, found.watched
            row["pnl"], row["cents"] = _cents([found.pnl]), _cents(found.amounts)
            row["amounts"], row["moves"] = known.floats.extend(amounts), len(amounts)
        known.openings.rows[opening]["ends"] = known.ends.count - 1

    def learn_value(self, plan: Plan, opening: int, looks_are: int, looks: Rows, k: int) -> None:
        """What a trade is worth and needs at a look, and at those that come next, is known from now on."""
        made = self.openings[opening]
        first, at = self._looks_in(made, looks, k)
        values, row = self.lives.values(plan, made, at), self.known.openings.rows[opening]
        row["looks"], row["from_look"], row["to_look"] = looks_are, first, first + len(at)
        row["funds"] = self.known.floats.extend(_pairs(values.worth, values.needed))

    def learn_wait(self, opening: int, index: int) -> None:
        """What an order at work needs is known for the moment."""
        row = self.known.openings.rows[opening]
        row["waits_at"], row["waits_for"] = index, capital.of_order(self.market, self.openings[opening].asked, index)


EntryExit = tuple[Any, Mapping[str, Any]]
"""A kind of exit and its values."""


class _Walk:
    """One variant, look by look."""

    def __init__(
        self, shared: Variants, plan: Plan, cash: Decimal, progress: Callable[[int], None] | None
    ) -> None:  # fmt: skip
        self.shared, self.plan, self.timeline, self.progress = shared, plan, shared.timeline, progress
        self.entries = [shared.entry(plan, entry) for entry in plan.entries]
        looks_are, looks = shared.looks(self.entries)
        self.path = walk.Path.begin(len(self.entries), len(looks))
        most = max(len(entry.exits) for entry in self.entries)
        exits, urgent = (
            np.full((len(self.entries), most), NONE, np.int64),
            np.zeros((len(self.entries), most), np.bool_),
        )
        heads = np.empty(len(looks), np.int32)
        for place, entry in enumerate(self.entries):
            exits[place, : len(entry.exits)] = entry.exits
            urgent[place, : len(entry.exits)] = [item.way == "loss" for item in entry.plan.exits]
            mine = looks["entry"] == place
            heads[mine] = entry.heads[looks["own"][mine]]
        least = [shared.known.opening_of.place(plan.least(entry.plan)) for entry in self.entries]
        refuses = plan.strategy.limits["capital"].params["entries"] != "allow"
        self.rules = walk.Rules(
            looks, looks_are, heads, np.array(least, np.int64), exits, urgent, int(cash * 100), refuses
        )
        self.alone: dict[int, Decided] = {}
        """What was decided at looks for this variant alone."""

    @property
    def facts(self) -> walk.Facts:
        known = self.shared.known
        return walk.Facts(
            known.decisions.rows, known.needed.rows, known.openings.rows, known.ends.rows, known.floats.rows,
            known.opening_of.cells, known.firsts.cells,
        )  # fmt: skip

    def told(self, tells: bool) -> Told:
        while (code := walk.walk(self.path, self.rules, self.facts)) != walk.DONE:
            self._work_out(code)
        shared, known = self.shared, self.shared.known
        lived = self.path.lived[: self.path.state[walk.LIVED]]
        session_of = self.timeline.session_of
        low, high = int(session_of[shared.begin]), int(session_of[shared.end - 1])
        closes = self.timeline.first[low + 1 : high + 2] - 1
        calls = self.plan.strategy.limits["capital"].params["below"] != "report"
        beyond, order, equity, held, needed, watched = walk.told(
            lived,
            known.openings.rows,
            known.ends.rows,
            known.floats.rows,
            closes,
            session_of,
            low,
            self.rules.start,
            calls,
        )
        if beyond:
            raise Beyond
        ends = known.ends.rows[lived[order, 1]]
        closed = ends["ends"]
        still = [shared.openings[place] for place in lived[order[~closed], 0].tolist()]
        credits = known.openings.rows["credit"][lived[order[closed], 0]]
        return Told(ends["pnl"][closed], credits, still, equity, held, needed[watched], self._said() if tells else ())

    def _work_out(self, code: int) -> None:
        """What the walk has stopped for."""
        shared, state = self.shared, self.path.state
        k, asked = int(state[walk.AT]), int(state[walk.ASKED])
        look = self.rules.looks[k]
        entry, index = self.entries[look["entry"]], int(look["index"])
        if self.progress is not None:
            self.progress(index)
        if code == walk.DECIDE:
            self._decide(entry, k, index)
        elif code == walk.OPEN:
            opening = shared.learn_opening(self.plan, entry.plan, asked, self.rules, int(look["entry"]))
            if shared.openings[opening].trade is not None:
                shared.learn_exits(self.plan, opening)
                self._end(entry, opening)
        elif code == walk.FIRSTS:
            shared.learn_exits(self.plan, asked)
            self._end(entry, asked)
        elif code == walk.END:
            self._end(entry, asked)
        elif code == walk.FUNDS:
            shared.learn_value(self.plan, asked, self.rules.looks_are, self.rules.looks, k)
        else:
            shared.learn_wait(asked, index)

    def _end(self, entry: _Entry, opening: int) -> None:
        """How a trade ends of which it is known when the variant's exits are true is known too."""
        firsts = self.shared.known.firsts.cells[entry.exits, opening].tolist()
        left = min(firsts, default=STAYS)
        urgent = left < STAYS and any(
            item.way == "loss" for at, item in zip(firsts, entry.plan.exits, strict=True) if at == left
        )
        self.shared.learn_end(self.plan, opening, left, urgent)

    def _decide(self, entry: _Entry, k: int, index: int) -> None:
        shared, known, state = self.shared, self.shared.known, self.path.state
        decided, rests_on = shared.decide(self.plan, entry, index, self.path.counts, self._funds)
        if rests_on is None:
            self.alone[k], state[walk.DECIDED_AT], state[walk.DECIDED] = decided, k, decided.picked
            return
        own = int(self.rules.looks[k]["own"])
        row = known.decisions.add((rests_on, decided.picked, entry.heads[own]))
        shared.decided.append(decided)
        entry.heads[own] = self.rules.heads[k] = row

    def _funds(self) -> tuple[float, float]:
        """Equity and free capital at the look at which it has stopped."""
        while (found := walk.funds(self.path, self.rules, self.facts))[0] != walk.DONE:
            self._work_out(found[0])
        return found[1], found[1] - found[2]

    def _said(self) -> list[Reason]:
        """What was said at looks, and of those that were missed, in the order of time and of the sheet."""
        said: list[tuple[int, int, Reason]] = []
        shared, made = self.shared, 0

        def say(
            index: int, place: int, kind: ReasonKind, rule: str, truth: int | None, values: Mapping[str, Any]
        ) -> None:
            number = made if kind in ("entry", "lapsed") else None
            said.append((index, place, Reason(int(self.timeline.times[index]), kind, number, rule, truth, values)))

        for k, (look, (outcome, row)) in enumerate(zip(self.rules.looks, self.path.outcomes.tolist(), strict=True)):
            index, place = int(look["index"]), int(look["entry"])
            rules = self.entries[place].plan.entry
            decided = self.alone[k] if row == NONE else shared.decided[row]
            if outcome == walk.NO:
                say(index, place, "no entry", decided.rule, decided.truth, decided.values)
            elif outcome == walk.REFUSED:
                currency = self.timeline.underlying.on(self.timeline.dates[int(look["session"])]).currency
                needed = float(shared.known.needed.rows[decided.picked])
                say(
                    index,
                    place,
                    "no entry",
                    rules.size.id,
                    FALSE,
                    capital.short_of(needed, float(self.path.free[k]), currency),
                )
            else:
                made += 1
                contracts = [leg.contract.code for leg in shared.picks[decided.picked].legs]
                say(index, place, "entry", rules.schedule.id, TRUE, {"contracts": contracts})
                if outcome == walk.LAPSED:
                    say(index, place, "lapsed", rules.schedule.id, None, {"message": NO_SNAPSHOT_LEFT})
                elif self._came_to_nothing(place, decided.picked):
                    say(index, place, "lapsed", rules.schedule.id, None, {"message": NO_QUOTES + UNTIL_THE_END})
        for place, entry in enumerate(self.entries):
            for at in entry.plan.schedule.looks(shared.market, shared.begin, shared.end).tolist():
                message = SKIPPED.get(entry.plan.schedule.status(shared.market, at) or "")
                if message is not None:
                    say(at, place, "skipped", entry.plan.entry.schedule.id, None, {"message": message})
        return [reason for _, _, reason in sorted(said, key=lambda item: item[:2])]

    def _came_to_nothing(self, entry: int, picked: int) -> bool:
        """Whether an order has lapsed before the run ended."""
        opening = self.shared.known.opening_of.cells[self.rules.least[entry], picked]
        made = self.shared.openings[opening]
        return made.trade is None and made.moment < 2 * self.shared.end - 1


def _pairs(worth: Floats, needed: Floats) -> Floats:
    return np.stack([worth, needed], axis=1).ravel()


def _cents(amounts: Sequence[Decimal]) -> int:
    return int(sum(amounts, Decimal(0)) * 100)

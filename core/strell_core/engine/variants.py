"""Variants of rules over one history: runs of which only what they amount to is asked.

What variants have in common is computed once (:mod:`strell_core.engine.learned`): what an entry picks at a look, what comes of
its order, at which snapshot an exit is first true, what closing there brings. A variant then is a walk over its looks
(:mod:`strell_core.engine.walk`). It comes to what :func:`strell_core.engine.run.run_blocks` comes to, to the bit, or raises
:class:`strell_core.engine.lives.Beyond`.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import numpy as np
import numpy.typing as npt

from strell_core.engine import adjusted, capital, covered, judged, walk, walked
from strell_core.engine.adjusting import NO_SNAPSHOT_LEFT
from strell_core.engine.advance import NO_QUOTES, SKIPPED, UNTIL_THE_END
from strell_core.engine.by_numbers import AsksAccount, named
from strell_core.engine.known import ADJUSTED, DECIDE, DONE, ENDED, FIRSTS, FUNDS, LOOK, LOOKED, OPEN, ROOM, Known
from strell_core.engine.learned import Decided, Learned, LookedAt
from strell_core.engine.lived import ANY
from strell_core.engine.lives import Beyond
from strell_core.engine.plan import EVERYTHING, Plan
from strell_core.engine.state import Reason, ReasonKind
from strell_core.market.market import Market
from strell_core.market.prices import CENT
from strell_core.market.tape import NO_TAPE, NONE
from strell_core.measures.frames import FALSE, TRUE
from strell_core.strategy.actions import Close

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]


@dataclass(frozen=True)
class Told:
    """What a variant amounts to."""

    pnl: Ints
    """Of its closed trades, cents, in the order in which they ended."""
    open: int
    """Trades that are open at the end."""
    equity: Floats
    """At the end of every session, money."""
    held: npt.NDArray[np.bool_]
    """Whether anything was, by session."""
    capital: Floats
    """Needed at the ends of sessions with open trades, money."""
    said: Sequence[Reason] = ()
    """What was decided at every look, as the engine says it, where it was asked for."""


class Variants:
    """Runs of variants of one market's rules over timeline indices ``[begin, end)``, which share what they can. Not for
    several threads at once."""

    def __init__(self, market: Market, begin: int, end: int, compiled: bool = True) -> None:
        """``compiled``: see :class:`strell_core.engine.learned.Learned`."""
        self.market, self.timeline, self.begin, self.end = market, market.main, begin, end
        self.compiled = compiled
        self.learned = Learned(market, begin, end, compiled)

    def run(
        self, plan: Plan, cash: Decimal, tells: bool = False, progress: Callable[[int], None] | None = None
    ) -> Told:
        """One variant; raises :class:`Beyond` where only the engine itself can tell. ``tells``: what it decided at every look
        too; ``progress`` is called with the snapshot of each look of which something is to be worked out, and may raise to
        stop."""
        self._check(plan, cash)
        if self.learned.is_full:
            self.learned = Learned(self.market, self.begin, self.end, self.compiled)
        return _Walk(self.learned, plan, cash, progress).told(tells)

    def _check(self, plan: Plan, cash: Decimal) -> None:
        timeline, strategy = self.timeline, plan.strategy
        simple = (
            plan.acts == EVERYTHING
            and not plan.delivers
            and not strategy.guards
            and not plan.remembers_account
            and not plan.earns_interest
            and plan.working.plain
            and not timeline.unfinished
            and not any(self.begin <= at < self.end for at in timeline.splits)
            and (timeline.sizes is None or strategy.orders["quoted_size"]["policy"] == "take")
            and cash == cash.quantize(CENT)
            and cash > 0
            and self.begin in timeline.first
            and self.end in timeline.first
            and all(
                adjusted.are_simple(entry)
                and not entry.schedule.after
                and entry.entry.underlying == timeline.underlying.symbol
                and all(leg.strike is not None for leg in entry.entry.legs)
                and all(item.closes == Close() and not item.then for item in entry.exits)
                for entry in plan.entries
            )
        )
        if not simple:
            raise Beyond


def compile_ahead() -> None:
    """Compiles all that a walk is made of, before anybody waits for it: one without looks."""
    known, path = Known(), walk.Path.begin(1, 0)
    exits, conditions, legs, checks = (np.zeros((1, 0, columns), np.int64) for columns in (2, 2, len(judged.LEG), 3))
    rules = walk.Rules(
        np.zeros(0, LOOK), 1, np.zeros(0, np.int32), exits, np.zeros((1, 8), np.int64), conditions, legs, checks, 0.0, 0, 0, True
    )  # fmt: skip
    walk.go_on(path, rules, facts_of(known), NO_TAPE)
    lived, closes, session_of = np.zeros((0, 3), np.int64), np.zeros(0, np.int64), np.zeros(0, np.int32)
    walked.told(lived, known.openings.rows, known.ends.rows, known.floats.rows, closes, session_of, 0, 0, True)
    _covered(known, lived, closes, closes, 0, 1, closes)


def _covered(
    known: Known, lived: Ints, adjusts: Ints, opened: Ints, start: int, looks_are: int, looks: Ints
) -> tuple[int, int, int]:  # fmt: skip
    found: tuple[int, int, int] = covered.covered(
        lived, adjusts, opened, start, looks_are, looks, known.openings.rows, known.ends.rows, known.floats.rows,
        known.asked_of.cells, known.asks.rows, known.worths.rows,
    )  # fmt: skip
    return found


def facts_of(known: Known) -> walk.Facts:
    """What is known, as a walk has it."""
    return walk.Facts(
        known.used, known.picks.rows, known.decisions.rows, known.openings.rows, known.ends.rows, known.floats.rows,
        known.picks_at, known.terms.rows, known.by_look.rows, known.exits.rows[: known.exits.count], known.reached,
        known.opening_of.cells, known.firsts.cells, known.stages.cells,
    )  # fmt: skip


class _Walk:
    """One variant, look by look."""

    def __init__(
        self, shared: Learned, plan: Plan, cash: Decimal, progress: Callable[[int], None] | None
    ) -> None:  # fmt: skip
        self.shared, self.plan, self.timeline, self.progress = shared, plan, shared.timeline, progress
        self.entries = [shared.entry(plan, entry) for entry in plan.entries]
        looks_are, looks = shared.looks(self.entries)
        self.path = walk.Path.begin(len(self.entries), len(looks))
        most = max(len(entry.exits) for entry in self.entries) + 1
        exits = np.full((len(self.entries), most, 2), NONE, np.int64)
        heads = np.empty(len(looks), np.int32)
        for place, entry in enumerate(self.entries):
            exits[place, : len(entry.exits), 0] = entry.exits
            exits[place, : len(entry.exits), 1] = [item.way == "loss" for item in entry.plan.exits]
            exits[place, len(entry.exits)] = entry.gives_up, walk.ADJUSTS
            mine = looks["entry"] == place
            heads[mine] = entry.heads[looks["own"][mine]]
        self.rules = walk.Rules(
            looks, looks_are, heads, exits, *self._by_numbers(), shared.share, shared.end, int(cash * 100),
            capital.limits_entries(plan),
        )  # fmt: skip
        self.alone: dict[int, Decided] = {}
        """What was decided at looks for this variant alone."""

    def _by_numbers(self) -> tuple[Ints, Ints, Ints, Ints]:
        """Every entry's sheet, conditions, legs and checks."""
        sheets, shared = [entry.sheet for entry in self.entries], self.shared
        sheet = np.zeros((len(sheets), 8), np.int64)
        for place, (one, entry) in enumerate(zip(sheets, self.entries, strict=True)):
            brings = self.plan.least(entry.plan)
            sheet[place] = (
                len(one.conditions), len(one.legs), len(one.checks), one.lots, shared.numbers.terms(self.plan, named(entry.plan.entry.legs)),
                shared.known.opening_of.place(brings), ANY if brings is None else brings, entry.adjusts,
            )  # fmt: skip
        if len(sheets) == 1:
            return sheet, sheets[0].conditions[None], sheets[0].legs[None], sheets[0].checks[None]
        found = []
        for rows in ([one.conditions for one in sheets], [one.legs for one in sheets], [one.checks for one in sheets]):
            together = np.zeros((len(rows), max(map(len, rows)), rows[0].shape[1]), np.int64)
            for place, own in enumerate(rows):
                together[place, : len(own)] = own
            found.append(together)
        return sheet, found[0], found[1], found[2]

    def told(self, tells: bool) -> Told:
        shared, decisions = self.shared, self.shared.known.decisions.count
        try:
            while (code := walk.go_on(self.path, self.rules, facts_of(shared.known), shared.tape)) != DONE:
                self._work_out(code)
        finally:
            if self.shared.known.decisions.count > decisions:
                self._keep_heads()
        known = shared.known
        lived = self.path.lived[: self.path.state[walk.LIVED]]
        session_of = self.timeline.session_of
        low, high = int(session_of[shared.begin]), int(session_of[shared.end - 1])
        closes = self.timeline.first[low + 1 : high + 2] - 1
        calls = self.plan.strategy.limits["capital"].params["below"] != "report"
        beyond, order, equity, held, needed, watched = walked.told(
            lived, known.openings.rows, known.ends.rows, known.floats.rows, closes, session_of, low, self.rules.start, calls
        )  # fmt: skip
        if beyond or not self._covers():
            raise Beyond
        ends = known.ends.rows[lived[order, 1]]
        closed = ends["ends"]
        pnl = known.openings.rows["total"][lived[order[closed], 0]] + ends["cents"][closed]
        return Told(pnl, int(len(lived) - closed.sum()), equity, held, needed[watched], self._said() if tells else ())

    def _covers(self) -> bool:
        """Whether the account had what adjustments asked of it."""
        shared, state = self.shared, self.path.state
        adjusts = [entry.adjusts for entry in self.entries]
        if not self.rules.refuses or max(adjusts) == NONE:
            return True
        opened, lived = self._entered(), self.path.lived[: state[walk.LIVED]]
        known, looks, own = shared.known, self.rules.looks["index"].copy(), np.array(adjusts, np.int64)
        while True:
            found, stage, at = _covered(known, lived, own, opened, self.rules.start, self.rules.looks_are, looks)
            if found != covered.UNKNOWN:
                return bool(found == covered.COVERED)
            shared.learn_worth(self.plan, stage, at)

    def _entered(self) -> Ints:
        """What came of all orders to open."""
        known = self.shared.known
        decided = np.flatnonzero(self.path.outcomes[:, 0] == walk.ENTERED)
        entries, rows = self.rules.looks["entry"][decided], self.path.outcomes[decided, 1]
        picked = known.decisions.rows["picked"][rows]
        for place in np.flatnonzero(rows == NONE).tolist():
            picked[place] = self.alone[int(decided[place])].picked
        return known.opening_of.cells[self.rules.sheet[entries, walk.LEAST], picked].astype(np.int64)

    def _keep_heads(self) -> None:
        """What was decided at looks is known to other variants too."""
        for place, entry in enumerate(self.entries):
            mine = self.rules.looks["entry"] == place
            entry.heads[self.rules.looks["own"][mine]] = self.rules.heads[mine]

    def _work_out(self, code: int) -> None:
        """What the walk has stopped for."""
        shared, state = self.shared, self.path.state
        k, asked = int(state[walk.AT]), int(state[walk.ASKED])
        look = self.rules.looks[k]
        entry, index = self.entries[look["entry"]], int(look["index"])
        if self.progress is not None:
            self.progress(index)
        if code == ROOM:
            shared.known.make_room(asked)
        elif code == DECIDE:
            self._decide(entry, k)
        elif code == LOOKED:
            try:
                shared.learn_looks(asked, int(look["own"]))
            except AsksAccount:
                shared.numbers.give_up(entry.name)
                self.rules.sheet[look["entry"], walk.LEGS] = 0
        elif code == OPEN:
            shared.learn_opening(self.plan, asked, self.rules, int(self.rules.sheet[look["entry"], walk.LEAST]))
        elif code == ADJUSTED:
            shared.learn_adjusted(self.plan, entry, asked, self.rules.looks_are, self.rules.looks)
        elif code == FIRSTS:
            shared.learn_exits(self.plan, asked)
        elif code == ENDED:
            shared.learn_end(
                self.plan, asked, int(state[walk.LEFT]), bool(state[walk.URGENT]), bool(state[walk.BY_ADJUSTS])
            )
        elif code == FUNDS:
            shared.learn_value(self.plan, asked, self.rules.looks_are, self.rules.looks, k)
        else:
            shared.learn_wait(self.plan, asked, index)

    def _decide(self, entry: LookedAt, k: int) -> None:
        state = self.path.state
        row, decided = self.shared.decide(
            self.plan, entry, int(self.rules.looks[k]["own"]), self.path.counts, self._funds
        )
        if row == NONE:
            self.alone[k], state[walk.DECIDED_AT], state[walk.DECIDED] = decided, k, decided.picked
        else:
            self.rules.heads[k] = row

    def _funds(self) -> tuple[float, float]:
        """Equity and free capital at the look at which it has stopped."""
        shared = self.shared
        while (found := walk.funds(self.path, self.rules, facts_of(shared.known), shared.tape))[0] != DONE:
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
            decided = (
                self.alone[k] if row == NONE else shared.said(self.plan, self.entries[place], int(look["own"]), row)
            )
            if outcome == walk.NO:
                say(index, place, "no entry", decided.rule, decided.truth, decided.values)
            elif outcome == walk.REFUSED:
                currency = self.timeline.underlying.on(self.timeline.dates[int(look["session"])]).currency
                needed = float(shared.known.picks.rows[decided.picked]["needed"])
                told = capital.short_of(needed, float(self.path.free[k]), currency)
                say(index, place, "no entry", rules.size.id, FALSE, told)
            else:
                made += 1
                contracts = [leg.contract.code for leg in shared.dealt_in(decided.picked)]
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
        known = self.shared.known
        made = known.openings.rows[known.opening_of.cells[self.rules.sheet[entry, walk.LEAST], picked]]
        return not made["filled"] and bool(made["moment"] < 2 * self.shared.end - 1)

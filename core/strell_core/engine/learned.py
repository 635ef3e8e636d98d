"""What variants of one market's rules have in common, and how more of it comes to be known.

Everything is worked out by the engine's own rooms, once, and put where a variant's walk finds it
(:mod:`strell_core.engine.known`).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple, cast

import numpy as np
import numpy.typing as npt

from strell_core.engine import capital, walk
from strell_core.engine.entering import decide_entry
from strell_core.engine.known import COUNTS, LOOK, NONE, STAYS, Known, Rows
from strell_core.engine.lives import Beyond, Lives, Opening
from strell_core.engine.plan import EntryPlan, Plan
from strell_core.engine.state import OrderLeg
from strell_core.market.kept import Kept
from strell_core.market.market import Market, Observation
from strell_core.measures.frames import TRUE, Account, Params, Past
from strell_core.strategy.kinds import Exit
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


class LookedAt(NamedTuple):
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


class Learned:
    """What is known of variants over timeline indices ``[begin, end)``."""

    def __init__(self, market: Market, begin: int, end: int) -> None:
        self.market, self.timeline, self.begin, self.end = market, market.main, begin, end
        self.known, self._lives = Known(), Lives(market, begin, end)
        self.openings: list[Opening] = []
        self.picks: list[Picked] = []
        self.decided: list[Decided] = []
        """By decision, what it says."""
        self._seen = Kept()
        """Observations with what was worked out of their chains."""
        self._picked: dict[Any, int] = {}
        self._exits: dict[str, tuple[Exit, Params]] = {}
        """By what they say."""
        self._due: dict[Any, Ints] = {}
        self._heads: dict[str, dict[Any, npt.NDArray[np.int32]]] = {}
        self._looks: dict[Any, tuple[int, Rows]] = {}

    @property
    def is_full(self) -> bool:
        """Who varies every leg by fifty values has less in common than fits."""
        return len(self.picks) > MOST or len(self.decided) > MOST_DECISIONS or self.known.megabytes > MOST_MB

    def entry(self, plan: Plan, entry: EntryPlan) -> LookedAt:
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
        return LookedAt(entry, looks, looks_are, self._heads_of(name, looks_are, looks), exits)

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

    def looks(self, entries: Sequence[LookedAt]) -> tuple[int, Rows]:
        """Looks of a plan's entries in their order, and their number among all that are known."""
        key = tuple(entry.looks_are for entry in entries)
        if key not in self._looks:
            rows = np.zeros(sum(len(entry.looks) for entry in entries), LOOK)
            at = 0
            for place, entry in enumerate(entries):
                part = rows[at : at + len(entry.looks)]
                part["index"], part["entry"], part["own"] = entry.looks, place, np.arange(len(entry.looks))
                at += len(entry.looks)
            rows["session"] = self.timeline.session_of[rows["index"]]
            rows["last"] = self.timeline.last_of_several[rows["index"]]
            self._looks[key] = len(self._looks) + 1, rows[np.lexsort((rows["entry"], rows["index"]))]
        return self._looks[key]

    def decide(
        self, plan: Plan, entry: LookedAt, own: int, counts: Ints, funds: Callable[[], tuple[float, float]]
    ) -> tuple[int, Decided]:
        """What an entry decides at one of its looks, and the row of that; none, where it is decided for this variant alone:
        by its funds."""
        account, index = _Watched(counts, funds), int(entry.looks[own])
        decision = decide_entry(entry.plan, self._observed(index), cast(Account, account))
        if decision.entered and decision.selection is not None:
            legs = tuple(
                OrderLeg(leg.leg_id, leg.contract, leg.contracts * decision.lots) for leg in decision.selection.legs
            )
            found = Decided(self._pick(plan, index, legs, decision.lots), "", TRUE, {})
        else:
            rule, verdict = decision.verdicts[-1]
            found = Decided(NONE, rule, verdict.truth, verdict.values)
        if account.of_funds:
            return NONE, found
        row = self.known.decisions.add((account.asked, found.picked, entry.heads[own]))
        self.decided.append(found)
        entry.heads[own] = row
        return row, found

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
        made = self._lives.opened(plan, entry, what.index, what.legs, what.lots)
        row: tuple[Any, ...] = (False, made.moment, made.decided, *[0] * 4, NONE, *[0] * 9, NONE, 0.0)
        if made.trade is not None:
            amounts, closes = [amount / 100 for amount in made.amounts], len(made.closes)
            first, at = self._looks_in(made, rules.looks, 0)
            values = self._lives.values(plan, made, np.concatenate([made.closes, at]))
            begin, legs = known.floats.count, len(values.by_leg)
            known.floats.extend(np.concatenate([
                amounts, values.by_leg[:, :closes].ravel(), values.worth[:closes], values.needed[:closes],
                _pairs(values.worth[closes:], values.needed[closes:]),
            ]))  # fmt: skip
            row = (
                True, made.moment, made.decided, made.index, sum(made.amounts), begin, len(amounts), NONE,
                made.first_session, made.unwatched, closes, legs, begin + len(amounts), rules.looks_are, first,
                first + len(at), begin + len(amounts) + (legs + 2) * closes, NONE, 0.0,
            )  # fmt: skip
        known.openings.add(row)
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
        found = self._lives.first_true(plan, self.openings[opening], [self._exits[says] for says in lacks.values()])
        for place, first in zip(lacks, found, strict=True):
            firsts.put(place, opening, first)

    def learn_end(self, plan: Plan, opening: int, left: int, urgent: bool) -> None:
        """How a trade ends that is left at a snapshot is known from now on; of what is known already nothing comes."""
        known, other = self.known, int(self.known.openings.rows[opening]["ends"])
        while other != NONE and (known.ends.rows[other]["left"], known.ends.rows[other]["urgent"]) != (left, urgent):
            other = int(known.ends.rows[other]["next"])
        if other != NONE:
            return
        found = self._lives.ended(plan, self.openings[opening], left, urgent)
        before = known.openings.rows[opening]["ends"]
        if found is None:
            known.ends.add((left, urgent, before, False, 0, STAYS, *[0] * 6))
        else:
            amounts = [amount / 100 for amount in found.amounts]
            known.ends.add((
                left, urgent, before, True, found.index, found.moment, found.settles, found.held, found.watched,
                sum(found.amounts), known.floats.extend(amounts), len(amounts),
            ))  # fmt: skip
        known.openings.rows[opening]["ends"] = known.ends.count - 1

    def learn_value(self, plan: Plan, opening: int, looks_are: int, looks: Rows, k: int) -> None:
        """What a trade is worth and needs at a look, and at those that come next, is known from now on."""
        made = self.openings[opening]
        first, at = self._looks_in(made, looks, k)
        values, row = self._lives.values(plan, made, at), self.known.openings.rows[opening]
        row["looks"], row["from_look"], row["to_look"] = looks_are, first, first + len(at)
        row["funds"] = self.known.floats.extend(_pairs(values.worth, values.needed))

    def learn_wait(self, opening: int, index: int) -> None:
        """What an order at work needs is known for the moment."""
        row = self.known.openings.rows[opening]
        row["waits_at"], row["waits_for"] = index, capital.of_order(self.market, self.openings[opening].asked, index)


def _pairs(worth: Floats, needed: Floats) -> Floats:
    return np.stack([worth, needed], axis=1).ravel()

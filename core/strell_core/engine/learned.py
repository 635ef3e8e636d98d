"""What variants of one market's rules have in common, and how more of it comes to be known.

What goes by numbers a variant's walk works out itself; everything else is worked out by the engine's own rooms, once, and put
where the walk finds it (:mod:`strell_core.engine.known`).
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Mapping, Sequence
from typing import Any, NamedTuple, cast

import numpy as np
import numpy.typing as npt

from strell_core.engine import adjusted, capital, judged, walk
from strell_core.engine.by_numbers import Numbered, Sheet
from strell_core.engine.entering import decide_entry
from strell_core.engine.known import AHEAD, DONE, LOOK, MOST_LEGS, NOTHING, STAYS, Known, Rows
from strell_core.engine.lives import Lives, Opening
from strell_core.engine.marks import NEVER
from strell_core.engine.plan import EntryPlan, Plan
from strell_core.engine.state import LegState, OrderLeg
from strell_core.engine.watched import Watched
from strell_core.margin.strategy_based import share_of
from strell_core.market.instruments import ContractKey, Right, strike_of
from strell_core.market.kept import Kept
from strell_core.market.market import Market, Observation
from strell_core.market.tape import NO_TAPE, NONE
from strell_core.measures.frames import TRUE, Account, Params
from strell_core.strategy.kinds import Exit

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
MOST, MOST_DECISIONS, MOST_MB = 12_000, 200_000, 256
"""Orders of which is kept what came of them, a few kilobytes each; decisions; and what all of it takes."""


class Decided(NamedTuple):
    """What an entry decides at a look."""

    picked: int
    """The place of what it would deal in, before its capital is asked for; none, where a sentence says no."""
    rule: str
    """That sentence, with its truth and the numbers it saw; nothing where none does."""
    truth: int
    values: Mapping[str, Any]


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
    adjusts: int
    """The place of its adjustments among those that are known; none."""
    gives_up: int
    """The place among exits of closing where one of them cannot be made."""
    sheet: Sheet
    """Its rules by numbers, where all of them have some."""
    name: str
    """The same for all entries that decide by the same rules at the same looks."""


class Learned:
    """What is known of variants over timeline indices ``[begin, end)``. ``compiled``: what goes by numbers is worked out where it
    is asked for; otherwise only by the engine's own rooms, which come to the same."""

    def __init__(self, market: Market, begin: int, end: int, compiled: bool = True) -> None:
        self.market, self.timeline, self.begin, self.end = market, market.main, begin, end
        self.known, self._lives = Known(len(self.timeline.times)), Lives(market, begin, end)
        tape = self.timeline.tape if compiled else None
        self.tape = tape or NO_TAPE
        self.numbers = Numbered(self.known, self.timeline, tape)
        self.share = share_of(self.timeline.underlying.kind)
        self._decided: dict[int, Decided] = {}
        self._openings: dict[int, Opening] = {}
        self._seen = Kept()
        """Observations with what was worked out of their chains."""
        self._picked: dict[Any, int] = {}
        self._legs: dict[int, tuple[OrderLeg, ...]] = {}
        """Of picks that compiled loops know nothing of."""
        self._contracts: dict[tuple[int, int], ContractKey] = {}
        """By expiration and row."""
        self._exits: dict[str, tuple[Exit | None, Params]] = {}
        """By what they say."""
        self._due: dict[Any, Ints] = {}
        self._heads: dict[str, dict[Any, npt.NDArray[np.int32]]] = {}
        self._looks: dict[Any, tuple[int, Rows]] = {}

    @property
    def is_full(self) -> bool:
        """Who varies every leg by fifty values has less in common than fits."""
        known = self.known
        return (
            max(known.picks.count, known.openings.count // 2) > MOST
            or known.decisions.count > MOST_DECISIONS
            or known.megabytes > MOST_MB
        )

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
            looks = self._due[looks_are] = schedule.due(self.market, self.begin, self.end)
        exits = [self._exit(item.rule.says, item.kind, item.rule.params) for item in entry.exits]
        by_these, heads = f"{name} {looks_are}", self._heads_of(name, looks_are, looks)
        sheet = self.numbers.sheet(plan, entry, by_these, looks_are, looks)
        adjusts, gives_up = NONE, NONE
        if says := adjusted.says(plan, entry):
            adjusts, gives_up = self.known.stages.place(says), self._exit(f"adjusts {says}", None, {})
        return LookedAt(entry, looks, looks_are, heads, exits, adjusts, gives_up, sheet, by_these)

    def _exit(self, says: str, kind: Exit | None, params: Params) -> int:
        """The place of an exit; without a ``kind`` of adjustments, of which is told when they close."""
        place = self.known.firsts.place(says)
        if says not in self._exits:
            self._exits[says] = kind, params
            self.numbers.add_exit(kind, params)
        return place

    def learn_looks(self, place: int, own: int) -> None:
        """See :meth:`strell_core.engine.by_numbers.Numbered.learn_looks`."""
        self.numbers.learn_looks(place, own, self._observed)

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
        found, account = self._judged(plan, entry, own, counts, funds)
        if account.of_funds:
            return NONE, found
        row = self.known.decisions.add((account.asked, found.picked, entry.heads[own]))
        self._decided[row] = found
        entry.heads[own] = row
        return row, found

    def _judged(
        self, plan: Plan, entry: LookedAt, own: int, counts: Ints, funds: Callable[[], tuple[float, float]]
    ) -> tuple[Decided, Watched]:
        account, index = Watched(counts, funds), int(entry.looks[own])
        decision = decide_entry(entry.plan, self._observed(index), cast(Account, account))
        if decision.entered and decision.selection is not None:
            legs = tuple(
                OrderLeg(leg.leg_id, leg.contract, leg.contracts * decision.lots) for leg in decision.selection.legs
            )
            return Decided(self._pick(plan, index, legs, decision.lots), "", TRUE, {}), account
        rule, verdict = decision.verdicts[-1]
        return Decided(NONE, rule, verdict.truth, verdict.values), account

    def said(self, plan: Plan, entry: LookedAt, own: int, row: int) -> Decided:
        """What a known decision of a look says, in words where it went by numbers."""
        if row not in self._decided:
            known = self.known.decisions.rows[row]
            self._decided[row] = (
                Decided(int(known["picked"]), "", TRUE, {})
                if known["picked"] != NONE
                else self._judged(plan, entry, own, known["asked"], lambda: (0.0, 0.0))[0]
            )
        return self._decided[row]

    def _observed(self, index: int) -> Observation:
        found: Observation | None = self._seen.get(index)
        if found is None:
            found = self._seen[index] = Observation(self.market, index)
        return found

    def _pick(self, plan: Plan, index: int, legs: tuple[OrderLeg, ...], lots: int) -> int:
        """The same for all that would deal in the same."""
        known, found = self.known, self._by_numbers(plan, legs)
        if found is not None:
            known.make_room(0)
            terms, places, rows = found
            code, place = judged.place_of(
                index, places, rows, np.array([leg.contracts for leg in legs], np.int64), lots, terms,
                self.share, known.terms.rows, known.picks.rows, known.picks_at, known.used, self.tape,
            )  # fmt: skip
            if code == DONE:
                return int(place)
        key = index, tuple((leg.leg_id, leg.contract, leg.contracts) for leg in legs), lots, plan.orders_say
        if key not in self._picked:
            view = self._observed(index).view(self.timeline.underlying.symbol)
            assert view is not None
            needed = capital.of_new(plan, view, ((leg.contract, leg.contracts) for leg in legs))
            nothing = [0] * MOST_LEGS
            self._picked[key] = known.picks.add((index, lots, NONE, NONE, 0, nothing, nothing, nothing, needed))
            self._legs[self._picked[key]] = legs
        return self._picked[key]

    def _by_numbers(self, plan: Plan, legs: Sequence[OrderLeg | LegState]) -> tuple[int, Ints, Ints] | None:
        """The place of the terms of orders for legs, and of each its expiration's place and its row there; ``None``: compiled
        loops do not know them."""
        terms = self.numbers.terms(plan, tuple(leg.leg_id for leg in legs))
        if terms == NONE or len(legs) > MOST_LEGS:
            return None
        places = np.array([self.numbers.places[leg.contract.expiration.toordinal()] for leg in legs], np.int64)
        rows = [
            self.timeline.cubes[leg.contract.expiration].row(leg.contract.right, leg.contract.strike) for leg in legs
        ]
        return terms, places, np.array(rows, np.int64)

    def _holds(self, plan: Plan, made: Opening) -> int:
        """What a stage holds, as a pick that no entry finds."""
        assert made.trade is not None
        legs, n = made.trade.legs, len(made.trade.legs)
        found = self._by_numbers(plan, legs)
        held, terms = np.zeros((3, MOST_LEGS), np.int64), NONE
        if found is not None:
            terms, held[0, :n], held[1, :n] = found
            held[2, :n] = [leg.contracts for leg in legs]
        return self.known.picks.add(
            (made.index, made.trade.lots, terms, NONE, 0 if found is None else n, *held.tolist(), 0.0)
        )

    def dealt_in(self, picked: int) -> tuple[OrderLeg, ...]:
        """The legs of what would be dealt in."""
        if picked not in self._legs:
            row, tape, symbol, legs = self.known.picks.rows[picked], self.tape, self.timeline.underlying.symbol, []
            names = self.numbers.names[int(row["terms"])]
            for place in range(row["legs"]):
                where = int(row["expiration"][place]), int(row["row"][place])
                if where not in self._contracts:
                    one = tape.expirations[where[0]]
                    call = where[1] < one["strikes"]
                    strike = strike_of(int(tape.strikes[one["strike"] + where[1] - (0 if call else one["strikes"])]))
                    day, right = dt.date.fromordinal(int(one["day"])), Right.CALL if call else Right.PUT
                    self._contracts[where] = ContractKey(day, right, strike, symbol)
                legs.append(OrderLeg(names[place], self._contracts[where], int(row["contracts"][place])))
            self._legs[picked] = tuple(legs)
        return self._legs[picked]

    def opening(self, plan: Plan, place: int) -> Opening:
        """What came of an order, as the engine's own room has it; ``plan``: of a variant with the same terms of orders."""
        if place not in self._openings:
            row = self.known.openings.rows[place]
            least, filled = self.known.opening_of.keys[row["least"]], int(row["index"]) if row["filled"] else None
            self._openings[place] = self._opened(plan, least, int(row["picked"]), filled)
        return self._openings[place]

    def _opened(self, plan: Plan, least: int | None, picked: int, filled: int | None = None) -> Opening:
        row = self.known.picks.rows[picked]
        return self._lives.opened(plan, least, int(row["index"]), self.dealt_in(picked), int(row["lots"]), filled)

    def learn_opening(self, plan: Plan, picked: int, rules: walk.Rules, least: int) -> int:
        """What comes of the order for what was picked is known from now on, as that opening. ``least``: the place of what a fill
        has to bring."""
        made = self._opened(plan, self.known.opening_of.keys[least], picked)
        opening = self._add(plan, made, picked, least, NONE, rules.looks_are, rules.looks)
        self.known.opening_of.put(least, picked, opening)
        return opening

    def _add(
        self, plan: Plan, made: Opening, picked: int, least: int, before: int, looks_are: int, looks: Rows
    ) -> int:  # fmt: skip
        """The row of what came of an order; ``before``: that of the stage that it made another of."""
        known, opening = self.known, self.known.openings.count
        root, total = opening, 0
        if before != NONE:
            earlier = known.openings.rows[before]
            root, total = int(earlier["root"]), int(earlier["total"])
        row: tuple[Any, ...] = (
            picked, least, False, made.moment, made.decided, *[0] * 4, NONE, *[0] * 9, NONE, 0.0, before, root, total, NONE, 0, 0, NEVER,
        )  # fmt: skip
        if made.trade is not None:
            amounts, closes = [amount / 100 for amount in made.amounts], len(made.closes)
            first, at = self._looks_in(made, looks, 0)
            ends, funds = self._lives.at_closes(plan, made), self._lives.values(plan, made, at)
            begin, legs = known.floats.count, len(ends.by_leg)
            known.floats.extend(np.concatenate([
                amounts, ends.by_leg.ravel(), ends.worth, ends.needed, _pairs(funds.worth, funds.needed),
            ]))  # fmt: skip
            cents, trade = sum(made.amounts), made.trade
            paid = sum(leg.contracts * leg.opened_parts for leg in trade.legs)
            row = (
                picked, least, True, made.moment, made.decided, made.index, cents, begin, len(amounts), NONE,
                made.first_session, made.unwatched, closes, legs, begin + len(amounts), looks_are, first,
                first + len(at), begin + len(amounts) + (legs + 2) * closes, NONE, 0.0, before, root, total + cents, NONE,
                trade.opening, trade.realised - paid, NEVER if trade.best is None else trade.best,
            )  # fmt: skip
        known.openings.add(row)
        self._openings[opening] = made
        known.firsts.make_room(opening + 1)
        return opening

    def learn_adjusted(self, plan: Plan, entry: LookedAt, opening: int, looks_are: int, looks: Rows) -> None:
        """What an entry's adjustments make of a trade, or of a stage of its life, is known from now on."""
        known, made, stage = self.known, self.opening(plan, opening), NOTHING
        turn = adjusted.turned(self._lives, plan, entry.plan, made, self._observed)
        if turn.stage is not None:
            row = known.openings.rows[opening]
            picked, least = self._holds(plan, turn.stage), int(row["least"])
            stage = self._add(plan, turn.stage, picked, least, opening, looks_are, looks)
        known.stages.put(entry.adjusts, opening, stage)
        known.firsts.put(entry.gives_up, opening, turn.left)
        first = NONE
        for one in turn.asked:
            first = known.asks.add((one.at, one.needed, first))
        known.asked_of.put(entry.adjusts, opening, first)

    def learn_worth(self, plan: Plan, opening: int, at: int) -> None:
        """What a trade, or a stage of its life, is worth and needs at a snapshot is known from now on."""
        values = self._lives.values(plan, self.opening(plan, opening), np.array([at], np.int64))
        row = self.known.openings.rows[opening]
        row["worths"] = self.known.worths.add((at, values.worth[0], values.needed[0], row["worths"]))

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
        found = zip(range(len(self._exits)), self._exits.values(), strict=True)
        lacks = {
            place: (kind, params) for place, (kind, params) in found if kind and firsts.cells[place, opening] == NONE
        }
        made = self.opening(plan, opening)
        for place, first in zip(lacks, self._lives.first_true(plan, made, list(lacks.values())), strict=True):
            firsts.put(place, opening, first)

    def learn_end(self, plan: Plan, opening: int, left: int, urgent: bool, by: bool) -> None:
        """How a trade ends that is left at a snapshot, ``by`` adjustments or not, is known from now on."""
        known = self.known
        found, before = (
            self._lives.ended(plan, self.opening(plan, opening), left, urgent),
            known.openings.rows[opening]["ends"],
        )
        if found is None:
            known.ends.add((left, urgent, by, before, False, 0, STAYS, *[0] * 6))
        else:
            amounts = [amount / 100 for amount in found.amounts]
            known.ends.add((
                left, urgent, by, before, True, found.index, found.moment, found.settles, found.held, found.watched,
                sum(found.amounts), known.floats.extend(amounts), len(amounts),
            ))  # fmt: skip
        known.openings.rows[opening]["ends"] = known.ends.count - 1

    def learn_value(self, plan: Plan, opening: int, looks_are: int, looks: Rows, k: int) -> None:
        """What a trade is worth and needs at a look, and at those that come next, is known from now on."""
        made = self.opening(plan, opening)
        first, at = self._looks_in(made, looks, k)
        values, row = self._lives.values(plan, made, at), self.known.openings.rows[opening]
        row["looks"], row["from_look"], row["to_look"] = looks_are, first, first + len(at)
        row["funds"] = self.known.floats.extend(_pairs(values.worth, values.needed))

    def learn_wait(self, plan: Plan, opening: int, index: int) -> None:
        """What an order at work needs is known for the moment."""
        row = self.known.openings.rows[opening]
        row["waits_at"], row["waits_for"] = (
            index,
            capital.of_order(self.market, self.opening(plan, opening).asked, index),
        )


def _pairs(worth: Floats, needed: Floats) -> Floats:
    return np.stack([worth, needed], axis=1).ravel()

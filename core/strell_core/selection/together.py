"""Choosing the legs of a structure together: of those around what each leg's own pick takes, the one that comes nearest to a wish."""

from __future__ import annotations

import dataclasses
import heapq
import math
from collections.abc import Callable, Sequence

from strell_core.market.view import ChainView
from strell_core.measures.frames import Frame, PickedLeg
from strell_core.selection.select import Allows, LegChoice, Selection, next_choice
from strell_core.strategy.document import LegRule
from strell_core.strategy.kinds import Search

VISITS = 20_000
"""So many combinations of places are looked at, at most: some have no structure."""
Places = tuple[int, ...]
"""Of every leg, the place of what it takes among its choices, 0 the first."""


def choose_together(
    legs: Sequence[LegRule], frame: Frame, view: ChainView, search: Search, away: Callable[[Selection], float],
    passes: Callable[[Selection], bool], allows: Sequence[Allows] = (), walked: int = 0,
) -> Selection | None:  # fmt: skip
    """Of the structures around the picks the one that is least ``away``, of those that pass if any does; ``None``: of none it
    is known. Of several as near, the one nearest to the picks: with the lowest sum of places, then the first leg nearest."""
    tree = _Tree(legs, frame, view, search, allows, walked)
    best: tuple[bool, float] | None = None
    found: Selection | None = None
    for selection in tree.from_the_picks_outward():
        far = away(selection)
        if not math.isfinite(far):
            continue
        rank = (not passes(selection), far)
        if best is None or rank < best:
            best, found = rank, selection
    return found


@dataclasses.dataclass
class _Tree:
    """Choices of every leg after those of the legs before it, each worked out once."""

    legs: Sequence[LegRule]
    frame: Frame
    view: ChainView
    search: Search
    allows: Sequence[Allows]
    walked: int
    known: dict[Places, list[LegChoice]] = dataclasses.field(default_factory=dict)

    def from_the_picks_outward(self) -> list[Selection]:
        """Structures in the order of the sum of their places, at most as many as are searched."""
        count, out = len(self.legs), list[Selection]()
        start: Places = (0,) * count
        heap, seen, visits = [(0, start)], {start}, 0
        widest = self.search.near * self.search.expirations
        while heap and len(out) < self.search.most and visits < VISITS:
            total, places = heapq.heappop(heap)
            visits += 1
            made = self._made(places)
            if made is not None:
                out.append(made)
            for leg in range(count):
                if places[leg] + 1 < widest:
                    further = (*places[:leg], places[leg] + 1, *places[leg + 1 :])
                    if further not in seen:
                        seen.add(further)
                        heapq.heappush(heap, (total + 1, further))
        return out

    def _made(self, places: Places) -> Selection | None:
        choices: list[LegChoice] = []
        for leg, place in enumerate(places):
            there = self._choices(places[:leg], choices)
            if place >= len(there):
                return None
            choices.append(there[place])
        selection = Selection(tuple(choices))
        return selection if selection.failed is None else None

    def _choices(self, before: Places, choices: Sequence[LegChoice]) -> list[LegChoice]:
        if before not in self.known:
            self.known[before] = self._told(self.legs[len(before)], choices)
        return self.known[before]

    def _told(self, leg: LegRule, choices: Sequence[LegChoice]) -> list[LegChoice]:
        """A leg's choices beside those before it: by rank of the strike, then by that of the expiration."""
        found: list[tuple[int, int, LegChoice]] = []
        for later in range(self.search.expirations):
            choice = next_choice(
                leg, choices, self.frame, self.view, self.search.near - 1, self.allows, walked=self.walked, later=later
            )
            if choice is None:
                break
            if choice.picked is None or not choice.candidates:
                # it is left out, or it is the underlying itself
                if later == 0 and (choice.left_out or choice.picked is not None):
                    found.append((0, 0, choice))
                continue
            found += [(rank, later, taken) for rank, taken in enumerate(self._each(leg, choice))]
        return [choice for _, _, choice in sorted(found, key=lambda item: item[:2])]

    def _each(self, leg: LegRule, choice: LegChoice) -> list[LegChoice]:
        """The choice, and the same with each of its runners-up in the first's place."""
        out = []
        for candidate in choice.candidates:
            if candidate.too_far:
                continue
            picked = PickedLeg(leg.id, candidate.contract, leg.contracts, self.view.quote(candidate.contract))
            others = [item for item in choice.candidates if item is not candidate]
            ranked = tuple(dataclasses.replace(item, rank=rank) for rank, item in enumerate([candidate, *others]))
            out.append(dataclasses.replace(choice, candidates=ranked, picked=picked))
        return out

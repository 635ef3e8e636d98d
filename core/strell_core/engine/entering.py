"""Whether an entry is made at a look: its conditions, what it picks, the checks on that, and how many lots."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from strell_core.engine.plan import EntryPlan
from strell_core.market.instruments import ContractKey
from strell_core.market.market import Observation
from strell_core.market.view import ChainView
from strell_core.measures.frames import FALSE, TRUE, UNVALUED, Account, PickedLeg, Verdict
from strell_core.selection.select import Selection, exhausted, select, selected
from strell_core.selection.together import choose_together
from strell_core.strategy import kinds
from strell_core.strategy.kinds import EntryFrame
from strell_core.strategy.schedule import DUE


@dataclass(frozen=True)
class EntryDecision:
    """What the entry rules said at an instant, rule by rule, until the first that was not true."""

    verdicts: tuple[tuple[str, Verdict], ...]
    selection: Selection | None
    lots: int

    @property
    def entered(self) -> bool:
        return self.lots > 0 and all(verdict.truth == TRUE for _, verdict in self.verdicts)


Afford = Callable[[Sequence[PickedLeg], int], Verdict]
"""Whether so many lots of picked legs can be paid for."""


def decide_entry(
    entry: EntryPlan, observation: Observation, account: Account, runners_up: int = 0, thorough: bool = False,
    afford: Afford | None = None, again: bool = False, same: Mapping[str, ContractKey] | None = None,
) -> EntryDecision:  # fmt: skip
    """Judge an entry's rules at a snapshot. ``thorough`` goes on after the first that says no; ``afford`` is asked
    last, and speaks for the sentence on size. ``again``: it is a re-entry, which waits for no crossing; ``same``: the
    contracts of its legs, which are not picked anew."""
    rules, symbol = entry.entry, entry.entry.underlying
    frame = EntryFrame(observation, account, symbol, again)
    verdicts: list[tuple[str, Verdict]] = []
    for rule in rules.conditions:
        verdicts.append((rule.id, kinds.enter_conditions[rule.kind].judge(frame, rule.params)))
        if verdicts[-1][1].truth != TRUE and not thorough:
            return EntryDecision(tuple(verdicts), None, 0)
    view = observation.view(symbol)
    if view is None:
        verdicts.append((rules.legs[0].id, Verdict(UNVALUED, {"message": f"{symbol} has no snapshot near now"})))
        return EntryDecision(tuple(verdicts), None, 0)
    same = same or (None if again else _kept(entry, frame))
    if same:
        found = _judged(entry, frame, view, selected(rules.legs, same, view), thorough)
    else:
        found = _picked(entry, frame, view, runners_up, thorough)
    selection, checked, good = found
    verdicts += checked
    if selection.failed is not None or not (good or thorough):
        return EntryDecision(tuple(verdicts), selection, 0)
    lots = kinds.size_rules[rules.size.kind].lots(frame, selection.legs, rules.size.params)
    if lots == 0:
        verdicts.append((rules.size.id, Verdict(FALSE, {"lots": 0})))
    elif afford is not None:
        paid = afford(selection.legs, lots)
        if paid.truth != TRUE:
            verdicts.append((rules.size.id, paid))
    return EntryDecision(tuple(verdicts), selection, lots)


Checked = tuple[Selection, list[tuple[str, Verdict]], bool]
"""A structure, what is said of it, and whether nothing stands in its way."""


def _picked(entry: EntryPlan, frame: EntryFrame, view: ChainView, runners_up: int, thorough: bool) -> Checked:
    """The structure with its checks. Where a leg walks out: with the first expiration with which all of them hold; with
    the nearest where there is none."""
    nearest = found = _checked(entry, frame, view, runners_up, thorough, 0)
    walked = 0
    while not found[2] and entry.walks and not exhausted(entry.entry.legs, found[0]):
        walked += 1
        found = _checked(entry, frame, view, runners_up, thorough, walked)
    return found if found[2] else nearest


def _kept(entry: EntryPlan, now: EntryFrame) -> dict[str, ContractKey] | None:
    """By leg, what was picked before in this session where its sheet keeps that; ``None``: it is picked now."""
    if not entry.schedule.keeps:
        return None
    market, index = now.observation.market, now.observation.index
    first = int(market.main.first[now.observation.session])
    for at in entry.schedule.looks(market, first, index).tolist() if index > first else ():
        frame = EntryFrame(Observation(market, at), now.account, now.symbol)
        view = frame.observation.view(now.symbol)
        if view is None or entry.schedule.status(market, at) != DUE:
            continue
        selection = _picked(entry, frame, view, 0, False)[0]
        if selection.failed is None:
            return {leg.leg_id: leg.contract for leg in selection.legs}
    return None


def _checked(
    entry: EntryPlan, frame: EntryFrame, view: ChainView, runners_up: int, thorough: bool, walked: int
) -> Checked:
    selection = _together(entry, frame, view, walked)
    if selection is None:
        selection = select(entry.entry.legs, frame.frame(), view, runners_up, entry.allows, walked=walked)
    return _judged(entry, frame, view, selection, thorough)


def _together(entry: EntryPlan, frame: EntryFrame, view: ChainView, walked: int) -> Selection | None:
    """Legs that are chosen together; ``None``: each is picked by itself, or of no structure it is known how near it
    comes."""
    rule = entry.together
    choice = kinds.structure_conditions[rule.kind].chooses if rule is not None else None
    if rule is None or choice is None:
        return None

    def away(selection: Selection) -> float:
        return choice.away(frame, _options(selection), view, rule.params)

    def passes(selection: Selection) -> bool:
        return _judged(entry, frame, view, selection, False)[2]

    return choose_together(
        entry.entry.legs, frame.frame(), view, choice.search(rule.params), away, passes, entry.allows, walked
    )


def _options(selection: Selection) -> list[PickedLeg]:
    return [leg for leg in selection.legs if not leg.contract.is_unit]


def _judged(entry: EntryPlan, frame: EntryFrame, view: ChainView, selection: Selection, thorough: bool) -> Checked:
    """A structure with its checks."""
    failed = selection.failed
    if failed is not None:
        return selection, [(failed.leg_id, Verdict(FALSE, {"message": failed.message}))], False
    options = _options(selection)
    verdicts: list[tuple[str, Verdict]] = []
    good = True
    for rule in entry.entry.checks:
        verdict = kinds.structure_conditions[rule.kind].judge(frame, options, view, rule.params)
        verdicts.append((rule.id, verdict))
        good = good and verdict.truth == TRUE
        if not good and not thorough:
            break
    return selection, verdicts, good

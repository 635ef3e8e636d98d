"""When the times that a sheet names act on a history: its snapshots may lie elsewhere."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

import numpy as np

from strell_core.market.timeline import Timeline
from strell_core.measures.params import minutes
from strell_core.strategy.parts import parts, switched_on

TIMES = {"when": ("time", "from"), "leave": ("time",), "adjust": ("daily",)}
"""By list of a document, which values of its sentences are times at which they are looked at."""


def acting(document: Mapping[str, Any], timeline: Timeline) -> dict[str, str]:
    """By the id of a sentence that names a time, when it acts where that is another: in sessions with one snapshot, and in
    those of the last kind with several. ``timeline``: whose snapshots are the clock."""
    decides = _decides_single(document)
    single = _last_single(timeline)
    several = _last_several(timeline)
    out = {}
    for _, part, _, items in parts(document):
        for _, item in switched_on(items):
            for name in TIMES.get(part, ()):
                if isinstance(item.get(name), str) and item["id"] not in out:
                    words = "; ".join(_words(part, minutes(item[name]), single, several, timeline, decides))
                    if words:
                        out[item["id"]] = f"{words[0].upper()}{words[1:]}."
    return out


def _words(
    part: str, wanted: int, single: int | None, several: int | None, timeline: Timeline, decides: bool
) -> Iterator[str]:
    leaves = part == "leave"
    if single is not None and (leaves or decides):
        now = int(timeline.minute[int(timeline.first[single])])
        if now != wanted:
            yield f"acts at {_clock(now)} where a session has one snapshot"
    if several is None:
        return
    first, end = int(timeline.first[several]), int(timeline.first[several + 1])
    acts = int(timeline.ends[1][several])
    due = min(wanted, acts) if leaves else timeline.minute_in(several, wanted)
    place = first + int(np.searchsorted(timeline.minute[first:end], due))
    step = timeline.step_minutes(several)
    if place >= end or (not leaves and int(timeline.minute[place]) > due + step):
        yield "has no snapshot near enough, so that it is skipped"
    elif not leaves and place == end - 1:
        yield (
            f"comes with a session's last snapshot, {_clock(int(timeline.minute[place]))}, after which nothing can be filled: "
            f"choose {_clock(int(timeline.minute[place - 1]))} or earlier"
        )
    elif int(timeline.minute[place]) != wanted:
        filled = _clock(int(timeline.minute[place + 1])) if place + 1 < end else "the next session"
        yield f"acts at {_clock(int(timeline.minute[place]))} on snapshots {step} minutes apart, filled from {filled} on"


def _clock(minute: int) -> str:
    return f"{minute // 60:02d}:{minute % 60:02d}"


def _decides_single(document: Mapping[str, Any]) -> bool:
    said = [item for _, item in switched_on(document["orders"]) if item["rule"] == "single_snapshots"]
    return not said or said[0]["policy"] == "decide"


def _last_single(timeline: Timeline) -> int | None:
    found = np.flatnonzero(timeline.is_single)
    return int(timeline.session_of[found[-1]]) if len(found) else None


def _last_several(timeline: Timeline) -> int | None:
    """The last whole session with several snapshots that is as long as the longest of its kind."""
    first = timeline.first
    counts = np.diff(first)
    whole = np.flatnonzero((counts > 1) & (timeline.ends[1] < 24 * 60))
    if len(whole) == 0:
        return None
    recent = whole[-20:]
    return int(recent[np.flatnonzero(counts[recent] == counts[recent].max())[-1]])

"""When entries are looked at, and what was picked for the day, as plainly as possible."""

from __future__ import annotations

import datetime as dt
from typing import Any

from tests.demo import breadth
from tests.engine.plain_picks import Picks
from tests.engine.plain_recording import DAYS, ZONE, Contract, clock, minute


class Looks(Picks):
    # -- rule 1
    def acting(self, time: str) -> int:
        """The minute at which a time acts: beyond a session that reached its end, on the last snapshot but one."""
        minutes = self.recording.minutes[self.session]
        if clock(time) <= minutes[-1]:
            return clock(time)
        if self.single:
            return minutes[0]
        close = minute(self.recording.closes[self.recording.dates[self.session]])
        whole = close - minutes[-1] <= minutes[1] - minutes[0]
        return minutes[-2] if whole else clock(time)

    def leaving(self, time: str) -> int:
        """The minute at which a time to leave acts: one that comes with the last snapshot or after it, on the last but
        one."""
        minutes = self.recording.minutes[self.session]
        if self.single:
            return minutes[0]
        close = minute(self.recording.closes[self.recording.dates[self.session]])
        whole = close - minutes[-1] <= minutes[1] - minutes[0]
        return min(clock(time), minutes[-2]) if whole else clock(time)

    def times(self, entry: dict[str, Any]) -> list[str]:
        """Times of day at which an entry is looked at today."""
        today, out = DAYS[self.recording.dates[self.session].weekday()], []
        for when in entry["when"]:
            if today not in when.get("weekdays", ()):
                continue
            if when["rule"] == "decision_times":
                out.append(when["time"])
            else:
                at = clock(when["from"])
                while at <= max(clock(when["from"]), clock(when["until"])):
                    out.append(f"{at // 60:02d}:{at % 60:02d}")
                    at += when["minutes"]
        return out

    def told(self) -> bool:
        """Whether the series has a value that was not known a snapshot ago: days end at midnight."""
        chains, dates = self.recording.chains, self.recording.dates
        if not (self.session or self.snap):
            return False
        before = chains[self.session].times[self.snap - 1] if self.snap else chains[self.session - 1].times[-1]
        ends = (dt.datetime.combine(date + dt.timedelta(days=1), dt.time(0), ZONE) for date in breadth(dates))
        return any(int(before) < end.timestamp() <= self.at for end in ends)

    def look(self, entry: dict[str, Any]) -> str:
        """Whether this is one: due, skipped, or nothing."""
        told = any(when["rule"] == "on_series" for when in entry["when"]) and self.told()
        times = self.times(entry)
        if not times and not told:
            return ""
        if self.single:
            skips = self.set.get("single_snapshots", {"policy": "decide"})["policy"] == "skip"
            return "skipped" if skips else "due"
        if told:
            return "due"
        minutes = self.recording.minutes[self.session][: self.snap + 1]
        chain = self.recording.chains[self.session]
        step = (int(chain.times[1]) - int(chain.times[0])) // 60
        found = ""
        for time in times:
            wanted = self.acting(time)
            if max(minutes[:-1], default=-1) >= wanted or (minutes[-1] < wanted and not self.last):
                continue
            if minutes[-1] < wanted or minutes[-1] - wanted > step:
                found = "skipped"
            else:
                return "due"
        return found

    # -- picks that are kept for the day
    def legs_of_the_day(self, entry: dict[str, Any]) -> dict[str, tuple[Contract, int]] | None:
        """What was picked before today where the sheet keeps it; else nothing, and what is picked now is kept."""
        if not any(when["rule"] == "picks_kept" for when in entry["when"]):
            return None
        day, kept = entry.get("kept", (None, None))
        return kept if day == self.session else None

    def opens_on(self, contract: Contract, count: int) -> bool:
        """Whether a contract has quotes that it can be opened on."""
        quote = self.recording.quote(contract, self.session, self.snap)
        return quote is not None and (count > 0 or quote[0] > 0)

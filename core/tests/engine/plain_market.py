"""Numbers of the market that take a loop of their own: the table of moves, volatility at a constant maturity, crossings."""

from __future__ import annotations

import datetime as dt
import math
from typing import Any

from tests.engine.plain_recording import Recording

EDGES = (-2.0, -1.0, -0.5, 0.0, 0.5, 1.0, 2.0)


def move_chance(closes: list[float], value: dict[str, Any]) -> float | None:
    """Of the moves that followed one like the last, how many ended between two bounds, in percent."""

    def bucket(place: int) -> int:
        move = 100 * (closes[place] / closes[place - value["given"]] - 1)
        return sum(move >= edge for edge in EDGES)

    now = len(closes) - 1
    if now < value["given"]:
        return None
    cases = hits = 0
    for begin in range(max(value["given"], now + 1 - value["sessions"]), now - value["horizon"] + 1):
        if bucket(begin) == bucket(now):
            move = 100 * (closes[begin + value["horizon"]] / closes[begin] - 1)
            cases += 1
            hits += value["from"] - 1e-9 <= move <= value["to"] + 1e-9
    return 100 * hits / cases if cases >= value["least"] else None


def at_the_money(recording: Recording, session: int, snap: int, day: dt.date) -> float | None:
    """Volatility in percent at the forward, on the line between the strikes around it: puts below it, calls from it on."""
    chain = recording.chains[session]
    forward = float(chain.forward[chain.expirations.index(day), snap])
    points = []
    for contract in (*recording.listed[session][day, "put"], *recording.listed[session][day, "call"]):
        vol, (_, right, strike) = recording.iv(contract, session, snap), contract
        if vol is not None and (strike >= forward) == (right == "call"):
            points.append((float(strike), vol))
    points.sort()
    if not forward > 0 or len(points) < 2 or not points[0][0] <= forward <= points[-1][0]:
        return None
    for (low, one), (high, other) in zip(points, points[1:], strict=False):
        if low <= forward <= high:
            return one + (other - one) * (forward - low) / (high - low)
    return None


def volatility(recording: Recording, session: int, snap: int, days: int) -> float | None:
    """At a constant maturity: total variance on the line between the two expirations around it."""
    chain, known = recording.chains[session], []
    for day in sorted(chain.expirations):
        left = (recording.closes[day] - int(chain.times[snap])) / 86_400
        offered = left > 0 and day in recording.quoted(session, snap)
        found = at_the_money(recording, session, snap, day) if offered else None
        if found is not None:
            known.append((left, found))
    if not known:
        return None
    before, after = [k for k in known if k[0] <= days], [k for k in known if k[0] >= days]
    if not before or not after:
        return (after[0] if after else before[-1])[1]
    (t1, v1), (t2, v2) = before[-1], after[0]
    if t1 == t2:
        return v1
    total = v1 * v1 * t1 + (days - t1) / (t2 - t1) * (v2 * v2 * t2 - v1 * v1 * t1)
    return math.sqrt(max(0.0, total) / days)

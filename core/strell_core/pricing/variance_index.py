"""The volatility of the next thirty days as a strip of options prices it.

Source: the published methodology of the exchange that made such an index first (its white paper, recalled from
memory, not looked up): per term σ² = 2/T Σ ΔK/K² e^{RT} Q(K) - 1/T (F/K₀ - 1)², with Q(K) the mid of the
out-of-the-money option and the mean of both at K₀, the strike next below the forward; options beyond two zero
bids in a row are left out; two terms around thirty days are mixed linearly in total variance, by the minute.
"""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt

from strell_core.market.chains import SessionChain
from strell_core.pricing.black import YEAR_SECONDS, FloatArray

THIRTY_DAYS = 30 * 86_400
IntArray = npt.NDArray[np.int32]
_NONE = np.empty(0, np.int64)


def _strip(bid: IntArray, ask: IntArray) -> npt.NDArray[np.bool_]:
    """Which of the options, ordered away from the money, belong: bid for, up to two zero bids in a row."""
    used = np.zeros(len(bid), np.bool_)
    empty = 0
    for i in range(len(bid)):
        if bid[i] > 0 and bid[i] <= ask[i]:
            used[i], empty = True, 0
        else:
            empty += 1
            if empty == 2:
                break
    return used


def term_variance(
    strike: FloatArray, call_bid: IntArray, call_ask: IntArray, put_bid: IntArray, put_ask: IntArray, quantum: float,
    forward: float, years: float, rate: float,
) -> float:  # fmt: skip
    """Variance a year of one term; NaN without options on both sides. Arrays ``(strikes,)`` in quanta."""
    below = np.flatnonzero(strike <= forward)
    if len(below) == 0 or below[-1] == len(strike) - 1 or not years > 0.0:
        return math.nan
    centre = int(below[-1])
    value = np.zeros(len(strike))
    used = np.zeros(len(strike), np.bool_)
    for order, bid, ask in (
        (np.arange(centre - 1, -1, -1), put_bid, put_ask), (np.arange(centre + 1, len(strike)), call_bid, call_ask),
    ):  # fmt: skip
        mine = order[_strip(bid[order], ask[order])]
        used[mine] = True
        value[mine] = 0.5 * (bid[mine] + ask[mine]) * quantum
    if not (used[:centre].any() and used[centre + 1 :].any()):
        return math.nan
    both = [
        0.5 * (b[centre] + a[centre])
        for b, a in ((call_bid, call_ask), (put_bid, put_ask))
        if 0 < b[centre] <= a[centre]
    ]
    if not both:
        return math.nan
    used[centre], value[centre] = True, sum(both) / len(both) * quantum
    k, q = strike[used], value[used]
    width = np.empty(len(k))
    width[1:-1] = 0.5 * (k[2:] - k[:-2])
    width[0], width[-1] = k[1] - k[0], k[-1] - k[-2]
    total = 2.0 / years * float(np.sum(width / (k * k) * q)) * math.exp(rate * years)
    return total - (forward / strike[centre] - 1.0) ** 2 / years


def thirty_days(near: tuple[float, float], later: tuple[float, float]) -> float:
    """Volatility of thirty days, percent, from two terms ``(seconds, variance a year)`` around it."""
    (t1, v1), (t2, v2) = near, later
    weight = (t2 - THIRTY_DAYS) / (t2 - t1)
    total = weight * v1 * t1 / YEAR_SECONDS + (1.0 - weight) * v2 * t2 / YEAR_SECONDS
    return 100.0 * math.sqrt(max(0.0, total) * YEAR_SECONDS / THIRTY_DAYS)


def variance_index(chain: SessionChain, settlements: list[int], quantum: float, rate: float) -> FloatArray:
    """The index at each snapshot of a session, percent, ``(snapshots,)``, NaN where two terms are not there.

    ``settlements`` are those of the chain's expirations, epoch seconds. The terms are the last one of at most
    thirty days and the first one beyond.
    """
    out = np.full(len(chain.times), np.nan)
    strikes = np.array([float(c.strike) for c in chain.contracts])
    places = {expiration: place for place, expiration in enumerate(chain.expirations)}
    found_rows: dict[tuple[int, str], list[int]] = {}
    for i, contract in enumerate(chain.contracts):
        found_rows.setdefault((places[contract.expiration], contract.right), []).append(i)
    rows = {key: np.array(mine, np.int64) for key, mine in found_rows.items()}
    for t, now in enumerate(chain.times.tolist()):
        left = [settles - now for settles in settlements]
        first = max((i for i, s in enumerate(left) if 86_400 < s <= THIRTY_DAYS), default=None)
        second = min((i for i, s in enumerate(left) if s > THIRTY_DAYS), default=None)
        if first is None or second is None:
            continue
        found = []
        for place in (first, second):
            call, put = rows.get((place, "call"), _NONE), rows.get((place, "put"), _NONE)
            if len(call) == 0 or len(call) != len(put) or not chain.forward[place, t] > 0:
                break
            variance = term_variance(
                strikes[call], chain.bid[call, t], chain.ask[call, t], chain.bid[put, t], chain.ask[put, t], quantum,
                float(chain.forward[place, t]), left[place] / YEAR_SECONDS, rate,
            )  # fmt: skip
            found.append((float(left[place]), variance))
        if len(found) == 2 and all(math.isfinite(v) for _, v in found):
            out[t] = thirty_days(found[0], found[1])
    return out

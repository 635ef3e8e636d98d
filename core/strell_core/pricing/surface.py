"""What a session's quotes imply: forwards by parity and one volatility per strike.

Call and put of one strike and expiration share a volatility: that of the out-of-the-money side.
Where that side has no bid, the other side's is used if it has time value; else there is none.
"""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.pricing.black import FloatArray
from strell_core.pricing.implied import OK, implied_volatility

IntArray = npt.NDArray[np.int32]
CONVENTIONS = "iv-1: mid, out-of-the-money side, parity forward over ten strikes, 365-day years to the second"
PARITY_STRIKES = 10
MAX_STORED_IV = 6.5


@njit(cache=True, nogil=True)
def parity_forward(
    strike: FloatArray, call_bid: IntArray, call_ask: IntArray, put_bid: IntArray, put_ask: IntArray,
    quantum: float, discount: float,
) -> float:  # fmt: skip
    """Forward implied by put–call parity at one instant, NaN without a usable pair.

    Arrays are ``(strikes,)``, quotes in quanta (-1: none). Source: F = K + (C - P)/D (Stoll, 1969),
    averaged over the ten pairs with the smallest |C - P|, weighted by 1/spread². Pairs further from
    the weighted median than their own spread are left out, so one bad quote does not move it.
    """
    n = strike.shape[0]
    gap = np.full(n, np.inf)
    for i in range(n):
        if 0 < call_bid[i] <= call_ask[i] and 0 < put_bid[i] <= put_ask[i]:
            gap[i] = abs(call_bid[i] + call_ask[i] - put_bid[i] - put_ask[i])
    order = np.argsort(gap)
    count = 0
    estimate = np.empty(PARITY_STRIKES)
    weight = np.empty(PARITY_STRIKES)
    width = np.empty(PARITY_STRIKES)
    for i in order[:PARITY_STRIKES]:
        if gap[i] == np.inf:
            break
        difference = 0.5 * (call_bid[i] + call_ask[i] - put_bid[i] - put_ask[i]) * quantum
        estimate[count] = strike[i] + difference / discount
        width[count] = (call_ask[i] - call_bid[i] + put_ask[i] - put_bid[i] + 1) * quantum
        weight[count] = 1.0 / (width[count] * width[count])
        count += 1
    if count == 0:
        return math.nan
    ranked = np.argsort(estimate[:count])
    half = 0.5 * weight[:count].sum()
    median, passed = estimate[ranked[0]], 0.0
    for i in ranked:
        passed += weight[i]
        if passed >= half:
            median = estimate[i]
            break
    total, mass = 0.0, 0.0
    for i in range(count):
        if abs(estimate[i] - median) <= width[i]:
            total += weight[i] * estimate[i]
            mass += weight[i]
    return float(total / mass)


@njit(cache=True, nogil=True)
def _own_iv(bid: int, ask: int, forward: float, strike: float, years: float, sign: int, scale: float) -> int:
    if bid <= 0 or bid > ask:
        return 0
    vol, status = implied_volatility(0.5 * (bid + ask) * scale, forward, strike, years, sign)
    if status != OK or vol > MAX_STORED_IV:
        return 0
    return round(vol * 10_000.0)


@njit(cache=True, nogil=True)
def expiration_surface(
    strike: FloatArray, call_bid: IntArray, call_ask: IntArray, put_bid: IntArray, put_ask: IntArray,
    seconds_left: npt.NDArray[np.int64], quantum: float, rate: float,
) -> tuple[FloatArray, npt.NDArray[np.uint16]]:  # fmt: skip
    """Forwards ``(snapshots,)`` and IVs ``(strikes, snapshots)`` in 0.0001 of one expiration.

    Quote arrays are ``(strikes, snapshots)`` in quanta. An IV of 0 means there is none.
    """
    n, m = call_bid.shape
    forward = np.full(m, np.nan)
    iv = np.zeros((n, m), np.uint16)
    for t in range(m):
        years = seconds_left[t] / 31_536_000.0
        if years <= 0.0:
            continue
        discount = math.exp(-rate * years)
        forward[t] = parity_forward(
            strike, call_bid[:, t], call_ask[:, t], put_bid[:, t], put_ask[:, t], quantum, discount
        )
        f = forward[t]
        if not f > 0.0:
            continue
        scale = quantum / discount
        for i in range(n):
            k = strike[i]
            if k >= f:
                value = _own_iv(call_bid[i, t], call_ask[i, t], f, k, years, 1, scale)
                if value == 0:
                    value = _own_iv(put_bid[i, t], put_ask[i, t], f, k, years, -1, scale)
            else:
                value = _own_iv(put_bid[i, t], put_ask[i, t], f, k, years, -1, scale)
                if value == 0:
                    value = _own_iv(call_bid[i, t], call_ask[i, t], f, k, years, 1, scale)
            iv[i, t] = value
    return forward, iv

"""What a session's quotes imply: forwards by parity and one volatility per strike.

Call and put of one strike and expiration share a volatility: that of the out-of-the-money side.
Where that side has no bid, the other side's is used if it has time value; else there is none.
"""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt
from numba import njit

from strell_core.pricing.american import BULK, american_volatility, early_exercise, never_early
from strell_core.pricing.black import CALL, PUT, FloatArray
from strell_core.pricing.implied import OK, implied_volatility
from strell_core.pricing.premium_table import OUT_OF_THE_MONEY_VOLS, build, log_nodes, premium, scales, volatility

IntArray = npt.NDArray[np.int32]
CONVENTIONS = "iv-2: mid, out-of-the-money side, parity forward over ten strikes, 365-day years to the second"
PARITY_STRIKES = 10
MAX_STORED_IV = 6.5
STORED_CLOSE = 5e-6
"""How close a volatility is found that is stored in steps of 0.0001."""
AMERICAN_PAIRS = 5
"""Pairs of call and put nearest to the forward whose premium for early exercise is taken out of parity."""
AMERICAN_ROUNDS = 3
NEAR_VOLS = np.int64(3)
"""Volatilities of the table for those pairs, which lie close to each other."""


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
                value = _own_iv(call_bid[i, t], call_ask[i, t], f, k, years, CALL, scale)
                if value == 0:
                    value = _own_iv(put_bid[i, t], put_ask[i, t], f, k, years, PUT, scale)
            else:
                value = _own_iv(put_bid[i, t], put_ask[i, t], f, k, years, PUT, scale)
                if value == 0:
                    value = _own_iv(call_bid[i, t], call_ask[i, t], f, k, years, CALL, scale)
            iv[i, t] = value
    return forward, iv


@njit(cache=True, nogil=True)
def _carried(spot: float, forward: float, years: float, rate: float, worth: float) -> float:
    """Carry with which the price without its dividends grows to the forward; the rate where that cannot be."""
    rest = spot - worth
    return math.log(forward / rest) / years if rest > 0.0 and forward > 0.0 and years > 0.0 else rate


@njit(cache=True, nogil=True)
def _tables(
    low: float, high: float, least: float, most: float, vols: int, years: float, rate: float, carry: float,
    when: FloatArray, paid: FloatArray,
) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:  # fmt: skip
    """Volatilities, scales, and premiums of calls and of puts between two volatilities and two strikes."""
    nodes, scale = log_nodes(low, high, vols), scales(least, most, paid.shape[0])
    nothing = np.zeros((1, 1, 1))
    calls, puts = nothing, nothing
    if not never_early(rate, carry, CALL, paid.shape[0]):
        calls = build(years, rate, carry, when, paid, nodes, scale, CALL)
    if not never_early(rate, carry, PUT, paid.shape[0]):
        puts = build(years, rate, carry, when, paid, nodes, scale, PUT)
    return nodes, scale, calls, puts


@njit(cache=True, nogil=True)
def _european_mid(bid: int, ask: int, quantum: float, discount: float, forward: float, strike: float, years: float,
                  sign: int) -> float:  # fmt: skip
    """Volatility of a mid as if it were European, 0 where there is none: never below the American one."""
    if bid <= 0 or bid > ask:
        return 0.0
    vol, status = implied_volatility(0.5 * (bid + ask) * quantum / discount, forward, strike, years, sign)
    return vol if status == OK and vol <= MAX_STORED_IV else 0.0


@njit(cache=True, nogil=True)
def _early(
    mid: float, rest: float, years: float, rate: float, carry: float, when: FloatArray, paid: FloatArray,
    strike: float, sign: int, table: FloatArray, nodes: FloatArray, scale: FloatArray,
) -> float:  # fmt: skip
    """Premium for early exercise in a price, NaN where the price has no volatility."""
    vol, status = volatility(mid, rest, years, rate, carry, when, paid, strike, sign, table, nodes, scale)
    if status != OK:
        return math.nan
    if never_early(rate, carry, sign, paid.shape[0]):
        return 0.0
    early, _ = premium(table, nodes, scale, rest, years, strike, vol, sign)
    if math.isnan(early):
        early, _, _, _ = early_exercise(rest, years, rate, carry, when, paid, strike, vol, sign, BULK[0], BULK[1])
    return early


@njit(cache=True, nogil=True)
def _american_forward(
    strike: FloatArray, call_bid: IntArray, call_ask: IntArray, put_bid: IntArray, put_ask: IntArray, quantum: float,
    spot: float, years: float, rate: float, when: FloatArray, paid: FloatArray, worth: float, start: float,
) -> float:  # fmt: skip
    """Forward by parity once the premiums for early exercise are taken out of calls and puts."""
    forward, rest, discount = start, spot - worth, math.exp(-rate * years)
    near = np.empty(AMERICAN_PAIRS, np.int64)
    for _ in range(AMERICAN_ROUNDS):
        carry = _carried(spot, forward, years, rate, worth)
        count, low, high = 0, math.inf, 0.0
        for i in np.argsort(np.abs(strike - forward)):
            if count == AMERICAN_PAIRS:
                break
            c = _european_mid(call_bid[i], call_ask[i], quantum, discount, forward, strike[i], years, CALL)
            p = _european_mid(put_bid[i], put_ask[i], quantum, discount, forward, strike[i], years, PUT)
            if c > 0.0 and p > 0.0:
                near[count] = i
                count += 1
                low, high = min(low, c, p), max(high, c, p)
        if count == 0:
            return forward
        pairs = near[:count]
        nodes, scale, calls, puts = _tables(
            0.8 * low, high, strike[pairs].min(), strike[pairs].max(), NEAR_VOLS, years, rate, carry, when, paid
        )
        total, mass = 0.0, 0.0
        for i in pairs:
            k = strike[i]
            mid_c, mid_p = 0.5 * (call_bid[i] + call_ask[i]) * quantum, 0.5 * (put_bid[i] + put_ask[i]) * quantum
            early_c = _early(mid_c, rest, years, rate, carry, when, paid, k, CALL, calls, nodes, scale)
            early_p = _early(mid_p, rest, years, rate, carry, when, paid, k, PUT, puts, nodes, scale)
            if math.isnan(early_c) or math.isnan(early_p):
                continue
            difference = mid_c - mid_p - early_c + early_p
            width = (call_ask[i] - call_bid[i] + put_ask[i] - put_bid[i] + 1) * quantum
            total += (strike[i] + difference / discount) / (width * width)
            mass += 1.0 / (width * width)
        if mass == 0.0:
            return forward
        found = total / mass
        if abs(found - forward) <= 1e-6 * forward:
            return found
        forward = found
    return forward


@njit(cache=True, nogil=True)
def american_surface(
    strike: FloatArray, call_bid: IntArray, call_ask: IntArray, put_bid: IntArray, put_ask: IntArray,
    seconds_left: npt.NDArray[np.int64], quantum: float, rate: float, spot: FloatArray, dividend_seconds: FloatArray,
    dividends: FloatArray,
) -> tuple[FloatArray, npt.NDArray[np.uint16]]:  # fmt: skip
    """As :func:`expiration_surface` for American options on a price ``spot`` ``(snapshots,)`` in points.

    Dividends (points) are paid ``dividend_seconds`` before the expiration settles; those not paid yet count.
    """
    n, m = call_bid.shape
    forward = np.full(m, np.nan)
    iv = np.zeros((n, m), np.uint16)
    for t in range(m):
        years = seconds_left[t] / 31_536_000.0
        if years <= 0.0:
            continue
        when_all = (seconds_left[t] - dividend_seconds) / 31_536_000.0
        inside = when_all > 0.0
        when, paid = when_all[inside], dividends[inside]
        worth = float(np.sum(paid * np.exp(-rate * when)))
        start = parity_forward(
            strike, call_bid[:, t], call_ask[:, t], put_bid[:, t], put_ask[:, t], quantum, math.exp(-rate * years)
        )
        price = spot[t]
        if not start > 0.0 or not price - worth > 0.0:
            continue
        f = _american_forward(
            strike, call_bid[:, t], call_ask[:, t], put_bid[:, t], put_ask[:, t], quantum, price, years, rate, when,
            paid, worth, start,
        )  # fmt: skip
        forward[t] = f
        carry, rest = _carried(price, f, years, rate, worth), price - worth
        discount = math.exp(-rate * years)
        low, high = math.inf, 0.0
        for i in range(n):
            sign = 1 if strike[i] >= f else -1
            bid, ask = (call_bid[i, t], call_ask[i, t]) if sign > 0 else (put_bid[i, t], put_ask[i, t])
            vol = _european_mid(bid, ask, quantum, discount, f, strike[i], years, sign)
            if vol > 0.0:
                low, high = min(low, vol), max(high, vol)
        if high == 0.0:
            low, high = 0.2, 0.4
        nodes, scale, calls, puts = _tables(
            0.8 * low, high, strike[0], strike[-1], OUT_OF_THE_MONEY_VOLS, years, rate, carry, when, paid
        )
        for i in range(n):
            first = 1 if strike[i] >= f else -1
            for sign in (first, -first):
                bid, ask = (call_bid[i, t], call_ask[i, t]) if sign > 0 else (put_bid[i, t], put_ask[i, t])
                if bid <= 0 or bid > ask:
                    continue
                mid = 0.5 * (bid + ask) * quantum
                if sign == first:
                    table = calls if sign > 0 else puts
                    vol, status = volatility(
                        mid, rest, years, rate, carry, when, paid, strike[i], sign, table, nodes, scale
                    )
                else:  # in the money: by itself, the table is made for the other side
                    vol, status = american_volatility(
                        mid, rest, years, rate, carry, when, paid, strike[i], sign, BULK[0], BULK[1], STORED_CLOSE
                    )
                if status == OK and 0.0 < vol <= MAX_STORED_IV:
                    iv[i, t] = round(vol * 10_000.0)
                    break
    return forward, iv

"""The generated market: same bytes every time, no arbitrage one could trade, and its promised faults."""

from __future__ import annotations

import datetime as dt
import math
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from strell_core.market.calendars import marrowick
from strell_core.market.chains import SessionChain, decode, digest
from strell_core.scenario import listing
from strell_core.scenario.generator import MK30, Scenario, Settings
from strell_core.scenario.smile import at_the_money_variance, skew, total_variance
from tests.demo import SHORT, demo_chains, payloads

GOLDEN = {
    0: "0fffdb612d4c067bc5efd29cf937c052",
    300: "5bbc91e7e9d63b323f4ad723872d71be",
    680: "45394a97efe2661af478debe05591f6d",
    749: "ab9ae6a8a8bbafce70e33792af107398",
}
"""Session number to the first half of its chain's SHA-256."""


class GoldenTest(unittest.TestCase):
    def test_the_demo_has_the_bytes_it_always_had(self) -> None:
        made = payloads(Settings())
        self.assertEqual({number: digest(made[number])[:32] for number in GOLDEN}, GOLDEN)

    def test_generated_again_it_is_the_same(self) -> None:
        scenario = Scenario(SHORT)
        for number in (0, 70, 89):
            again, kept = scenario.chain(number), decode(payloads(SHORT)[number])
            np.testing.assert_array_equal(again.bid, kept.bid)
            np.testing.assert_array_equal(again.iv, kept.iv)

    def test_another_seed_is_another_market(self) -> None:
        other = Scenario(Settings(seed=303, sessions=90, intraday=25))
        self.assertFalse(np.array_equal(other.path.spot, Scenario(SHORT).path.spot))


class SmileTest(unittest.TestCase):
    """No arbitrage on the surface: J. Gatheral and A. Jacquier (2014), equations 2.2 and lemma 2.2."""

    @settings(max_examples=60, deadline=None)
    @given(variance=st.floats(0.0072, 0.6), years=st.floats(1 / 365, 1.0))
    def test_density_is_positive_and_variance_grows_with_time(self, variance: float, years: float) -> None:
        rho = skew(variance)
        k = np.linspace(-0.4, 0.4, 801)
        w = np.array([total_variance(x, at_the_money_variance(years, variance), rho) for x in k])
        later = np.array([total_variance(x, at_the_money_variance(years * 1.05, variance), rho) for x in k])
        self.assertTrue((later >= w - 1e-12).all(), "calendar arbitrage")
        step = k[1] - k[0]
        first, second = np.gradient(w, step), np.gradient(np.gradient(w, step), step)
        g = (1 - k * first / (2 * w)) ** 2 - first**2 / 4 * (1 / w + 0.25) + second / 2
        self.assertGreater(g[3:-3].min(), -1e-3, "butterfly arbitrage")

    def test_skew_steepens_with_volatility(self) -> None:
        self.assertLess(skew(0.2), skew(0.02))


def usable(chain: SessionChain, expiration: dt.date, right: str, snap: int) -> dict[int, tuple[int, int]]:
    return {
        c.strike: (int(chain.bid[i, snap]), int(chain.ask[i, snap]))
        for i, c in enumerate(chain.contracts)
        if c.expiration == expiration and c.right == right and 0 <= chain.bid[i, snap] <= chain.ask[i, snap] and chain.ask[i, snap] > 0
    }  # fmt: skip


class NoArbitrageTest(unittest.TestCase):
    """In quotes, at prices one could deal at: verticals, butterflies and parity give nothing for free."""

    def test_quotes_of_some_sessions(self) -> None:
        for chain in demo_chains()[::75]:
            snap = len(chain.times) // 2
            for rank, expiration in enumerate(chain.expirations):
                calls, puts = usable(chain, expiration, "call", snap), usable(chain, expiration, "put", snap)
                for quotes, sign in ((calls, 1), (puts, -1)):
                    strikes = sorted(quotes)
                    for a, b in zip(strikes, strikes[1:], strict=False):
                        dear, cheap = (a, b) if sign > 0 else (b, a)
                        self.assertGreaterEqual(quotes[dear][1], quotes[cheap][0], "a vertical for nothing")
                        self.assertLessEqual(
                            quotes[dear][0] - quotes[cheap][1], (b - a) * 20, "a vertical above its width"
                        )
                    for a, b, c in zip(strikes, strikes[1:], strikes[2:], strict=False):
                        if b - a == c - b:
                            self.assertGreaterEqual(
                                quotes[a][1] + quotes[c][1], 2 * quotes[b][0], "a butterfly for nothing"
                            )
                forward = float(chain.forward[rank, snap])
                if not math.isfinite(forward):
                    continue
                years = (marrowick().session(expiration).close - int(chain.times[snap])) / (365 * 86_400)
                for strike in calls.keys() & puts.keys():
                    fair = math.exp(-MK30.rate * years) * (forward - strike) * 20
                    self.assertLessEqual(calls[strike][0] - puts[strike][1], fair + 2)
                    self.assertGreaterEqual(calls[strike][1] - puts[strike][0], fair - 2)


class ShapeTest(unittest.TestCase):
    """What the scenario promises."""

    def test_closing_sessions_then_five_minutes_with_one_gap(self) -> None:
        counts = [len(chain.times) for chain in demo_chains()]
        self.assertEqual(counts[:630], [1] * 630)
        full = max(counts[630:])
        self.assertEqual(full, 102)
        self.assertEqual(sum(count not in (full, 48) for count in counts[630:]), 1, "one session lost an afternoon")

    def test_a_crash_a_recovery_and_calm(self) -> None:
        closes = np.array([chain.settlement for chain in demo_chains()]) / 100
        self.assertLess((closes[5:] / closes[:-5] - 1).min(), -0.07)
        self.assertGreater(closes[-1] / closes.min(), 1.15)

    def test_crossed_stale_and_bidless_quotes_exist(self) -> None:
        crossed = sum(int(((c.bid > c.ask) & (c.ask > 0)).sum()) for c in demo_chains())
        self.assertGreater(crossed, 50)
        last = demo_chains()[-1]
        self.assertGreater(int((last.bid == 0).sum()), 100)
        self.assertTrue((last.ask[last.ask >= 0] > 0).all())

    def test_spreads_widen_away_from_the_money_side(self) -> None:
        chain = demo_chains()[0]
        quotes = usable(chain, chain.expirations[4], "call", 0)
        width = {strike: ask - bid for strike, (bid, ask) in quotes.items() if bid > 0}
        spot = chain.spot[0] / 100
        near = [w for strike, w in width.items() if abs(strike / spot - 1) < 0.01]
        inside = [w for strike, w in width.items() if strike < spot * 0.93]
        self.assertGreater(np.mean(inside), np.mean(near))


class ListingTest(unittest.TestCase):
    calendar = marrowick()

    def test_what_was_listed_stays_listed_until_it_expires(self) -> None:
        chains_ = demo_chains()
        for before, after in zip(chains_[200:320], chains_[201:321], strict=True):
            living = {c for c in before.contracts if c.expiration >= after.date}
            self.assertLessEqual(living, set(after.contracts), after.date)

    def test_weeklies_on_three_days_and_third_fridays(self) -> None:
        found = listing.expirations(self.calendar, dt.date(2026, 10, 5))
        self.assertEqual(found[:3], [dt.date(2026, 10, 5), dt.date(2026, 10, 7), dt.date(2026, 10, 9)])
        self.assertIn(dt.date(2027, 3, 19), found)
        # three days a week for five weeks, Fridays for nine
        self.assertEqual(
            [date.weekday() for date in found if dt.date(2026, 11, 2) <= date <= dt.date(2026, 11, 9)], [0, 2, 4, 0]
        )
        late = [date for date in found if dt.date(2026, 11, 10) <= date <= dt.date(2026, 12, 7)]
        self.assertEqual(
            late, [dt.date(2026, 11, 13), dt.date(2026, 11, 20), dt.date(2026, 11, 27), dt.date(2026, 12, 4)]
        )
        for day in self.calendar.between(dt.date(2026, 1, 2), dt.date(2026, 11, 18)):
            away = [(date - day).days for date in listing.expirations(self.calendar, day)]
            self.assertLessEqual(min(abs(days - 45) for days in away), 4, "a rule of 45 days finds one")
        self.assertEqual(listing.third_friday(2026, 10), dt.date(2026, 10, 16))
        self.assertTrue(listing.is_monthly(self.calendar, dt.date(2026, 10, 16)))

    def test_a_market_that_was_opened_before_goes_on_listing_what_it_listed(self) -> None:
        old = {key: value for key, value in SHORT.plain().items() if key != "fridays"}
        before, now = Scenario(Settings.parse(old)), Scenario(SHORT)
        index = now.dates.index(dt.date(2026, 10, 5))
        listed = now.chain(index).expirations
        wanted = [d for d in listed if d <= dt.date(2026, 11, 9) or listing.is_monthly(self.calendar, d)]
        self.assertEqual(list(before.chain(index).expirations), wanted)
        self.assertEqual(len(listed) - len(wanted), 3)
        self.assertEqual(Settings.parse(SHORT.plain()), SHORT)

    def test_an_expiration_on_a_holiday_moves_to_the_session_before(self) -> None:
        found = listing.expirations(self.calendar, dt.date(2026, 10, 5))
        self.assertNotIn(dt.date(2026, 10, 14), found)
        self.assertIn(dt.date(2026, 10, 13), found)

    def test_strikes_every_ten_near_and_every_fifty_far(self) -> None:
        strikes = listing.strikes((3050.0, 3150.0), (2900.0, 3200.0), monthly=True)
        near = [k for k in strikes if 3000 <= k <= 3200]
        self.assertEqual(near, list(range(3000, 3210, 10)))
        self.assertTrue(all(k % 50 == 0 for k in strikes if k < 2850 or k > 3350))

"""Forwards by parity and one volatility a strike, from quotes with faults in them."""

from __future__ import annotations

import math
import unittest

import numpy as np

from strell_core.pricing.american import PRECISE, early_exercise
from strell_core.pricing.black import black_price
from strell_core.pricing.surface import american_surface, expiration_surface, parity_forward

STRIKES = np.arange(2900.0, 3310.0, 10.0)
QUANTUM, RATE = 0.05, 0.021
SECONDS = 10 * 86_400


def quotes(forward: float, vol: float) -> np.ndarray:
    """Call bid, call ask, put bid, put ask in quanta, one tick either side of the true price."""
    years = SECONDS / (365 * 86_400)
    discount = math.exp(-RATE * years)
    out = np.empty((4, len(STRIKES)), np.int32)
    for i, strike in enumerate(STRIKES):
        for side, sign in ((0, 1), (2, -1)):
            fair = black_price(forward, strike, years, vol, discount, sign) / QUANTUM
            out[side, i], out[side + 1, i] = math.floor(fair) - 1, math.ceil(fair) + 1
    return np.maximum(out, [[0], [1], [0], [1]]).astype(np.int32)


class ParityForwardTest(unittest.TestCase):
    discount = math.exp(-RATE * SECONDS / (365 * 86_400))

    def test_the_forward_comes_back_within_a_tick(self) -> None:
        for forward in (2950.0, 3103.3, 3250.7):
            self.assertAlmostEqual(
                parity_forward(STRIKES, *quotes(forward, 0.15), QUANTUM, self.discount), forward, delta=QUANTUM
            )

    def test_one_bad_quote_does_not_move_it(self) -> None:
        bad = quotes(3103.3, 0.15)
        at = int(np.argmin(np.abs(STRIKES - 3100)))
        bad[0, at] += 160
        bad[1, at] += 160
        self.assertAlmostEqual(parity_forward(STRIKES, *bad, QUANTUM, self.discount), 3103.3, delta=QUANTUM)

    def test_without_a_pair_there_is_none(self) -> None:
        none = quotes(3103.3, 0.15)
        none[0] = 0
        self.assertTrue(math.isnan(parity_forward(STRIKES, *none, QUANTUM, self.discount)))
        crossed = quotes(3103.3, 0.15)
        crossed[0] = crossed[1] + 1
        self.assertTrue(math.isnan(parity_forward(STRIKES, *crossed, QUANTUM, self.discount)))


class ExpirationSurfaceTest(unittest.TestCase):
    def surface(self, chain: np.ndarray, seconds: int = SECONDS) -> tuple[float, np.ndarray]:
        columns = [side.reshape(-1, 1) for side in chain]
        forward, iv = expiration_surface(STRIKES, *columns, np.array([seconds], np.int64), QUANTUM, RATE)
        return float(forward[0]), iv[:, 0]

    def test_a_flat_volatility_comes_back(self) -> None:
        forward, iv = self.surface(quotes(3103.3, 0.15))
        self.assertAlmostEqual(forward, 3103.3, delta=QUANTUM)
        near = np.abs(STRIKES / 3103.3 - 1) < 0.03
        # one tick of 0.05 moves the volatility of these options by at most 0.4 points
        np.testing.assert_allclose(iv[near] / 10_000, 0.15, atol=0.004)

    def test_without_a_bid_out_of_the_money_the_other_side_speaks(self) -> None:
        chain = quotes(3103.3, 0.15)
        at = int(np.argmin(np.abs(STRIKES - 3150)))
        whole = self.surface(chain)[1][at]
        chain[0, at] = 0
        self.assertAlmostEqual(self.surface(chain)[1][at] / 10_000, whole / 10_000, delta=0.01)
        chain[2, at] = 0
        self.assertEqual(self.surface(chain)[1][at], 0)

    def test_after_expiry_there_is_nothing(self) -> None:
        forward, iv = self.surface(quotes(3103.3, 0.15), seconds=0)
        self.assertTrue(math.isnan(forward))
        self.assertFalse(iv.any())


class AmericanSurfaceTest(unittest.TestCase):
    """Quotes made by the American model give back its forward and volatility; parity alone would not."""

    strikes = np.arange(70.0, 101.0, 2.0)
    seconds = 120 * 86_400
    rate, vol, spot = 0.05, 0.3, 84.0

    def chain(self, when: np.ndarray, paid: np.ndarray) -> tuple[float, list[np.ndarray]]:
        years = self.seconds / (365 * 86_400)
        worth = float(np.sum(paid * np.exp(-self.rate * when)))
        rest = self.spot - worth
        out = np.empty((4, len(self.strikes)), np.int32)
        for i, strike in enumerate(self.strikes):
            for side, sign in ((0, 1), (2, -1)):
                terms = (rest, years, self.rate, self.rate, when, paid, strike, self.vol, sign)
                fair = sum(early_exercise(*terms, *PRECISE)[:2]) / 0.01
                out[side, i], out[side + 1, i] = math.floor(fair), math.ceil(fair)
        columns = [side.reshape(-1, 1).astype(np.int32) for side in np.maximum(out, [[0], [1], [0], [1]])]
        return rest * math.exp(self.rate * years), columns

    def test_forward_and_volatility_come_back(self) -> None:
        none = np.empty(0)
        left = np.array([self.seconds], np.int64)
        for before, paid in ((none, none), (np.array([100.0, 40.0]) * 86_400, np.array([0.8, 0.8]))):
            when = (self.seconds - before) / (365 * 86_400)
            forward, columns = self.chain(when, paid)
            found, iv = american_surface(
                self.strikes, *columns, left, 0.01, self.rate, np.array([self.spot]), before, paid
            )
            self.assertAlmostEqual(found[0], forward, delta=0.03)
            # bulk prices are within 0.02; at these strikes that is a third of a point of volatility at most
            np.testing.assert_allclose(iv[:, 0] / 10_000, self.vol, atol=0.004)
            plain, _ = expiration_surface(self.strikes, *columns, left, 0.01, self.rate)
            self.assertGreater(abs(plain[0] - forward), abs(found[0] - forward))

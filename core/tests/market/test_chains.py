"""Stored session chains: what was written comes back, what is damaged is refused."""

from __future__ import annotations

import dataclasses
import datetime as dt
import struct
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from strell_core.market.chains import NO_QUOTE, ChainFormatError, SessionChain, decode, digest, encode
from strell_core.market.instruments import ContractKey, strike_of
from tests.demo import SHORT, chains, payloads


def same(a: SessionChain, b: SessionChain) -> bool:
    arrays = ("times", "spot", "forward", "bid", "ask", "iv", "open_interest", "volume")
    facts = ("symbol", "date", "settlement", "expirations", "contracts")
    return all(getattr(a, name) == getattr(b, name) for name in facts) and all(
        np.array_equal(getattr(a, name), getattr(b, name), equal_nan=name == "forward") for name in arrays
    )


@st.composite
def any_chain(draw: st.DrawFn) -> SessionChain:
    date = dt.date(2026, 10, 5)
    expirations = tuple(
        date + dt.timedelta(days=d) for d in sorted(draw(st.sets(st.integers(0, 400), min_size=1, max_size=3)))
    )
    strikes = sorted(strike_of(k) for k in draw(st.sets(st.integers(1, 90_000_000), min_size=1, max_size=4)))
    contracts = tuple(
        ContractKey(e, right, k, "MK30") for e in expirations for right in ("call", "put") for k in strikes
    )
    n, m = len(contracts), draw(st.integers(1, 6))
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    widest = draw(st.sampled_from([50, 60_000, 2_000_000]))
    bid = rng.integers(NO_QUOTE, widest, (n, m)).astype(np.int32)
    ask = np.where(rng.random((n, m)) < 0.1, NO_QUOTE, bid + rng.integers(-5, widest, (n, m))).astype(np.int32)
    forward = rng.normal(3100, 40, (len(expirations), m))
    forward[0, 0] = np.nan
    return SessionChain(
        "MK30", date, np.cumsum(rng.integers(1, 9000, m)).astype(np.int64) + 1_790_000_000,
        rng.integers(1, 900_000, m).astype(np.int32), int(rng.integers(0, 900_000)), expirations, forward, contracts,
        bid, ask, rng.integers(0, 65_536, (n, m)).astype(np.uint16),
        rng.integers(0, 99_999, n).astype(np.int32), rng.integers(0, 99_999, n).astype(np.int32),
    )  # fmt: skip


class RoundTripTest(unittest.TestCase):
    @settings(max_examples=120, deadline=None)
    @given(any_chain())
    def test_any_chain_comes_back(self, chain: SessionChain) -> None:
        self.assertTrue(same(decode(encode(chain)), chain))

    def test_chains_stored_with_whole_strikes_are_read(self) -> None:
        """Version 1 stored strikes in points; only the version byte and the scale differ."""
        chain = next(iter(chains(SHORT)))
        small = tuple(c._replace(strike=strike_of(int(c.strike))) for c in chain.contracts)
        old = encode(dataclasses.replace(chain, contracts=small))
        self.assertTrue(same(decode(b"\x01" + old[1:]), chain))

    def test_generated_sessions_come_back(self) -> None:
        for chain in list(chains(SHORT))[::15]:
            self.assertTrue(same(decode(encode(chain)), chain))

    def test_the_same_chain_has_the_same_digest(self) -> None:
        first, second = payloads(SHORT)[:2]
        self.assertEqual(digest(encode(decode(first))), digest(first))
        self.assertNotEqual(digest(first), digest(second))

    def test_a_five_minute_session_takes_about_two_bytes_a_quote(self) -> None:
        """Bid, ask and IV of one quote together; the plan's measure was 1.9."""
        payload = payloads(SHORT)[-1]
        self.assertLess(len(payload) / decode(payload).quotes, 2.5)


class DamageTest(unittest.TestCase):
    payload = payloads(SHORT)[0]

    def test_damaged_bytes_are_refused(self) -> None:
        flipped = bytearray(self.payload)
        flipped[len(flipped) // 2] ^= 1
        for data in (b"", self.payload[:3], bytes(flipped), self.payload[:-1], self.payload + b"x"):
            with self.assertRaises(ChainFormatError):
                decode(data)

    def test_an_unknown_version_is_refused_by_name(self) -> None:
        with self.assertRaisesRegex(ChainFormatError, "version 9"):
            decode(struct.pack("<B", 9) + self.payload[1:])
